"""Replicas that are paid for by the month."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from fractions import Fraction

from pydantic import Field

from libramen.base.fields import Money, Table
from libramen.prices.lines import Charge, line_of
from libramen.prices.price import Bought, Price


class _OfSize(Table):
    per_month: Money | None = Field(
        None, description="flat price of a replica for a month, for the greatest number of them at one instant"
    )


class ReplicaMonths(Price):
    """Replicas by the month: the greatest number that is paid at one instant, whatever the load."""

    stage = 21
    of_size = _OfSize

    def charges(self, bought: Bought) -> Iterator[Charge]:
        """A line of each service."""
        for fleet in bought.fleets:
            if fleet.tier.billing != "per_month":
                continue
            most = Fraction(bought.use.most_at_once((fleet.service,)))
            line = line_of(
                fleet.replicas, most, "replica", fleet.size.per_month or Decimal(0),
                service=fleet.service, key="per_month",
            )  # fmt: skip
            mine = {fleet.service: Fraction(1)}
            yield Charge(line, "months", mine, of_quantity=True, ranks=(0, int(most)))
