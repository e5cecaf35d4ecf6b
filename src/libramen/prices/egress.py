"""Bytes that are sent out."""

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
    egress_per_gb: Stepped = Field(Decimal(0), description="price of a gigabyte (1e9 bytes) sent out; may be in steps")


class _Free(Table):
    egress_gb: NonNegativeNumber = Field(0.0, description="gigabytes of egress")


class Egress(OfUse):
    """Bytes of answers to clients that are still there, of all services of a tier, beyond a free allowance."""

    stage = 50
    of_tier = _OfTier
    of_free = _Free
    key, free_key, item, unit = "egress_per_gb", "egress_gb", "egress", "GB"
    spread = "egress"

    def used(self, bought: Bought, on: OnTier) -> Mapping[str, Fraction]:
        """Gigabytes."""
        return {service: sent / _GB for service, sent in bought.used(on, "egress").items()}
