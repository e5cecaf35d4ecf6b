"""The fleet: replicas ordered, becoming ready, draining, gone."""

from __future__ import annotations

import heapq
import math
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Final, Literal, NamedTuple

from libramen import streams
from libramen.engine.agenda import Kind

if TYPE_CHECKING:
    from collections.abc import Callable

    import numpy as np

    from libramen.engine.agenda import ServiceAgenda
    from libramen.engine.placement import Placement
    from libramen.engine.plane import Notices, Server
    from libramen.study.plan import Plan
    from libramen.study.service import Service


Stage = Literal["coming", "ready", "draining", "gone"]


@dataclass(eq=False)
class Replica:
    """One replica's life: every time stamp in seconds from the start of the trace, None: never.

    `ready_s` is when it first became ready. `stages` has all it went through, also when it died and came
    again: from when it was coming (ordered, or starting again), ready, draining, gone.
    """

    number: int
    zone: str
    version: int
    why: str  # "start", "scaling" or "update"
    ordered_s: float
    started_s: float  # when the machine is there and the process starts, if it is not cancelled before
    decision: int | None = None  # number (from 0) of the decision that ordered it
    ready_s: float | None = None
    draining_s: float | None = None
    gone_s: float | None = None
    why_gone: str = ""  # "scaling" or "update"
    ended_by: int | None = None  # number of the decision that cancelled or drained it
    core_s: float = 0.0  # cores in use integrated up to the end of the span [core-seconds]
    deaths: int = 0
    is_dead: bool = False  # and the balancer does not know yet
    stages: list[tuple[float, Stage]] = field(default_factory=list)

    @property
    def stage(self) -> Stage:
        """What it is in now."""
        return self.stages[-1][1]

    @property
    def can_die(self) -> bool:
        """Whether its process runs: it is ready or draining, and not dead."""
        return self.stage in {"ready", "draining"} and not self.is_dead

    @property
    def is_ready(self) -> bool:
        """Whether the balancer believes that it takes requests."""
        return self.stage == "ready"

    @property
    def is_draining(self) -> bool:
        """Whether it finishes what it has and takes nothing new."""
        return self.stage == "draining"

    @property
    def is_coming(self) -> bool:
        """Whether it is ordered and not yet ready, or starting again."""
        return self.stage == "coming"

    def times(self, *stages: Stage) -> list[tuple[float, float]]:
        """When it was in one of these stages: from, to [s]; infinity: for ever."""
        ends = [*(at_s for at_s, _ in self.stages[1:]), math.inf]
        return [(at_s, end_s) for (at_s, stage), end_s in zip(self.stages, ends, strict=True) if stage in stages]


class Death(NamedTuple):
    """A replica that died, when, and why."""

    at_s: float
    replica: int
    why: str  # "out_of_memory", or "crash"


class _Drawn:
    """How long replicas take where that varies: values of the standard normal distribution.

    The n-th replica has the n-th value of each stream of its service, whatever the plan. One that has crashed draws
    anew from a stream of its own.
    """

    _BLOCK: Final = 64

    def __init__(self, seed: int, service: int) -> None:
        self._seed, self._service = seed, service
        self._streams: dict[str, np.random.Generator] = {}
        self._values: dict[str, list[float]] = {}
        self._again: dict[int, np.random.Generator] = {}

    def of(self, purpose: str, number: int) -> float:
        """The value of a replica."""
        if purpose not in self._streams:
            self._streams[purpose], self._values[purpose] = streams.stream(self._seed, purpose, 0, self._service), []
        values = self._values[purpose]
        while len(values) < number:
            values += self._streams[purpose].standard_normal(self._BLOCK).tolist()
        return values[number - 1]

    def again(self, number: int) -> float:
        """The next value of a replica that starts again."""
        if number not in self._again:
            self._again[number] = streams.stream(self._seed, "restart", number, self._service)
        return float(self._again[number].standard_normal())


class Fleet:
    """All replicas of a service, and what can be done to them.

    What is in `listeners` is called with the instant and the replica whenever one became ready, was found dead,
    or went.
    """

    def __init__(
        self,
        service: Service,
        plan: Plan,
        plane: Server,
        agenda: ServiceAgenda,
        placement: Placement,
        seed: int,
        index: int = 0,
    ) -> None:
        self._service, self._plan, self._plane, self._agenda = service, plan, plane, agenda
        self._placement = placement
        self._drawn = _Drawn(seed, index)
        self.replicas: list[Replica] = []  # ever ordered, by number - 1
        self.deaths: list[Death] = []
        self._alive: dict[int, Replica] = {}
        # Numbers below 0, so that the highest is the first of the heap; those in another stage by now are skipped.
        self._highest: dict[Stage, list[int]] = {"coming": [], "ready": []}
        self.version = 1  # what a new order gets
        self.listeners: list[Callable[[float, Replica], None]] = []
        self.n_ready = 0
        """How many take requests."""
        self.n_coming = 0
        """How many are ordered and not yet ready, or starting again."""
        self._ready_integral = 0.0
        self._integrated_to_s = 0.0
        self._is_measured = False
        for _ in range(plan.replicas_used):
            self._become_ready(self._new(0.0, why="start", provision_s=0.0), 0.0, warm=True)

    # -- who is there ------------------------------------------------------------------------------

    def alive(self) -> list[Replica]:
        """Not gone yet, by number."""
        return list(self._alive.values())

    def ready(self) -> list[Replica]:
        """Taking requests, by number."""
        return [replica for replica in self._alive.values() if replica.is_ready]

    def coming(self) -> list[Replica]:
        """Ordered and not yet ready, by number."""
        return [replica for replica in self._alive.values() if replica.is_coming]

    def of_version(self, version: int) -> list[Replica]:
        """Not gone yet and of one version, by number."""
        return [replica for replica in self._alive.values() if replica.version == version]

    def ready_integral(self, at_s: float) -> float:
        """Ready replicas integrated over time up to `at_s` [replica-seconds]."""
        return self._ready_integral + max(0.0, at_s - self._integrated_to_s) * self.n_ready

    @property
    def have(self) -> int:
        """Ready and coming."""
        return self.n_ready + self.n_coming

    def take_highest(self, stage: Stage) -> Replica:
        """The highest-numbered replica that is coming, or that is ready, and is about to be so no more."""
        heap = self._highest[stage]
        while True:
            replica = self.replicas[-heapq.heappop(heap) - 1]
            if replica.stage == stage:
                return replica

    def measure(self, at_s: float) -> None:
        """The span is over: write down what each replica has used of its cores."""
        for replica in self._alive.values():
            replica.core_s = self._plane.core_s(replica.number, at_s)
        self._is_measured = True

    # -- what can be done --------------------------------------------------------------------------

    def order(self, now_s: float, why: str, *, on_machine: bool = False, decision: int | None = None) -> Replica:
        """Order a replica; `on_machine`: a machine is there already, so nothing is provisioned."""
        number = len(self.replicas) + 1
        provision_s = 0.0 if on_machine else self._takes_s("provision", number)
        replica = self._new(now_s, why, provision_s)
        replica.decision = decision
        self._plan_ready(replica, replica.started_s + self._takes_s("start", number))
        return replica

    def appear(self, now_s: float, why: str) -> None:
        """A replica is there and ready at once."""
        replica = self._new(now_s, why, provision_s=0.0)
        self._become_ready(replica, now_s)
        self._changed(now_s, replica)

    def _takes_s(self, what: Literal["provision", "start"], number: int) -> float:
        delay = self._plan.tier.provision if what == "provision" else self._service.start
        return delay.at(0.0 if delay.is_constant else self._drawn.of(what, number))

    def cancel(self, replica: Replica, now_s: float, why: str, decision: int | None = None) -> None:
        """A replica on its way is not wanted any more: it is gone at once."""
        replica.ended_by = decision
        self._gone(replica, now_s, why)

    def drain(self, replica: Replica, now_s: float, why: str, decision: int | None = None) -> None:
        """A ready replica takes nothing new, and is gone when empty or when its time is up; a dead one at once."""
        replica.draining_s, replica.why_gone, replica.ended_by = now_s, why, decision
        self._enter(replica, now_s, "draining")
        if replica.is_dead or self._plane.drain(replica.number, now_s):
            self.end_drain(replica.number, now_s)
        elif self._service.drain is not None:
            self.end_drain(replica.number, now_s + self._service.drain)

    def end_drain(self, number: int, at_s: float) -> None:
        """A draining replica is gone at `at_s`, if it is not before: it is empty, or its time is up."""
        replica = self.replicas[number - 1]

        def end(now_s: float) -> None:
            if replica.is_draining:
                self._gone(replica, now_s, replica.why_gone)
                self._changed(now_s, replica)

        self._agenda.add(at_s, Kind.DRAIN_END, end, number)

    def heed(self, notices: Notices, now_s: float) -> None:
        """Replicas have died, or draining ones have emptied."""
        for number in notices.killed:
            self._died(self.replicas[number - 1], now_s, "out_of_memory", self._plan.tier.detect)
        for number in notices.emptied:
            self.end_drain(number, now_s)

    def crash(self, replica: Replica, now_s: float, *, detect_s: float | None, why: str) -> None:
        """The process of a replica that can die does; `detect_s`: until the balancer knows, None: as the tier says."""
        detect_s = self._plan.tier.detect if detect_s is None else detect_s
        if replica.is_draining:
            replica.deaths += 1
            self.deaths.append(Death(now_s, replica.number, why))
            self._plane.fail(replica.number, now_s, found=True)
            self._gone(replica, now_s, replica.why_gone)
            self._changed(now_s, replica)
            return
        self._plane.fail(replica.number, now_s, found=detect_s == 0)
        self._died(replica, now_s, why, detect_s)

    def _died(self, replica: Replica, now_s: float, why: str, detect_s: float) -> None:
        """A ready replica has died; the balancer learns it after `detect_s`, and then it starts again."""
        replica.is_dead = True
        replica.deaths += 1
        self.deaths.append(Death(now_s, replica.number, why))
        if detect_s == 0:
            self._found_dead(replica, now_s)
        else:

            def detect(at_s: float) -> None:
                if replica.is_ready:  # else it was drained meanwhile
                    self._plane.withdraw(replica.number, at_s)
                    self._found_dead(replica, at_s)

            self._agenda.add(now_s + detect_s, Kind.FAULT, detect, replica.number)

    def _found_dead(self, replica: Replica, now_s: float) -> None:
        """The balancer knows; a new process starts on the same machine."""
        replica.is_dead = False
        self._enter(replica, now_s, "coming")
        start = self._service.start
        self._plan_ready(replica, now_s + start.at(0.0 if start.is_constant else self._drawn.again(replica.number)))
        self._changed(now_s, replica)

    def _new(self, now_s: float, why: str, provision_s: float) -> Replica:
        number = len(self.replicas) + 1
        zone = self._placement.zone_of(number)
        assert zone is not None, "a zone is open"
        replica = Replica(number, zone, self.version, why, ordered_s=now_s, started_s=now_s + provision_s)
        self.replicas.append(replica)
        self._alive[number] = replica
        self._enter(replica, now_s, "coming")
        return replica

    def _plan_ready(self, replica: Replica, at_s: float) -> None:
        def become_ready(now_s: float) -> None:
            if replica.is_coming:  # else it was cancelled
                self._become_ready(replica, now_s)
                self._changed(now_s, replica)

        self._agenda.add(at_s, Kind.READY, become_ready, replica.number)

    def _become_ready(self, replica: Replica, now_s: float, *, warm: bool = False) -> None:
        if replica.ready_s is None:
            replica.ready_s = now_s
        self._enter(replica, now_s, "ready")
        self._plane.add(replica.number, now_s, warm=warm)
        for number in self._plane.take_killed():  # by the requests that were held for it
            self._died(self.replicas[number - 1], now_s, "out_of_memory", self._plan.tier.detect)

    def _gone(self, replica: Replica, now_s: float, why: str) -> None:
        replica.gone_s, replica.why_gone = now_s, why
        if not self._is_measured:
            replica.core_s = self._plane.core_s(replica.number, now_s)
        self._enter(replica, now_s, "gone")
        self._plane.remove(replica.number, now_s)
        del self._alive[replica.number]

    def _enter(self, replica: Replica, now_s: float, stage: Stage) -> None:
        """From now on a replica is in another stage."""
        self._ready_integral = self.ready_integral(now_s)
        self._integrated_to_s = now_s
        before = replica.stages[-1][1] if replica.stages else None
        self.n_ready += (stage == "ready") - (before == "ready")
        self.n_coming += (stage == "coming") - (before == "coming")
        replica.stages.append((now_s, stage))
        if stage in self._highest:
            heapq.heappush(self._highest[stage], -replica.number)

    def _changed(self, now_s: float, replica: Replica) -> None:
        for listener in self.listeners:
            listener(now_s, replica)
