"""How a platform detects that a process has died, and that a new one works: after a fixed time, or by health checks."""

from __future__ import annotations

import math

from libramen.base.times import EPSILON_S
from libramen.engine.replica import Detection, Luck, Replica
from libramen.study.service import Tier


class Detector:
    """The tier's `detect`, or its health checks.

    Args:
        tier: it.
        luck: of the service; each process has a phase of its checks.
    """

    def __init__(self, tier: Tier, luck: Luck) -> None:
        self._detect_s, self._health, self._luck = tier.detect, tier.health, luck

    def begin(self, replica: Replica, now_s: float) -> None:
        """The health of a new process is checked from now on, first after a phase of its own."""
        if self._health is not None:
            phase_s = self._health.every * float(self._luck.own("health", replica.number).random())
            replica.checked_s, replica.failed = now_s + phase_s, None

    def counts_from(self, replica: Replica, works_s: float, *, after: int = 0) -> float:
        """When a process that works from `works_s` on counts as ready.

        That is after as many good checks as the tier wants, and at least `after`, of which it now begins.
        """
        self.begin(replica, works_s)
        good = 0 if self._health is None else max(self._health.first, after)
        if self._health is None or not good:
            return works_s
        return replica.checked_s + (good - 1) * self._health.every

    def detection(self, replica: Replica, died_s: float, detect_s: float | None) -> Detection:
        """When the balancer finds a process dead: after `detect_s`, or None, as the tier says."""
        health = self._health
        if detect_s is not None or health is None:
            found_s = died_s + (self._detect_s if detect_s is None else detect_s)
            return Detection(found_s, found_s)
        if replica.is_coming:  # nothing of it is checked yet
            last_s = died_s + health.after * health.every
        else:
            # Checks that failed before go on counting where none has succeeded since: the process died again too soon.
            first = self._check(replica, died_s)
            if replica.failed is None or (replica.is_serving and self._check(replica, replica.works_s) < first):
                replica.failed = first
            last_s = replica.checked_s + (replica.failed + health.after - 1) * health.every
        return Detection(last_s + health.timeout, last_s)

    def _check(self, replica: Replica, at_s: float) -> int:
        """Number (from 0) of the first check of a process at this instant or later."""
        assert self._health is not None
        return max(0, math.ceil((at_s - replica.checked_s) / self._health.every - EPSILON_S))
