"""`no_stock`: the platform has no machine left, for anybody."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

from pydantic import Field

from libramen.base.fields import PositiveSeconds, nearest
from libramen.rules.faults.fault import Fault, FaultFleet


class NoStock(Fault):
    """No order is met meanwhile, and each is tried again as the tier says; what starts on a machine that is there does.

    Example:
        >>> NoStock(at="12:00", lasts="1h", zone="east").lasts_s
        3600.0
    """

    names: ClassVar[tuple[str, str]] = ("shortage of machines", "shortages of machines")
    strikes: ClassVar[Literal["replica", "zone", "service"]] = "service"
    changes_fleet: ClassVar[bool] = False

    kind: Literal["no_stock"] = Field("no_stock", description="no order is met")
    lasts: PositiveSeconds | None = Field(None, description="for how long (default: to the end)")
    zone: str | None = Field(None, description="name of the zone (default: all)")

    @property
    def lasts_s(self) -> float | None:
        """For how long it lasts [s]."""
        return self.lasts

    def problem(self, zones: tuple[str, ...], *, interruptible: bool) -> str | None:  # noqa: ARG002
        """A zone in which the plan has nothing."""
        if self.zone is None or self.zone in zones:
            return None
        return f"zone: found {self.zone!r}; {nearest(self.zone, zones)}"

    def strike(self, fleet: FaultFleet[Any], now_s: float, target: int | str | None = None) -> None:  # noqa: ARG002
        """It begins."""
        fleet.run_out(self, zone=self.zone)

    def end(self, fleet: FaultFleet[Any], now_s: float, target: int | str | None = None) -> None:  # noqa: ARG002
        """It is over."""
        fleet.restore(self, now_s)
