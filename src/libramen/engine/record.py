"""What one replay measured, before anything is computed from it."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import NamedTuple

import numpy as np

from libramen.base.steps import Steps
from libramen.engine.border.records import Results
from libramen.engine.decisions import Decisions
from libramen.engine.replica import Death, Replica


class UpdateRecord(NamedTuple):
    """One rolling update. Times are seconds from the start of the trace, None: not within the replay."""

    due_s: float
    began_s: float | None
    ended_s: float | None
    strategy: str
    replicas: int  # that it had to replace
    mixed_s: float  # for so long both versions were in use
    entry: int  # place in the plan's table (from 0)
    result: str  # "done", "undone", "skipped", "not_undone", "under_way", or "not_begun"
    undone_s: float | None  # when it was found wanting
    judged: tuple[int, int] | None  # attempts that were looked at then, and those that had failed
    by_account: bool = False  # it was skipped, or not undone, since the account had no room
    slower: tuple[float, float] | None = None  # it was too slow: its p95, and that with which it was compared [s]


class FaultRecord(NamedTuple):
    """One fault that struck."""

    kind: str
    entry: int  # place in the plan's table (from 0); behind its end: the tier's own
    at_s: float  # seconds from the start of the trace
    lasts_s: float | None
    at_random: bool
    target: int | str | None  # a replica or zone whose time had come


@dataclass(frozen=True, eq=False)
class ServiceRun:
    """What became of every replica of one service.

    Attributes:
        service: its name.
        span_s, start, edges_s, window_s: as of the `Run`.
        replicas: every replica ever ordered, by number.
        deaths: of replicas, in order.
        decisions: of the scaling rule, in order.
        use: float64 (h,), for how long replicas were in use in each hour of the clock since the start, each
            period rounded up as the tier says [units of its granularity, without one s]; empty where the tier is
            not billed so. `lasted`: the same, not rounded [s].
        updates: rolling updates, in order of when they were due.
        faults: that struck, in order.
        integrals: float64 (k, 4), up to each edge, over ready and draining replicas: cores in use,
            slots in use, requests waiting, and replicas with an empty bank that could use more cores than they
            earn [replica-seconds].
        moved: int64 (numbers,), visitors who had to move from the replica of each number, where they are pinned.
        peak: the most replicas that were ready or on their way at once.
        unsent: calls of the service that did not get a connection in time.
        held_s: when orders were held back, since the account had no room [s].
    """

    service: str
    span_s: float
    start: datetime | None
    edges_s: np.ndarray
    window_s: float
    replicas: list[Replica]
    deaths: list[Death]
    decisions: Decisions
    use: np.ndarray
    lasted: np.ndarray
    updates: list[UpdateRecord]
    faults: list[FaultRecord]
    integrals: np.ndarray
    moved: np.ndarray
    unsent: int
    peak: int
    held_s: list[float]

    def ready_steps(self) -> list[tuple[float, int]]:
        """From which instant of the trace on [s] how many replicas were ready, from 0 on."""
        times = [time for replica in self.replicas for time in replica.times("ready")]
        steps = Steps.of([from_s for from_s, _ in times], [to_s for _, to_s in times], self.span_s)
        return [change for change in steps.changes() if change[0] < self.span_s]


@dataclass(frozen=True, eq=False)
class Run:
    """One replay: what became of every request of the trace, and of the fleet of every service.

    Attributes:
        results: what became of each request; None where they were not kept.
        span_s: the time that the trace covers; replicas are measured and paid up to it.
        requests: how many arrived.
        routes: labels of what was asked for.
        start: the instant 0 as a real time, None: not known.
        edges_s: float64 (k,), instants at which the integrals were read: 0, window_s, ..., span_s.
        window_s: distance of two edges.
        turns: float64 (n, 3), where departures are forced: see `plane.DataPlane.turns`.
        services: of each service by name.
    """

    results: Results | None
    span_s: float
    requests: int
    routes: tuple[str, ...]
    start: datetime | None
    edges_s: np.ndarray
    window_s: float
    turns: np.ndarray
    services: dict[str, ServiceRun]

    @property
    def kept(self) -> Results:
        """`results`, of a replay that has kept them."""
        assert self.results is not None
        return self.results

    @property
    def only(self) -> ServiceRun:
        """The record of the only service."""
        (one,) = self.services.values()
        return one
