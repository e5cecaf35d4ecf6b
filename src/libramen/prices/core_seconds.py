"""Cores in use, on tiers that are paid for by use."""

from __future__ import annotations

from collections.abc import Mapping
from fractions import Fraction

from libramen.prices.of_use import OfUse
from libramen.prices.price import Bought, OnTier


class CoreSeconds(OfUse):
    """The cores of replicas while a request holds a slot there, rounded up by `granularity`, beyond an allowance."""

    stage = 11
    price_is = "price of a core for a second in use, per_request only; may be in steps"
    free_is = "core-seconds in use, per_request only"
    key, free_key, item, unit = "per_core_second", "core_seconds", "cores in use", "core-s"
    spread = "in_use"

    def used(self, bought: Bought, on: OnTier) -> Mapping[str, Fraction]:
        """Core-seconds."""
        in_use_s = bought.used(on, "in_use")
        return {fleet.service: in_use_s[fleet.service] * Fraction(str(fleet.size.cores)) for fleet in on.fleets}
