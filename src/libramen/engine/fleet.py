"""The fleet: replicas ordered, becoming ready, draining, gone."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Literal, NamedTuple

from libramen.engine.agenda import Agenda, Kind

if TYPE_CHECKING:
    from collections.abc import Callable

    from libramen.engine.plane import DataPlane
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
    started_s: float  # the machine is there and the process starts
    ready_s: float | None = None
    draining_s: float | None = None
    gone_s: float | None = None
    why_gone: str = ""  # "scaling" or "update"
    deaths: int = 0
    is_dead: bool = False  # and the balancer does not know yet
    stages: list[tuple[float, Stage]] = field(default_factory=list)

    @property
    def stage(self) -> Stage:
        """What it is in now."""
        return self.stages[-1][1]

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
    why: str  # "out_of_memory"


class Fleet:
    """All replicas of a replay, and what can be done to them.

    `changed` is called with the instant and the replica whenever one became ready, was found dead, or went.
    """

    def __init__(self, service: Service, plan: Plan, plane: DataPlane, agenda: Agenda) -> None:
        self._service, self._plan, self._plane, self._agenda = service, plan, plane, agenda
        self._zones = plan.zones_used
        self.replicas: list[Replica] = []  # ever ordered, by number - 1
        self.deaths: list[Death] = []
        self._alive: dict[int, Replica] = {}
        self.version = 1  # what a new order gets
        self.changed: Callable[[float, Replica], None] = lambda _now_s, _replica: None
        self._n_ready = 0
        self._ready_integral = 0.0
        self._integrated_to_s = 0.0
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
        return self._ready_integral + max(0.0, at_s - self._integrated_to_s) * self._n_ready

    @property
    def n_ready(self) -> int:
        """How many take requests."""
        return self._n_ready

    # -- what can be done --------------------------------------------------------------------------

    def order(self, now_s: float, why: str, *, on_machine: bool = False) -> Replica:
        """Order a replica; `on_machine`: a machine is there already, so nothing is provisioned."""
        replica = self._new(now_s, why, 0.0 if on_machine else self._plan.tier.provision)

        self._plan_ready(replica, replica.started_s + self._service.start)
        return replica

    def cancel(self, replica: Replica, now_s: float, why: str) -> None:
        """A replica on its way is not wanted any more: it is gone at once."""
        self._gone(replica, now_s, why)

    def drain(self, replica: Replica, now_s: float, why: str) -> None:
        """A ready replica takes nothing new, and is gone when empty or when its time is up; a dead one at once."""
        replica.draining_s, replica.why_gone = now_s, why
        replica.stages.append((now_s, "draining"))
        self._count_ready(now_s, -1)
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
                self.changed(now_s, replica)

        self._agenda.add(at_s, Kind.DRAIN_END, end, number)

    def died(self, number: int, now_s: float, why: str) -> None:
        """A ready replica has died; the balancer learns it after `detect`, and then it starts again."""
        replica = self.replicas[number - 1]
        replica.is_dead = True
        replica.deaths += 1
        self.deaths.append(Death(now_s, number, why))
        if self._plan.tier.detect == 0:
            self._found_dead(replica, now_s)
        else:

            def detect(at_s: float) -> None:
                if replica.is_ready:  # else it was drained meanwhile
                    self._plane.withdraw(number, at_s)
                    self._found_dead(replica, at_s)

            self._agenda.add(now_s + self._plan.tier.detect, Kind.DETECTION, detect, number)

    def _found_dead(self, replica: Replica, now_s: float) -> None:
        """The balancer knows; a new process starts on the same machine."""
        replica.is_dead = False
        replica.stages.append((now_s, "coming"))
        self._count_ready(now_s, -1)
        self._plan_ready(replica, now_s + self._service.start)
        self.changed(now_s, replica)

    def _new(self, now_s: float, why: str, provision_s: float) -> Replica:
        number = len(self.replicas) + 1
        zone = self._zones[(number - 1) % len(self._zones)]
        replica = Replica(number, zone, self.version, why, ordered_s=now_s, started_s=now_s + provision_s)
        replica.stages.append((now_s, "coming"))
        self.replicas.append(replica)
        self._alive[number] = replica
        return replica

    def _plan_ready(self, replica: Replica, at_s: float) -> None:
        def become_ready(now_s: float) -> None:
            if replica.is_coming:  # else it was cancelled
                self._become_ready(replica, now_s)
                self.changed(now_s, replica)

        self._agenda.add(at_s, Kind.READY, become_ready, replica.number)

    def _become_ready(self, replica: Replica, now_s: float, *, warm: bool = False) -> None:
        if replica.ready_s is None:
            replica.ready_s = now_s
        replica.stages.append((now_s, "ready"))
        self._count_ready(now_s, +1)
        self._plane.add(replica.number, now_s, warm=warm)
        for number in self._plane.take_killed():  # by the requests that were held for it
            self.died(number, now_s, "out_of_memory")

    def _gone(self, replica: Replica, now_s: float, why: str) -> None:
        replica.gone_s, replica.why_gone = now_s, why
        replica.stages.append((now_s, "gone"))
        self._plane.remove(replica.number, now_s)
        del self._alive[replica.number]

    def _count_ready(self, now_s: float, change: int) -> None:
        self._ready_integral = self.ready_integral(now_s)
        self._integrated_to_s = now_s
        self._n_ready += change
