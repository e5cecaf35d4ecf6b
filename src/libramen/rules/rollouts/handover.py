"""`handover`: a fleet with standbys is renewed without ever two that serve at once in one's place."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

from pydantic import Field

from libramen.rules.rollouts.update import Rollout, RolloutFleet, Update


class Handover(Rollout):
    """In place: all standbys first, then each that serves is handed over to a renewed standby, and renewed.

    The old one drains, and the standby is promoted when it is gone: one writer at a time. For plans with a standby.

    Example:
        >>> Handover(at="12:00").least_ready(1)
        0
    """

    strategy: Literal["handover"] = Field("handover", description="standbys first, then each is handed over to one")

    def least_ready(self, n: int) -> int:
        """One fewer, while it is handed over."""
        return max(0, n - 1)

    def begin(self, fleet: RolloutFleet[Any], n: int, most: int | None, version: int, now_s: float) -> Update:  # noqa: ARG002
        """Begin with the standbys."""
        return _HandoverUpdate(fleet, n, version, in_place=True, total=n + fleet.n_standby)


@dataclass
class _HandoverUpdate(Update):
    total: int = 0  # replicas, standbys included

    def step(self, now_s: float) -> bool:
        while True:
            old = [one for one in self.fleet.alive() if one.version != self.version and not one.is_leaving]
            going = [one for one in old if one.is_draining]
            missing = self.total - len(old) - len(self.new())
            if missing > 0 and self.order(now_s):
                continue
            if not old:
                return self._has_all()
            standing_by = [one for one in old if not (one.is_ready or one.is_draining)]
            if standing_by:
                for one in standing_by:  # they serve nobody: those that are starting again, too
                    self.fleet.cancel(one, now_s, why="update")
                continue
            if going or self.fleet.n_ready < self.n or not any(one.is_standby for one in self.new()):
                return False  # one at a time, when there is a renewed one to hand over to
            self.fleet.drain(min(old, key=lambda one: one.number), now_s, why="update")

    def _has_all(self) -> bool:
        new = self.new()
        works = [one for one in new if one.is_ready or one.is_standby]
        return len(new) >= self.total and len(works) == len(new) and self.fleet.n_ready >= self.n
