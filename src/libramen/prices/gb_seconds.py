"""Memory in use, on tiers that are paid for by use."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from fractions import Fraction

from pydantic import Field

from libramen.base.fields import NonNegativeNumber, Table
from libramen.prices.lines import Charge, Stepped, beyond, priced, shares_of
from libramen.prices.price import Bought, Price

_GB = 10**9


class _OfTier(Table):
    per_gb_second: Stepped = Field(
        Decimal(0),
        description="price of a gigabyte of memory for a second in use, per_request only; may be in steps",
    )


class _Free(Table):
    gb_seconds: NonNegativeNumber = Field(0.0, description="gigabyte-seconds in use, per_request only")


class GbSeconds(Price):
    """The memory of replicas while a request holds a slot there, rounded up by `granularity`, beyond an allowance."""

    stage = 12
    of_tier = _OfTier
    of_free = _Free

    def charges(self, bought: Bought) -> Iterator[Charge]:
        """A line of the tier."""
        for on in bought.tiers:
            price, free = on.tier.per_gb_second, on.tier.free.gb_seconds
            if not price:
                continue
            in_use_s = bought.used(on, "in_use")
            gb_s = {fleet.service: in_use_s[fleet.service] * (fleet.size.memory or 0) / _GB for fleet in on.fleets}
            quantity = max(Fraction(0), sum(gb_s.values(), Fraction(0)) - Fraction(free))
            name = beyond("memory in use", free, "GB-s")
            for line in priced(name, quantity, "GB-s", price, tier=on.tier.name, key="per_gb_second"):
                yield Charge(line, "in_use", shares_of(gb_s), of_quantity=True)
