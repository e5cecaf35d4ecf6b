"""Requests, on tiers that are paid for by use."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from fractions import Fraction

from pydantic import Field

from libramen.base.fields import NonNegativeNumber, Table
from libramen.prices.lines import Charge, Stepped, beyond, priced, shares_of
from libramen.prices.price import Bought, Price

_MILLION = 10**6


class _OfTier(Table):
    per_million_requests: Stepped = Field(
        Decimal(0), description="price of a million requests, per_request only; may be in steps"
    )


class _Free(Table):
    requests: NonNegativeNumber = Field(0.0, description="requests, per_request only")


class Requests(Price):
    """Attempts that the balancers of a tier got, of all its services together, beyond a free allowance."""

    stage = 10
    of_tier = _OfTier
    of_free = _Free

    def charges(self, bought: Bought) -> Iterator[Charge]:
        """A line of the tier."""
        for on in bought.tiers:
            price, free = on.tier.per_million_requests, on.tier.free.requests
            if not price:
                continue
            sent = bought.used(on, "requests")
            quantity = max(Fraction(0), sum(sent.values(), Fraction(0)) - Fraction(free)) / _MILLION
            for line in priced(
                beyond("requests", free, "", _MILLION), quantity, "million", price, _MILLION, tier=on.tier.name,
                key="per_million_requests",
            ):  # fmt: skip
                yield Charge(line, "requests", shares_of(sent), of_quantity=True)
