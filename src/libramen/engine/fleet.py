"""The fleet: replicas ordered, becoming ready, draining, gone."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from libramen.engine.agenda import Agenda, Kind
from libramen.engine.plane import DataPlane, Ending

if TYPE_CHECKING:
    from collections.abc import Callable

    from libramen.study.plan import Plan
    from libramen.study.service import Service


@dataclass(eq=False)
class Replica:
    """One replica's life: every time stamp in seconds from the start of the trace, None: never."""

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

    @property
    def is_ready(self) -> bool:
        """Whether it takes requests."""
        return self.ready_s is not None and self.draining_s is None and self.gone_s is None

    @property
    def is_draining(self) -> bool:
        """Whether it finishes what it has and takes nothing new."""
        return self.draining_s is not None and self.gone_s is None

    @property
    def is_coming(self) -> bool:
        """Whether it is ordered and not yet ready."""
        return self.ready_s is None and self.gone_s is None


class Fleet:
    """All replicas of a replay, and what can be done to them.

    `changed` is called with the instant and the replica whenever one became ready or went.
    """

    def __init__(self, service: Service, plan: Plan, plane: DataPlane, agenda: Agenda) -> None:
        self._service, self._plan, self._plane, self._agenda = service, plan, plane, agenda
        self._zones = plan.zones_used
        self.replicas: list[Replica] = []  # ever ordered, by number - 1
        self._alive: dict[int, Replica] = {}
        self.version = 1  # what a new order gets
        self.changed: Callable[[float, Replica], None] = lambda _now_s, _replica: None
        self._n_ready = 0
        self._ready_integral = 0.0
        self._integrated_to_s = 0.0
        for _ in range(plan.replicas_used):
            replica = self._new(0.0, why="start", provision_s=0.0)
            self._become_ready(replica, 0.0)

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

        def become_ready(at_s: float) -> None:
            if replica.is_coming:  # else it was cancelled
                self._become_ready(replica, at_s)
                self.changed(at_s, replica)

        self._agenda.add(replica.started_s + self._service.start, Kind.READY, become_ready, replica.number)
        return replica

    def cancel(self, replica: Replica, now_s: float, why: str) -> None:
        """A replica on its way is not wanted any more: it is gone at once."""
        self._gone(replica, now_s, why)

    def drain(self, replica: Replica, now_s: float, why: str) -> None:
        """A ready replica takes nothing new, and is gone when empty or when its time is up."""
        replica.draining_s, replica.why_gone = now_s, why
        self._count_ready(now_s, -1)
        if self._plane.drain(replica.number, now_s):
            self.end_drain(replica.number, now_s)
        elif self._service.drain is not None:
            self.end_drain(replica.number, now_s + self._service.drain)

    def end_drain(self, number: int, at_s: float) -> None:
        """A draining replica is gone at `at_s`, if it is not before: it is empty, or its time is up."""
        replica = self.replicas[number - 1]

        def end(now_s: float) -> None:
            if replica.is_draining:
                self._plane.remove(number, now_s, Ending.CUT)
                self._gone(replica, now_s, replica.why_gone)
                self.changed(now_s, replica)

        self._agenda.add(at_s, Kind.DRAIN_END, end, number)

    def _new(self, now_s: float, why: str, provision_s: float) -> Replica:
        number = len(self.replicas) + 1
        zone = self._zones[(number - 1) % len(self._zones)]
        replica = Replica(number, zone, self.version, why, ordered_s=now_s, started_s=now_s + provision_s)
        self.replicas.append(replica)
        self._alive[number] = replica
        return replica

    def _become_ready(self, replica: Replica, now_s: float) -> None:
        replica.ready_s = now_s
        self._count_ready(now_s, +1)
        self._plane.add(replica.number, now_s)

    def _gone(self, replica: Replica, now_s: float, why: str) -> None:
        replica.gone_s, replica.why_gone = now_s, why
        del self._alive[replica.number]

    def _count_ready(self, now_s: float, change: int) -> None:
        self._ready_integral = self.ready_integral(now_s)
        self._integrated_to_s = now_s
        self._n_ready += change
