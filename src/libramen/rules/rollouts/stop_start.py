"""`stop_start`: everything old goes, then everything new is started."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

from pydantic import Field

from libramen.rules.rollouts.update import Rollout, RolloutFleet, Update


class StopStart(Rollout):
    """All replicas drain and go, then as many are started: nothing answers in between."""

    strategy: Literal["stop_start"] = Field("stop_start", description="all stop, then all start")
    in_place: bool = Field(True, description="new replicas take over the machines of the old ones")

    def begin(self, fleet: RolloutFleet[Any], n: int, most: int | None, version: int, now_s: float) -> Update:  # noqa: ARG002
        """Drain the whole fleet."""
        update = _StopStartUpdate(fleet, n, version, self.in_place)
        for replica in fleet.alive():
            if replica.is_ready:
                fleet.drain(replica, now_s, why="update")
            elif replica.is_coming:  # under notice, and starting again
                fleet.cancel(replica, now_s, why="update")
        return update


@dataclass
class _StopStartUpdate(Update):
    def step(self, now_s: float) -> bool:
        alive = self.fleet.alive()
        if any(replica.version != self.version or replica.is_draining for replica in alive):
            return False
        for _ in range(self.n - len(self.new())):
            self.order(now_s)
        return self.has_all(self.n)
