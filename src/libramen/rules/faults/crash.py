"""`crash`: the process of a replica dies and is started again."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from libramen.fields import PositiveCount, Seconds
from libramen.rules.faults.fault import Fault, Fleet


class Crash(Fault):
    """A replica dies with its requests, and a new process starts in its place when the balancer has found out.

    A replica that is not ready or draining, or dead already, cannot crash: then nothing happens.

    Example:
        >>> Crash(at="12:00", detect="30s").detect
        30.0
    """

    kind: Literal["crash"] = Field("crash", description="a process dies")
    replica: PositiveCount | None = Field(None, description="number of the replica (default: the lowest ready one)")
    detect: Seconds | None = Field(None, description="until the balancer knows (default: the tier's)")

    @property
    def number(self) -> int:
        """Of the replica that it strikes, which says what comes first at one instant; 0: of none in particular."""
        return self.replica or 0

    def outage_s(self, n: int, detect_s: float, start_s: float) -> float:
        """For how long a fleet of n has no replica that works, at the least, by its own doing [s]."""
        return (detect_s if self.detect is None else self.detect) + start_s if n == 1 else 0.0

    def strike(self, fleet: Fleet[Any], now_s: float) -> None:
        """Let the process die, if there is one."""
        for replica in fleet.alive():
            wanted = not replica.is_draining if self.replica is None else replica.number == self.replica
            if wanted and replica.can_die:
                fleet.crash(replica, now_s, detect_s=self.detect, why=self.kind)
                return
