"""Bytes that go from one region to another."""

from __future__ import annotations

from collections.abc import Mapping
from fractions import Fraction

from libramen.prices.of_use import GB, OfUse
from libramen.prices.price import Bought, OnTier


class BetweenRegions(OfUse):
    """Answers to calls that come from other regions, and what is copied for standbys, beyond a free allowance."""

    stage = 55
    price_is = (
        "price of a gigabyte (1e9 bytes) of answers to calls from other regions, and of copies for a standby there; "
        "may be in steps"
    )
    free_is = "gigabytes between regions"
    key, free_key, item, unit = "between_regions_per_gb", "between_regions_gb", "between regions", "GB"
    spread = "crossed"

    def used(self, bought: Bought, on: OnTier) -> Mapping[str, Fraction]:
        """Gigabytes."""
        crossed = bought.used(on, "crossed")
        return {fleet.service: crossed[fleet.service] / GB + Fraction(str(fleet.plan.copies_gb)) for fleet in on.fleets}
