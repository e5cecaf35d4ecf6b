"""`region_loss`: everything in one region is gone, of all services."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any, ClassVar, Literal

from pydantic import Field

from libramen.base.fields import PositiveSeconds, Seconds
from libramen.rules.faults.fault import Fault, FaultFleet, Times


class RegionLoss(Fault):
    """Every replica of every service there is lost with its requests, and nothing is ordered there for a while.

    What is sent there is lost at once, or is never answered, until the loss is found; from then on the next nearest
    region has the requests. It is open again when as many replicas are ready there as before.

    Example:
        >>> RegionLoss(at="12:00", region="east", lasts="30m").lasts_s
        1800.0
    """

    names: ClassVar[tuple[str, str]] = ("lost region", "lost regions")
    strikes: ClassVar[Literal["replica", "zone", "service"]] = "service"

    kind: Literal["region_loss"] = Field("region_loss", description="everything in a region is lost")
    region: str | None = Field(None, description="name of the region; with every_about all, each at its own times")
    lasts: PositiveSeconds | None = Field(
        None, description="for how long nothing is ordered there (default: to the end)"
    )
    detect: Seconds = Field(60.0, description="until it is known, and nobody is sent there any more [s]")
    answers: Literal["at_once", "none"] = Field(
        "at_once",
        description='what becomes of what is sent there before that: "at_once", it is lost at once; "none", it ends by '
        "its time-out, or when the loss is found",
    )

    @property
    def lasts_s(self) -> float | None:
        """For how long nothing is ordered there [s]."""
        return self.lasts

    def outage_s(self, times: Times) -> float:
        """Of a fleet that stands there alone, until a replica is ready again [s]."""
        return (math.inf if self.lasts is None else self.lasts) + times.provision_s + times.start_s

    def problem(self, zones: tuple[str, ...], tiers: Mapping[str, bool]) -> str | None:  # noqa: ARG002
        """No region, where one must be named."""
        if self.region is None and self.every_about is None:
            return "region is missing; allowed: one of the plan's regions"
        return None

    def strike(self, fleet: FaultFleet[Any], now_s: float, target: int | str | None = None) -> None:  # noqa: ARG002
        """Lose the region."""
        fleet.lose_region(now_s, detect_s=self.detect, silent=self.answers == "none")

    def end(self, fleet: FaultFleet[Any], now_s: float, target: int | str | None = None) -> None:  # noqa: ARG002
        """Machines may be ordered there again."""
        fleet.open_region(now_s)
