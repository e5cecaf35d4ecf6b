"""Requests, on tiers that are paid for by use."""

from __future__ import annotations

from collections.abc import Mapping
from decimal import Decimal
from fractions import Fraction

from pydantic import Field

from libramen.base.fields import NonNegativeNumber, Table
from libramen.prices.lines import Stepped
from libramen.prices.of_use import OfUse
from libramen.prices.price import Bought, OnTier


class _OfTier(Table):
    per_million_requests: Stepped = Field(
        Decimal(0), description="price of a million requests, per_request only; may be in steps"
    )


class _Free(Table):
    requests: NonNegativeNumber = Field(0.0, description="requests, per_request only")


class Requests(OfUse):
    """Attempts that the balancers of a tier got, of all its services together, beyond a free allowance."""

    stage = 10
    of_tier = _OfTier
    of_free = _Free
    key, free_key, item, unit = "per_million_requests", "requests", "requests", "million"
    spread = "requests"
    per = 10**6

    def used(self, bought: Bought, on: OnTier) -> Mapping[str, Fraction]:
        """Attempts."""
        return bought.used(on, "requests")
