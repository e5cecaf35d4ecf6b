"""`no_stock`: the platform has no machine left, for anybody."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar, Literal

from pydantic import Field

from libramen.base.fields import nearest
from libramen.rules.faults.fault import FaultFleet, InAZone


class NoStock(InAZone):
    """No order is met meanwhile, and each is tried again as the tier says; what starts on a machine that is there does.

    Example:
        >>> NoStock(at="12:00", lasts="1h", zone="east").lasts_s
        3600.0
    """

    names: ClassVar[tuple[str, str]] = ("shortage of machines", "shortages of machines")

    kind: Literal["no_stock"] = Field("no_stock", description="no order is met")
    tier: str | None = Field(None, description="name of a tier of a mixed fleet (default: all)")

    def problem(self, zones: tuple[str, ...], tiers: Mapping[str, bool]) -> str | None:
        """A zone or a tier in which the plan has nothing."""
        if self.tier is not None and self.tier not in tiers:
            return f"tier: found {self.tier!r}; {nearest(self.tier, tiers)}"
        return super().problem(zones, tiers)

    def strike(self, fleet: FaultFleet[Any], now_s: float, target: int | str | None = None) -> None:  # noqa: ARG002
        """It begins."""
        fleet.suspend_orders(self, zone=self.zone, tier=self.tier)
