"""Memory in use, on tiers that are paid for by use."""

from __future__ import annotations

from collections.abc import Mapping
from fractions import Fraction

from libramen.prices.of_use import GB, OfUse
from libramen.prices.price import Bought, OnTier


class GbSeconds(OfUse):
    """The memory of replicas while a request holds a slot there, rounded up by `granularity`, beyond an allowance."""

    stage = 12
    price_is = "price of a gigabyte of memory for a second in use, per_request only; may be in steps"
    free_is = "gigabyte-seconds in use, per_request only"
    key, free_key, item, unit = "per_gb_second", "gb_seconds", "memory in use", "GB-s"
    spread = "in_use"

    def used(self, bought: Bought, on: OnTier) -> Mapping[str, Fraction]:
        """Gigabyte-seconds."""
        in_use_s = bought.used(on, "in_use")
        return {fleet.service: in_use_s[fleet.service] * (fleet.size.memory or 0) / GB for fleet in on.fleets}
