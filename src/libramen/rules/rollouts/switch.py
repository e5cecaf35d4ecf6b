"""`switch`: a second fleet beside the first, then all traffic at once."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, ClassVar, Literal

from pydantic import Field

from libramen.base.fields import Seconds
from libramen.base.times import EPSILON_S, tolerance_s
from libramen.rules.rollouts.update import Rollout, RolloutFleet, Update


class TwoFleets(Rollout):
    """What strategies share that have both versions beside each other."""

    splits: ClassVar[bool] = True

    def least_ready(self, n: int) -> int:
        """All old ones stay until the new ones have taken over."""
        return n

    def extra_replicas(self, n: int) -> int:
        """A second fleet."""
        return n

    def problem(self, n: int, most: int | None) -> str | None:
        """In the end there are two fleets."""
        if most is None or 2 * n <= most:
            return None
        return f"strategy = {self.strategy!r} of {n} replicas needs {2 * n} at once; allowed: up to {most}"

    def begin_rollback(self, fleet: RolloutFleet[Any], n: int, most: int | None, version: int, now_s: float) -> Update:  # noqa: ARG002
        """A fleet of the old version beside the new one, then all traffic to it at once."""
        return SplitUpdate(fleet, n, version, in_place=False)


class Switch(TwoFleets):
    """As many new replicas beside the old ones; when all are ready, all traffic goes to them at once.

    Example:
        >>> Switch(at="12:00", keep_old="10m").keep_old
        600.0
    """

    strategy: Literal["switch"] = Field("switch", description="a new fleet beside the old one, then all traffic to it")
    keep_old: Seconds = Field(0.0, description="the old replicas are kept for so long after, to go back as quickly")

    def begin(self, fleet: RolloutFleet[Any], n: int, most: int | None, version: int, now_s: float) -> Update:  # noqa: ARG002
        """All old ones stay."""
        return SplitUpdate(fleet, n, version, in_place=False, steps=(), keep_old_s=self.keep_old)


@dataclass
class SplitUpdate(Update):
    """Both versions beside each other: some steps with a share of the traffic, then all of it.

    `steps`: share of the traffic, and for how long.
    """

    steps: tuple[tuple[float, float], ...] = ()
    keep_old_s: float = 0.0
    done: int = 0  # steps whose share holds
    until_s: float | None = None  # the step that holds ends then

    def step(self, now_s: float) -> bool:
        """Order what the next step wants, and begin it when all that is ready."""
        if self.until_s is not None:
            if now_s < self.until_s - tolerance_s(now_s):
                return False
            self.until_s = None
            if self.done > len(self.steps):
                return self._drain_old(now_s)
        while True:
            is_last = self.done == len(self.steps)
            share, hold_s = (1.0, self.keep_old_s) if is_last else self.steps[self.done]
            wanted = self.wanted(share)
            for _ in range(wanted - len(self.new())):
                self.order(now_s)
            if not self.has_all(wanted):
                return False
            self.fleet.split(share, now_s)
            self.done += 1
            if hold_s > 0:
                self.until_s = now_s + hold_s
                self.fleet.wake(self.until_s)
                return False
            if is_last:
                return self._drain_old(now_s)

    def wanted(self, share: float) -> int:
        """New replicas for a share of the traffic."""
        return math.ceil(share * self.n - EPSILON_S)

    def _drain_old(self, now_s: float) -> bool:
        self._leave(now_s, lambda replica: replica.version != self.version)
        return True

    def undo(self, now_s: float) -> bool:
        """All traffic to the old version, and the new replicas drain."""
        self.fleet.split(0.0, now_s)
        self._leave(now_s, lambda replica: replica.version == self.version)
        return True

    def _leave(self, now_s: float, goes: Callable[[Any], bool]) -> None:
        for replica in [replica for replica in self.fleet.alive() if goes(replica)]:
            if replica.is_ready:
                self.fleet.drain(replica, now_s, why="update")
            elif replica.is_coming:
                self.fleet.cancel(replica, now_s, why="update")
