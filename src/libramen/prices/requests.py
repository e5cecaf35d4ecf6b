"""Requests, on tiers that are paid for by use."""

from __future__ import annotations

from collections.abc import Mapping
from fractions import Fraction

from libramen.prices.of_use import OfUse
from libramen.prices.price import Bought, OnTier


class Requests(OfUse):
    """Attempts that the balancers of a tier got, of all its services together, beyond a free allowance."""

    stage = 10
    price_is = "price of a million requests, per_request only; may be in steps"
    free_is = "requests, per_request only"
    key, free_key, item, unit = "per_million_requests", "requests", "requests", "million"
    spread = "requests"
    per = 10**6

    def used(self, bought: Bought, on: OnTier) -> Mapping[str, Fraction]:
        """Attempts."""
        return bought.used(on, "requests")
