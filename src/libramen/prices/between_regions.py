"""Bytes that go from one region to another."""

from __future__ import annotations

from collections.abc import Mapping
from decimal import Decimal
from fractions import Fraction

from pydantic import Field

from libramen.base.fields import NonNegativeNumber, Table
from libramen.prices.lines import Stepped
from libramen.prices.of_use import OfUse
from libramen.prices.price import Bought, OnTier

_GB = 10**9


class _OfTier(Table):
    between_regions_per_gb: Stepped = Field(
        Decimal(0),
        description="price of a gigabyte (1e9 bytes) of answers to calls from other regions, and of copies for a "
        "standby there; may be in steps",
    )


class _Free(Table):
    between_regions_gb: NonNegativeNumber = Field(0.0, description="gigabytes between regions")


class BetweenRegions(OfUse):
    """Answers to calls that come from other regions, and what is copied for standbys, beyond a free allowance."""

    stage = 55
    of_tier = _OfTier
    of_free = _Free
    key, free_key, item, unit = "between_regions_per_gb", "between_regions_gb", "between regions", "GB"
    spread = "crossed"

    def used(self, bought: Bought, on: OnTier) -> Mapping[str, Fraction]:
        """Gigabytes."""
        crossed = bought.used(on, "crossed")
        return {
            fleet.service: crossed[fleet.service] / _GB + Fraction(str(fleet.plan.copies_gb)) for fleet in on.fleets
        }
