"""`zone_loss`: everything in one zone is gone."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any, ClassVar, Literal

from pydantic import Field

from libramen.base.fields import PositiveSeconds, Seconds, nearest
from libramen.rules.faults.fault import Fault, FaultFleet, Times


class ZoneLoss(Fault):
    """Every replica of a zone is lost for good with its requests; as many are ordered in the others when it is found.

    Example:
        >>> ZoneLoss(zone="east", at="17:30", lasts="20m").lasts_s
        1200.0
    """

    names: ClassVar[tuple[str, str]] = ("zone loss", "zone losses")
    strikes: ClassVar[Literal["replica", "zone", "service"]] = "zone"

    kind: Literal["zone_loss"] = Field("zone_loss", description="all machines of a zone are lost")
    zone: str | None = Field(None, description="name of the zone; only with every_about it may be any of the plan's")
    lasts: PositiveSeconds | None = Field(
        None, description="for so long nothing is ordered in that zone (default: to the end)"
    )
    detect: Seconds | None = Field(None, description="until the balancer knows (default: the tier's)")

    def may_strike(self, target: int | str) -> bool:
        """Whether it is about that zone."""
        return self.zone in {None, target}

    @property
    def lasts_s(self) -> float | None:
        """For how long nothing is ordered there [s]."""
        return self.lasts

    def outage_s(self, times: Times) -> float:
        """Of a fleet in that zone alone, until the zone is open again and a replica is ready [s]."""
        if times.zones != (self.zone,):
            return 0.0
        detect_s = times.detect_s if self.detect is None else self.detect
        return max(detect_s, math.inf if self.lasts is None else self.lasts) + times.provision_s + times.start_s

    def problem(self, zones: tuple[str, ...], tiers: Mapping[str, bool]) -> str | None:  # noqa: ARG002
        """A zone in which the plan has nothing."""
        if self.zone is None:
            return None if self.every_about is not None else f"zone is missing; allowed: {', '.join(zones)}"
        return None if self.zone in zones else f"zone: found {self.zone!r}; {nearest(self.zone, zones)}"

    def strike(self, fleet: FaultFleet[Any], now_s: float, target: int | str | None = None) -> None:
        """Lose the zone."""
        fleet.lose(str(target or self.zone), now_s, detect_s=self.detect)

    def end(self, fleet: FaultFleet[Any], now_s: float, target: int | str | None = None) -> None:
        """Machines may be ordered there again."""
        fleet.open(str(target or self.zone), now_s)
