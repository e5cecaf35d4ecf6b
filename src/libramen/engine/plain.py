"""The data plane in readable Python: the executable form of the model.

It is slow, and has no cleverness on purpose: every list is scanned, every event looks at everything.
`kernel` must agree with it on every request. Read this file to learn what a replay means.
"""

from __future__ import annotations

import math
from collections import deque
from dataclasses import dataclass, field

import numpy as np

from libramen.engine.plane import EPSILON_S, Chunk, Ending, Integrals, Results, ServerSpec, Signal


@dataclass(eq=False)
class _Request:
    """A request in progress. Holds copies, so that it outlives its chunk."""

    id: int
    arrived_s: float
    cpu_left_s: float  # CPU work still to do, on a core of speed 1
    wait_s: float
    slot_at_s: float | None = None  # when it took its slot
    wait_ends_s: float | None = None  # None while it has CPU work to do


@dataclass(eq=False)
class _Replica:
    """A replica that is ready or draining."""

    number: int
    worked_to_s: float  # the CPU work of its requests is up to date to this instant
    draining: bool = False
    in_slots: list[_Request] = field(default_factory=list)  # in the order in which they took their slots
    backlog: deque[_Request] = field(default_factory=deque)

    @property
    def busy(self) -> int:
        return len(self.in_slots) + len(self.backlog)

    def running(self, threads: int) -> list[_Request]:
        """The requests that use the CPU now: the first `threads` of those with CPU work."""
        return [request for request in self.in_slots if request.wait_ends_s is None][:threads]


class PlainState:
    """A data plane; see `engine.plane.DataPlane` for what each method promises."""

    def __init__(self, spec: ServerSpec, n: int, edges_s: np.ndarray) -> None:
        self.spec = spec
        self._edges_s = deque(edges_s.tolist())
        self._series: list[tuple[float, float, float]] = []
        self.now_s = 0.0
        self._next = 0  # number of the next request to arrive
        self._replicas: dict[int, _Replica] = {}  # by number, so in ascending order of becoming ready
        self._last_chosen = 0  # for round robin
        self._emptied: list[int] = []
        self._integrals = [0.0] * 6
        self._integrated_to_s = 0.0
        self._results = Results(n)

    # -- one instant after the other ---------------------------------------------------------------

    def advance(self, chunk: Chunk, until_s: float) -> Signal:
        while True:
            i = self._next - chunk.first
            if i == len(chunk.at_s) and not chunk.last:
                return Signal.CHUNK
            arrival_s = float(chunk.at_s[i]) if i < len(chunk.at_s) else math.inf
            due = [(self._ends_s(replica, r), r.id, replica, r) for replica, r in self._active()]
            instant_s = min([arrival_s, until_s, *(end_s for end_s, *_ in due)])
            # At one instant: completions in the order of arrival, then control, then arrivals.
            now_due = [entry for entry in due if entry[0] < instant_s + EPSILON_S]
            if now_due:
                end_s, _, replica, request = min(now_due, key=lambda entry: entry[1])
                self._complete(replica, request, end_s)
                if replica.draining and not replica.busy:
                    self._emptied.append(replica.number)
                    until_s = min(until_s, end_s)
            elif math.isinf(instant_s):
                return Signal.ENDED
            elif until_s < instant_s + EPSILON_S:
                self.now_s = until_s
                return Signal.CONTROL
            else:
                self._arrive(_Request(self._next, arrival_s, float(chunk.cpu_s[i]), float(chunk.wait_s[i])))
                self._next += 1

    def _active(self) -> list[tuple[_Replica, _Request]]:
        """The requests whose next step is only a matter of time: running or waiting, in a slot."""
        return [
            (replica, request)
            for replica in self._replicas.values()
            for request in [
                *replica.running(self.spec.threads),
                *(r for r in replica.in_slots if r.wait_ends_s is not None),
            ]
        ]

    def _ends_s(self, replica: _Replica, request: _Request) -> float:
        """When the request's CPU work, or its wait, is over if nothing else happens."""
        if request.wait_ends_s is not None:
            return request.wait_ends_s
        return replica.worked_to_s + request.cpu_left_s / self._rate(replica)

    def _rate(self, replica: _Replica) -> float:
        """CPU work that each running request gets done in a second."""
        running = len(replica.running(self.spec.threads))
        return self.spec.speed * min(1.0, self.spec.cores / running)

    # -- arrival -----------------------------------------------------------------------------------

    def _arrive(self, request: _Request) -> None:
        now_s = request.arrived_s
        self._integrate(now_s)
        replica = self._choose()
        if replica is None:
            self._end(request, now_s, Ending.REFUSED, 0)
        elif len(replica.in_slots) < self.spec.slots:
            self._take_slot(replica, request, now_s)
        elif self.spec.backlog < 0 or len(replica.backlog) < self.spec.backlog:
            replica.backlog.append(request)
        else:
            self._end(request, now_s, Ending.REFUSED, replica.number)

    def _choose(self) -> _Replica | None:
        ready = sorted((r for r in self._replicas.values() if not r.draining), key=lambda r: r.number)
        if not ready:
            return None
        if self.spec.balancer == "round_robin":
            later = [replica for replica in ready if replica.number > self._last_chosen]
            chosen = (later or ready)[0]
            self._last_chosen = chosen.number
            return chosen
        return min(ready, key=lambda replica: (replica.busy, replica.number))

    # -- service -----------------------------------------------------------------------------------

    def _take_slot(self, replica: _Replica, request: _Request, now_s: float) -> None:
        self._work(replica, now_s)
        request.slot_at_s = now_s
        if request.cpu_left_s == 0:
            request.wait_ends_s = now_s + request.wait_s
        replica.in_slots.append(request)

    def _work(self, replica: _Replica, now_s: float) -> None:
        """Bring the CPU work of a replica up to date, before who runs changes."""
        running = replica.running(self.spec.threads)
        if running and now_s > replica.worked_to_s:
            done = (now_s - replica.worked_to_s) * self._rate(replica)
            for request in running:
                request.cpu_left_s = max(0.0, request.cpu_left_s - done)
        replica.worked_to_s = max(replica.worked_to_s, now_s)

    def _complete(self, replica: _Replica, request: _Request, now_s: float) -> None:
        self._integrate(now_s)
        self._work(replica, now_s)
        if request.wait_ends_s is None and request.wait_s > 0:
            request.wait_ends_s = now_s + request.wait_s
            return
        replica.in_slots.remove(request)
        self._end(request, now_s, Ending.OK, replica.number)
        if replica.backlog:
            self._take_slot(replica, replica.backlog.popleft(), now_s)

    def _end(self, request: _Request, now_s: float, ending: Ending, number: int) -> None:
        latency_s = max(0.0, now_s - request.arrived_s)
        if ending is Ending.OK:
            latency_s += self.spec.overhead_s
        # The client has given up before it could learn of anything that comes later than this.
        if latency_s > self.spec.timeout_s + EPSILON_S:
            ending, latency_s = Ending.TIMED_OUT, self.spec.timeout_s
        has_slot_s = now_s if request.slot_at_s is None else request.slot_at_s
        results = self._results
        results.ending[request.id] = ending
        results.latency_s[request.id] = latency_s
        results.queued_s[request.id] = max(0.0, has_slot_s - request.arrived_s)
        results.replica[request.id] = number
        results.attempts[request.id] = 1

    # -- what the control plane does ---------------------------------------------------------------

    def add(self, number: int, now_s: float) -> None:
        self._integrate(now_s)
        self._replicas[number] = _Replica(number, worked_to_s=now_s)

    def drain(self, number: int, now_s: float) -> bool:
        self._integrate(now_s)
        replica = self._replicas[number]
        replica.draining = True
        return not replica.busy

    def remove(self, number: int, now_s: float, ending: Ending) -> None:
        self._integrate(now_s)
        replica = self._replicas.pop(number)
        for request in [*replica.in_slots, *replica.backlog]:
            self._end(request, now_s, ending, number)

    def take_emptied(self) -> list[int]:
        emptied, self._emptied = self._emptied, []
        return emptied

    # -- measures ----------------------------------------------------------------------------------

    def _levels(self) -> list[float]:
        """What is in use and waiting now, over the ready replicas and over all, as in `Integrals`."""
        levels = [0.0] * 6
        for replica in self._replicas.values():
            cores = min(len(replica.running(self.spec.threads)), self.spec.cores)
            for k, level in enumerate((cores, len(replica.in_slots), len(replica.backlog))):
                levels[3 + k] += level
                levels[k] += 0 if replica.draining else level
        return levels

    def _integrate(self, now_s: float) -> None:
        """Bring the integrals up to date, before a level changes; write them down at the edges passed."""
        while self._edges_s and self._edges_s[0] <= now_s:
            self._series.append(self.integrals(self._edges_s.popleft())[3:])
        self._integrals = list(self.integrals(now_s))
        self._integrated_to_s = max(self._integrated_to_s, now_s)

    def integrals(self, at_s: float) -> Integrals:
        passed_s = max(0.0, at_s - self._integrated_to_s)
        return Integrals(
            *(so_far + passed_s * level for so_far, level in zip(self._integrals, self._levels(), strict=True))
        )

    def series(self) -> np.ndarray:
        while self._edges_s:
            self._integrate(self._edges_s[0])
        return np.array(self._series)

    def finished(self, chunk: Chunk) -> bool:
        all_arrived = chunk.last and self._next == chunk.first + len(chunk.at_s)
        return all_arrived and not any(replica.busy for replica in self._replicas.values())

    def results(self) -> Results:
        return self._results
