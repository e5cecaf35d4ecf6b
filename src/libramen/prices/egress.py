"""Bytes that are sent out."""

from __future__ import annotations

from collections.abc import Mapping
from fractions import Fraction

from libramen.prices.of_use import GB, OfUse
from libramen.prices.price import Bought, OnTier


class Egress(OfUse):
    """Bytes of answers to clients that are still there, of all services of a tier, beyond a free allowance."""

    stage = 50
    price_is = "price of a gigabyte (1e9 bytes) sent out; may be in steps"
    free_is = "gigabytes of egress"
    key, free_key, item, unit = "egress_per_gb", "egress_gb", "egress", "GB"
    spread = "egress"

    def used(self, bought: Bought, on: OnTier) -> Mapping[str, Fraction]:
        """Gigabytes."""
        return {service: sent / GB for service, sent in bought.used(on, "egress").items()}
