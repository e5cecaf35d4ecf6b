"""Cores in use, on tiers that are paid for by use."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from fractions import Fraction

from pydantic import Field

from libramen.base.fields import NonNegativeNumber, Table
from libramen.prices.lines import Charge, Stepped, beyond, priced, shares_of
from libramen.prices.price import Bought, Price


class _OfTier(Table):
    per_core_second: Stepped = Field(
        Decimal(0), description="price of a core for a second in use, per_request only; may be in steps"
    )


class _Free(Table):
    core_seconds: NonNegativeNumber = Field(0.0, description="core-seconds in use, per_request only")


class CoreSeconds(Price):
    """The cores of replicas while a request holds a slot there, rounded up by `granularity`, beyond an allowance."""

    stage = 11
    of_tier = _OfTier
    of_free = _Free

    def charges(self, bought: Bought) -> Iterator[Charge]:
        """A line of the tier."""
        for on in bought.tiers:
            price, free = on.tier.per_core_second, on.tier.free.core_seconds
            if not price:
                continue
            in_use_s = bought.used(on, "in_use")
            core_s = {fleet.service: in_use_s[fleet.service] * Fraction(str(fleet.size.cores)) for fleet in on.fleets}
            quantity = max(Fraction(0), sum(core_s.values(), Fraction(0)) - Fraction(free))
            name = beyond("cores in use", free, "core-s")
            for line in priced(name, quantity, "core-s", price, tier=on.tier.name, key="per_core_second"):
                yield Charge(line, "in_use", shares_of(core_s), of_quantity=True)
