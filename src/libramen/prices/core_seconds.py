"""Cores in use, on tiers that are paid for by use."""

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
    per_core_second: Stepped = Field(
        Decimal(0), description="price of a core for a second in use, per_request only; may be in steps"
    )


class _Free(Table):
    core_seconds: NonNegativeNumber = Field(0.0, description="core-seconds in use, per_request only")


class CoreSeconds(OfUse):
    """The cores of replicas while a request holds a slot there, rounded up by `granularity`, beyond an allowance."""

    stage = 11
    of_tier = _OfTier
    of_free = _Free
    key, free_key, item, unit = "per_core_second", "core_seconds", "cores in use", "core-s"
    spread = "in_use"

    def used(self, bought: Bought, on: OnTier) -> Mapping[str, Fraction]:
        """Core-seconds."""
        in_use_s = bought.used(on, "in_use")
        return {fleet.service: in_use_s[fleet.service] * Fraction(str(fleet.size.cores)) for fleet in on.fleets}
