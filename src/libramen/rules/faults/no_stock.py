"""`no_stock`: the platform has no machine left, for anybody."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

from pydantic import Field

from libramen.rules.faults.fault import FaultFleet, InAZone


class NoStock(InAZone):
    """No order is met meanwhile, and each is tried again as the tier says; what starts on a machine that is there does.

    Example:
        >>> NoStock(at="12:00", lasts="1h", zone="east").lasts_s
        3600.0
    """

    names: ClassVar[tuple[str, str]] = ("shortage of machines", "shortages of machines")

    kind: Literal["no_stock"] = Field("no_stock", description="no order is met")

    def strike(self, fleet: FaultFleet[Any], now_s: float, target: int | str | None = None) -> None:  # noqa: ARG002
        """It begins."""
        fleet.suspend_orders(self, zone=self.zone)
