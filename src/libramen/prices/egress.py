"""Bytes that are sent out."""

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
    egress_per_gb: Stepped = Field(Decimal(0), description="price of a gigabyte (1e9 bytes) sent out; may be in steps")


class _Free(Table):
    egress_gb: NonNegativeNumber = Field(0.0, description="gigabytes of egress")


class Egress(Price):
    """Bytes of answers to clients that are still there, of all services of a tier, beyond a free allowance."""

    stage = 50
    of_tier = _OfTier
    of_free = _Free

    def charges(self, bought: Bought) -> Iterator[Charge]:
        """A line of the tier."""
        for on in bought.tiers:
            price, free = on.tier.egress_per_gb, on.tier.free.egress_gb
            if not price:
                continue
            sent = bought.used(on, "egress")
            quantity = max(Fraction(0), sum(sent.values(), Fraction(0)) / _GB - Fraction(free))
            name = beyond("egress", free, "GB")
            for line in priced(name, quantity, "GB", price, tier=on.tier.name, key="egress_per_gb"):
                yield Charge(line, "egress", shares_of(sent), of_quantity=True)
