"""Replicas that are paid for by time, and commitments to some of them."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from fractions import Fraction
from typing import Annotated

from pydantic import Field

from libramen.base.fields import Fraction as ShareOf, Money, Replicas, Table
from libramen.prices.lines import HOURS, Charge, Stepped, in_steps, line_of, priced, shares_of
from libramen.prices.price import Bought, Fleet, OnTier, Price

BY_TIME = ("per_second", "per_hour")
_Months = Annotated[float, Field(gt=0, le=1200, allow_inf_nan=False)]


class Commitment(Table):
    """So many replicas that are paid for all hours of the month, used or not, for less.

    Example:
        >>> Commitment(replicas=4, off="30%").off
        0.3
    """

    replicas: Replicas = Field(
        description="how many, those with the lowest numbers at each instant; 0: none, and nothing upfront"
    )
    off: ShareOf = Field(0.0, description="by which share their price is lower")
    upfront: Money = Field(Decimal(0), description="paid at the beginning")
    months: _Months = Field(12, description="for how many months that is")


class _OfSize(Table):
    per_hour: Stepped | None = Field(
        None, description="price of a replica-hour; may be in steps, over all replicas of the size on the tier"
    )


class _OfPlan(Table):
    committed: tuple[Commitment, ...] = Field(
        (), description="replicas that are paid for all month, used or not, for less; entries in their order"
    )


class ReplicaHours(Price):
    """Replicas by time: each life from the order (or from ready), rounded up as the tier says.

    Of a commitment the replicas with the lowest numbers at each instant; those beyond are paid at the full price.
    """

    stage = 20
    of_size = _OfSize
    of_plan = _OfPlan

    def charges(self, bought: Bought) -> Iterator[Charge]:
        """Lines of the services; of a price in steps those of the tier."""
        for on in bought.tiers:
            if on.tier.billing not in BY_TIME:
                continue
            stepped: dict[str, list[Fleet]] = {}
            for fleet in on.fleets:
                if in_steps(fleet.size.per_hour):
                    stepped.setdefault(fleet.size.name, []).append(fleet)
                else:
                    yield from self._of(bought, fleet)
            for fleets in stepped.values():
                yield from self._in_steps(bought, on, fleets)

    def _of(self, bought: Bought, fleet: Fleet) -> Iterator[Charge]:
        mine, service, key = {fleet.service: Fraction(1)}, fleet.service, "per_hour"
        item, price = fleet.replicas, fleet.size.per_hour
        committed = 0
        for place, entry in enumerate(fleet.plan.committed):
            if not entry.replicas:
                continue
            told = item if len(fleet.plan.committed) == 1 else f"{item}, entry {place + 1}"
            of = {"service": service, "key": "committed"}
            reduced = price * (1 - Decimal(str(entry.off)))
            line = line_of(f"{told}, committed", Fraction(HOURS * entry.replicas), "replica-h", reduced, **of)
            ranks = (committed, committed + entry.replicas)
            yield Charge(line, "committed", mine, of_quantity=True, ranks=ranks)
            if entry.upfront:
                monthly = entry.upfront / Decimal(str(entry.months))
                line = line_of(f"{told}, committed, upfront", Fraction(1), "month", monthly, **of)
                yield Charge(line, "committed", mine, ranks=ranks)
            committed += entry.replicas
        told = f"{item}, beyond {committed} committed" if committed else item
        line = line_of(told, bought.replica_s(fleet, committed) / 3600, "replica-h", price, service=service, key=key)
        yield Charge(line, "replicas", mine, of_quantity=True, ranks=(committed, None))

    def _in_steps(self, bought: Bought, on: OnTier, fleets: list[Fleet]) -> Iterator[Charge]:
        hours = {fleet.service: bought.replica_s(fleet) / 3600 for fleet in fleets}
        size, whole = fleets[0].size, sum(hours.values(), Fraction(0))
        of = {"tier": on.tier.name, "key": "per_hour"}
        for line in priced(f"replicas of size {size.name}", whole, "replica-h", size.per_hour, **of):
            yield Charge(line, "replicas", shares_of(hours), of_quantity=True)
