"""Runs a scaling rule: takes its measures, asks it, holds it within its limits, acts on the fleet."""

from __future__ import annotations

import math
from collections import deque
from typing import TYPE_CHECKING, NamedTuple

from libramen.engine.agenda import Agenda, Kind
from libramen.engine.plane import EPSILON_S
from libramen.engine.scaling.rule import Observation, Rule

if TYPE_CHECKING:
    from libramen.engine.fleet import Fleet
    from libramen.engine.plane import DataPlane
    from libramen.study.plan import Plan


class Decision(NamedTuple):
    """One decision of a scaling rule. Times are seconds from the start of the trace."""

    at_s: float
    window_from_s: float
    window_to_s: float
    measured: float | None
    ready: int
    coming: int
    wanted: int  # by the rule, before floor and ceiling
    held_by: str  # what kept it from wanting or getting more or less; empty: nothing
    ordered: int
    cancelled: int
    drained: int


class _Sample(NamedTuple):
    """Integrals over the ready replicas up to an instant."""

    at_s: float
    cpu: float
    in_progress: float
    ready: float


class Scaler:
    """Decides at every, 2 every, ... for as long as the replay runs."""

    def __init__(self, rule: Rule, plan: Plan, fleet: Fleet, plane: DataPlane, agenda: Agenda) -> None:
        self._rule, self._fleet, self._plane, self._agenda = rule, fleet, plane, agenda
        self._cores = plan.size.cores
        self._floor, self._ceiling = plan.limits
        self._last_order_s = -math.inf
        self._last_drain_s = -math.inf
        self.held = False  # an update is under way
        self.decisions: list[Decision] = []
        # Two trains of samples, a window apart: decision k takes the k-th of each. Where windows are
        # whole numbers of decisions long, one train serves for both: it starts so many samples early.
        self._ends: deque[_Sample] = deque()
        self._plan_sample(self._ends, 1, rule.lag)
        decisions = rule.window_used / rule.every
        if decisions == round(decisions):
            self._starts = deque([_Sample(0.0, 0.0, 0.0, 0.0)] * round(decisions))
            self._one_train = True
        else:
            self._starts = deque()
            self._one_train = False
            self._plan_sample(self._starts, 1, rule.lag + rule.window_used)
        agenda.add(rule.every, Kind.DECISION, self._decide)

    @property
    def wants_nothing(self) -> bool:
        """Whether it last decided to order nothing, and was not merely made to wait."""
        last = self.decisions[-1] if self.decisions else None
        return last is not None and not last.ordered and last.held_by != "pause_up" and last.ready + last.coming == 0

    def _plan_sample(self, train: deque[_Sample], k: int, before_s: float) -> None:
        """Sample at `before_s` before the k-th decision, then plan the next one."""

        def sample(now_s: float) -> None:
            integrals = self._plane.integrals(now_s)
            ready = self._fleet.ready_integral(now_s)
            train.append(_Sample(now_s, integrals.ready_cpu, integrals.ready_in_progress, ready))
            self._plan_sample(train, k + 1, before_s)

        self._agenda.add(max(0.0, k * self._rule.every - before_s), Kind.SAMPLE, sample)

    def _decide(self, now_s: float) -> None:
        start, end = self._starts.popleft(), self._ends.popleft()
        if self._one_train:
            self._starts.append(end)
        fleet = self._fleet
        seen = Observation(now_s, self._measured(start, end), fleet.n_ready, len(fleet.coming()))
        wanted, held_by = self._rule.wanted(seen)
        goal = min(max(wanted, self._floor), self._ceiling)
        if goal != wanted:
            held_by = "floor" if goal > wanted else "ceiling"
        ordered = cancelled = drained = 0
        if self.held:
            held_by = "update"
        elif goal > seen.have:
            if now_s - self._last_order_s < self._rule.pause_up - EPSILON_S:
                held_by = "pause_up"
            else:
                ordered = self._order(goal - seen.have, now_s)
        elif goal < seen.have:
            if now_s - max(self._last_order_s, self._last_drain_s) < self._rule.pause_down - EPSILON_S:
                held_by = "pause_down"
            else:
                cancelled, drained = self._shrink(seen.have - goal, now_s)
        self.decisions.append(
            Decision(
                now_s, start.at_s, end.at_s, seen.measured, seen.ready, seen.coming,
                wanted, held_by, ordered, cancelled, drained,
            )
        )  # fmt: skip
        self._agenda.add((len(self.decisions) + 1) * self._rule.every, Kind.DECISION, self._decide)

    def _measured(self, start: _Sample, end: _Sample) -> float | None:
        """The rule's measure per ready replica, or None where nothing was ready to be measured."""
        replica_seconds = end.ready - start.ready
        if replica_seconds <= EPSILON_S:
            return None
        cpu = (end.cpu - start.cpu) / (replica_seconds * self._cores)
        return self._rule.measure_of(cpu, (end.in_progress - start.in_progress) / replica_seconds)

    def _order(self, n: int, now_s: float) -> int:
        for _ in range(n):
            self._fleet.order(now_s, why="scaling")
        self._last_order_s = now_s
        return n

    def _shrink(self, n: int, now_s: float) -> tuple[int, int]:
        """Cancel what is on its way, newest first, then drain the highest numbers."""
        coming = self._fleet.coming()[::-1][:n]
        for replica in coming:
            self._fleet.cancel(replica, now_s, why="scaling")
        ready = self._fleet.ready()[::-1][: n - len(coming)]
        for replica in ready:
            self._fleet.drain(replica, now_s, why="scaling")
        self._last_drain_s = now_s
        return len(coming), len(ready)
