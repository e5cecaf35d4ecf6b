"""`crash`: the process of a replica dies and is started again."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

from pydantic import Field

from libramen.base.fields import Seconds
from libramen.rules.faults.fault import FaultFleet, OfReplicas, Times


class Crash(OfReplicas):
    """A replica dies with its requests, and a new process starts in its place, at once or when that is found.

    A replica that is not ready or draining, or dead already, cannot crash: then nothing happens.

    Example:
        >>> Crash(at="12:00", detect="30s").detect
        30.0
    """

    names: ClassVar[tuple[str, str]] = ("crash", "crashes")

    kind: Literal["crash"] = Field("crash", description="a process dies")
    detect: Seconds | None = Field(None, description="until the balancer knows (default: the tier's)")

    def outage_s(self, times: Times) -> float:
        """Of a single replica until its process is back [s]."""
        if times.n != 1:
            return 0.0
        detect_s = times.detect_s if self.detect is None else self.detect
        return times.start_s + (0.0 if times.at_once else detect_s)

    def strike(self, fleet: FaultFleet[Any], now_s: float, target: int | str | None = None) -> None:
        """Let the process die, if there is one."""
        replica = self.struck(fleet, target)
        if replica is not None and replica.can_die:
            fleet.crash(replica, now_s, detect_s=self.detect, why=self.kind)
