"""The fleet: replicas ordered, becoming ready, dying, draining, gone."""

from __future__ import annotations

import heapq
import math
from collections.abc import Callable
from typing import Final, Literal, NamedTuple

from libramen.base.delays import Delay
from libramen.base.times import EPSILON_S
from libramen.engine.border.plane import Server
from libramen.engine.border.records import AS_WRITTEN, Notices, Profile
from libramen.engine.control.agenda import Kind, ServiceAgenda
from libramen.engine.control.placement import InTurn
from libramen.engine.replica import Death, Luck, Process, Replica, Stage
from libramen.study.plan import Hosting
from libramen.study.service import Service


class Version(NamedTuple):
    """What a replica runs: how it differs from the service as written."""

    profile: Profile
    start: Delay
    crashes_after: float | None = None  # its replicas die so long after they became ready [s]


_FIRST: Final = 1
"""The version of the replicas at the start."""


def _as_quick(_replica: Replica) -> float:
    return 1.0


def _never(_zone: str) -> bool:
    return False


class Fleet:
    """All replicas of a service, and what can be done to them.

    What is in `listeners` is called with the instant and the replica whenever one became ready, was found dead,
    or went; what is in `order_listeners` whenever one was ordered.

    Attributes:
        versions: what each version is, by number.
        version: what a new order gets.
        keeps_versions: a replacement gets the version of what it replaces.
        free_machines: numbers of replicas that an update has drained, and whose machines are there; a heap.
        slower: by how much CPU work is multiplied on a replica that becomes ready.
        out_of_stock: whether there is no machine to be had in a zone, for nobody.
        owed: versions of those in whose place one is ordered as soon as some zone is open.
        release: number of the release under way; going back is part of it.
    """

    def __init__(
        self,
        service: Service,
        hosting: Hosting,
        plane: Server,
        agenda: ServiceAgenda,
        placement: InTurn,
        seed: int,
        index: int = 0,
    ) -> None:
        self._service, self._hosting, self._plane, self._agenda = service, hosting, plane, agenda
        self._placement = placement
        self._health = hosting.tier.health
        self.luck = Luck(seed, index)
        self.replicas: list[Replica] = []  # ever ordered, by number - 1
        self.deaths: list[Death] = []
        self._alive: dict[int, Replica] = {}
        # Numbers below 0, so that the highest is the first of the heap; those in another stage by now are skipped.
        self._highest: dict[Stage, list[int]] = {"coming": [], "ready": []}
        self.versions = {_FIRST: Version(AS_WRITTEN, service.start)}
        self.version = _FIRST
        self.keeps_versions = False
        self.free_machines: list[int] = []
        self.slower: Callable[[Replica], float] = _as_quick
        self.out_of_stock: Callable[[str], bool] = _never
        self.owed: list[int] = []
        self.release = 0
        self.listeners: list[Callable[[float, Replica], None]] = []
        self.order_listeners: list[Callable[[float, Replica], None]] = []
        self.n_ready = 0
        """How many take requests."""
        self.n_coming = 0
        """How many are ordered and not yet ready, or starting again."""
        self.peak = 0
        """The most that it has had, ready and coming, at once."""
        self._ready_integral = 0.0
        self._integrated_to_s = 0.0
        self._is_measured = False
        for _ in range(hosting.replicas_used):
            self._appear(0.0, why="start", warm=True)

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

    def used(self, at_s: float) -> float:
        """For how long replicas were in use up to now, where that is metered; see `plane.Server.billed`."""
        return self._plane.billed(at_s)

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

    @property
    def draws_by_number(self) -> bool:
        """Whether replicas still draw something that depends on their number."""
        tier = self._hosting.tier
        starts = [version.start for version in self.versions.values()]
        starts += [update.start for update in self._hosting.rollouts if update.start is not None]
        delays_vary = not all(delay.is_constant for delay in (tier.provision, *starts))
        return delays_vary or tier.order_fails > 0 or tier.health is not None

    def comparable(self, _now_s: float) -> list[object]:
        """What decides its future: see `sameness`."""
        return [
            self.alive(), self.versions, self.version, self.keeps_versions, self.owed, self.slower, self._is_measured,
            [self.replicas[number - 1].zone for number in sorted(self.free_machines)],
            self.luck if self.draws_by_number else None,
        ]  # fmt: skip

    # -- what can be done --------------------------------------------------------------------------

    @property
    def may_order(self) -> bool:
        """Whether some zone is open."""
        return self._placement.is_open

    def order(
        self, now_s: float, why: str, *, version: int | None = None, in_place: bool = False, decision: int | None = None
    ) -> Replica | None:
        """Order a replica; `in_place`: on a machine that was freed, if there is one. None: no zone is open."""
        version = self.version if version is None else version
        if in_place and self.free_machines:
            machine = self.replicas[heapq.heappop(self.free_machines) - 1]
            replica = self._new(now_s, machine.zone, why, version)
            self._bought(replica, now_s, on_machine=True)
            return replica
        zone = self._placement.zone_of(len(self.replicas) + 1)
        if zone is None:
            return None
        replica = self._new(now_s, zone, why, version)
        replica.decision = decision
        self._try_to_buy(replica, now_s)
        return replica

    def replace(self, replica: Replica, now_s: float, why: str) -> None:
        """Order one in the place of a replica whose machine is gone, now or as soon as some zone is open."""
        self.owed.append(replica.version)
        self.order_owed(now_s, why)

    def order_owed(self, now_s: float, why: str) -> None:
        """Order what is owed if some zone is open, of the version that orders have now, or of what it replaces."""
        owed, self.owed = self.owed, []
        for version in owed:
            if self.order(now_s, why, version=version if self.keeps_versions else self.version) is None:
                self.owed.append(version)

    def _try_to_buy(self, replica: Replica, now_s: float) -> None:
        """A tier may be out of stock: then it is tried again."""
        tier = self._hosting.tier
        replica.is_held_up = self.out_of_stock(replica.zone) or (
            tier.order_fails > 0 and self.luck.own("stock", replica.number).random() < tier.order_fails
        )
        if not replica.is_held_up:
            self._bought(replica, now_s, on_machine=False)
            return
        self._agenda.add(now_s + tier.order_again, Kind.FAULT, self._try_again, replica.number, replica, counts=False)

    def _try_again(self, now_s: float, replica: Replica) -> None:
        if replica.is_coming and not replica.is_lost:  # else it was cancelled
            self._try_to_buy(replica, now_s)

    def _bought(self, replica: Replica, now_s: float, *, on_machine: bool) -> None:
        replica.bought_s = now_s
        provision, start = self._hosting.tier.provision, self.versions[replica.version].start
        replica.started_s = now_s + (0.0 if on_machine else self._takes_s(provision, "provision", replica.number))
        self._plan_ready(replica, replica.started_s + self._takes_s(start, "start", replica.number))

    def appear(self, now_s: float, why: str) -> None:
        """A replica is there and ready at once."""
        self._changed(now_s, self._appear(now_s, why))

    def _appear(self, now_s: float, why: str, *, warm: bool = False) -> Replica:
        zone = self._placement.zone_of(len(self.replicas) + 1)
        assert zone is not None, "a zone is open"
        replica = self._new(now_s, zone, why, self.version)
        replica.bought_s = now_s
        self._begin_checks(replica, now_s)
        self._become_ready(replica, now_s, warm=warm)
        return replica

    def _takes_s(self, delay: Delay, what: Literal["provision", "start"], number: int) -> float:
        return delay.at(0.0 if delay.is_constant else self.luck.of(what, number))

    def cancel(self, replica: Replica, now_s: float, why: str, decision: int | None = None) -> None:
        """A replica on its way is not wanted any more: it is gone at once."""
        replica.ended_by = decision
        self._gone(replica, now_s, why)

    def drain(
        self, replica: Replica, now_s: float, why: str, decision: int | None = None, *, limit_s: float | None = None
    ) -> None:
        """A ready replica takes nothing new, and is gone when empty or when its time is up; a dead one at once.

        `limit_s`: its time, instead of the service's `drain`.
        """
        replica.draining_s, replica.why_gone, replica.ended_by = now_s, why, decision
        replica.freed_by = self.release if why == "update" else None
        self._enter(replica, now_s, "draining")
        limit_s = self._service.drain if limit_s is None else limit_s
        if replica.is_dead or self._plane.drain(replica.number, now_s):
            self.end_drain(replica.number, now_s)
        elif limit_s is not None:
            self.end_drain(replica.number, now_s + limit_s)
        self._heed_killed(now_s)  # by requests that went over to the other version

    def end_drain(self, number: int, at_s: float) -> None:
        """A draining replica is gone at `at_s`, if it is not before: it is empty, or its time is up."""
        self._agenda.add(at_s, Kind.DRAIN_END, self._end_drain_now, number, self.replicas[number - 1])

    def _end_drain_now(self, now_s: float, replica: Replica) -> None:
        if replica.is_draining:
            self._gone(replica, now_s, replica.why_gone)
            self._changed(now_s, replica)

    def heed(self, notices: Notices, now_s: float) -> None:
        """Replicas have died, or draining ones have emptied."""
        for number in notices.killed:
            self._died(self.replicas[number - 1], now_s, "out_of_memory", None)
        for number in notices.emptied:
            self.end_drain(number, now_s)

    # -- what goes wrong ---------------------------------------------------------------------------

    def found_s(self, replica: Replica, died_s: float, detect_s: float | None) -> float:
        """When the balancer finds a process dead: after `detect_s`, or None, as the tier says."""
        health = self._health
        if detect_s is not None or health is None:
            return died_s + (self._hosting.tier.detect if detect_s is None else detect_s)
        if replica.is_coming:  # nothing of it is checked yet
            return died_s + health.after * health.every + health.timeout
        failed = max(0, math.ceil((died_s - replica.checked_s) / health.every - EPSILON_S))
        return replica.checked_s + (failed + health.after - 1) * health.every + health.timeout

    def crash(self, replica: Replica, now_s: float, *, detect_s: float | None, why: str) -> None:
        """The process of a replica that can die does; `detect_s`: until the balancer knows, None: as the tier says."""
        if replica.is_draining:
            self.lose_draining(replica, now_s, why)
            return
        self._plane.fail(replica.number, now_s, found=self.found_s(replica, now_s, detect_s) == now_s)
        self._died(replica, now_s, why, detect_s)
        self._heed_killed(now_s)

    def lose_draining(self, replica: Replica, now_s: float, why: str) -> None:
        """A draining replica dies: it is gone."""
        self.note_death(replica, now_s, why)
        self._plane.fail(replica.number, now_s, found=True)
        self._gone(replica, now_s, replica.why_gone)
        self._changed(now_s, replica)

    def lose_ready(self, replica: Replica, now_s: float, why: str, *, found: bool) -> None:
        """The machine of a ready replica is lost for good; unless it is found the balancer still sends to it."""
        self.note_death(replica, now_s, why)
        self._plane.fail(replica.number, now_s, found=found)
        replica.is_dead = True

    def end(self, replica: Replica, now_s: float, why: str) -> None:
        """A replica is gone at once, whatever it was."""
        self._gone(replica, now_s, why)
        self._changed(now_s, replica)
        self._heed_killed(now_s)

    def note_death(self, replica: Replica, now_s: float, why: str) -> None:
        """Write down that a process has died."""
        replica.deaths += 1
        self.deaths.append(Death(now_s, replica.number, why))

    def _died(self, replica: Replica, now_s: float, why: str, detect_s: float | None) -> None:
        """A ready replica has died; the balancer learns it later or at once, and then it starts again."""
        self.note_death(replica, now_s, why)
        replica.is_dead = True
        found_s = self.found_s(replica, now_s, detect_s)
        if found_s == now_s:
            self._found_dead(replica, now_s)
        else:
            self._agenda.add(found_s, Kind.FAULT, self._detect, replica.number, Process(replica, replica.deaths))

    def _detect(self, now_s: float, dead: Process) -> None:
        """The balancer learns of this death, unless the replica was drained or lost meanwhile."""
        replica = dead.replica
        if replica.is_ready and dead.is_there:
            self._plane.withdraw(replica.number, now_s)
            self._found_dead(replica, now_s)
            self._heed_killed(now_s)

    def _found_dead(self, replica: Replica, now_s: float) -> None:
        """The balancer knows; a new process starts on the same machine."""
        replica.is_dead = False
        self._enter(replica, now_s, "coming")
        start = self.versions[replica.version].start
        z = 0.0 if start.is_constant else float(self.luck.own("restart", replica.number).standard_normal())
        self._plan_ready(replica, now_s + start.at(z))
        self._changed(now_s, replica)

    def _heed_killed(self, now_s: float) -> None:
        """By requests that waited, and were handed out."""
        for number in self._plane.take_killed():
            self._died(self.replicas[number - 1], now_s, "out_of_memory", None)

    # -- from one stage to the next ----------------------------------------------------------------

    def _new(self, now_s: float, zone: str, why: str, version: int) -> Replica:
        number = len(self.replicas) + 1
        replica = Replica(number, zone, version, why, ordered_s=now_s, started_s=now_s)
        self.replicas.append(replica)
        self._alive[number] = replica
        self._enter(replica, now_s, "coming")
        for listener in self.order_listeners:
            listener(now_s, replica)
        return replica

    def _begin_checks(self, replica: Replica, now_s: float) -> None:
        """The health of a new process is checked from now on, first after a phase of its own."""
        if self._health is not None:
            phase_s = self._health.every * float(self.luck.own("health", replica.number).random())
            replica.checked_s = now_s + phase_s

    def _plan_ready(self, replica: Replica, at_s: float) -> None:
        """A process answers from then on; it counts as ready after as many good checks as the tier wants."""
        self._begin_checks(replica, at_s)
        if self._health is not None and self._health.first:
            at_s = replica.checked_s + (self._health.first - 1) * self._health.every
        self._agenda.add(at_s, Kind.READY, self._has_started, replica.number, replica)

    def _has_started(self, now_s: float, replica: Replica) -> None:
        if replica.is_coming and not replica.is_lost:  # else it was cancelled
            self._become_ready(replica, now_s)
            self._changed(now_s, replica)

    def _become_ready(self, replica: Replica, now_s: float, *, warm: bool = False) -> None:
        if replica.ready_s is None:
            replica.ready_s = now_s
        self._enter(replica, now_s, "ready")
        version = self.versions[replica.version]
        self._plane.add(replica.number, now_s, warm=warm, profile=version.profile, slower=self.slower(replica))
        self._heed_killed(now_s)  # by the requests that were held for it
        if version.crashes_after is not None:
            process, at_s = Process(replica, replica.deaths), now_s + version.crashes_after
            self._agenda.add(at_s, Kind.FAULT, self._crash_again, replica.number, process, counts=False)

    def _crash_again(self, now_s: float, process: Process) -> None:
        """A replica of a version that crashes does, if it is still the same process."""
        if process.replica.can_die and process.is_there:
            self.crash(process.replica, now_s, detect_s=None, why="crash")

    def _gone(self, replica: Replica, now_s: float, why: str) -> None:
        replica.gone_s, replica.why_gone = now_s, why
        if not self._is_measured:
            replica.core_s = self._plane.core_s(replica.number, now_s)
        self._enter(replica, now_s, "gone")
        self._plane.remove(replica.number, now_s)
        del self._alive[replica.number]
        if replica.freed_by == self.release and not (replica.is_reclaimed or replica.is_lost):
            heapq.heappush(self.free_machines, replica.number)

    def _enter(self, replica: Replica, now_s: float, stage: Stage) -> None:
        """From now on a replica is in another stage."""
        self._ready_integral = self.ready_integral(now_s)
        self._integrated_to_s = now_s
        before = replica.stages[-1][1] if replica.stages else None
        self.n_ready += (stage == "ready") - (before == "ready")
        self.n_coming += (stage == "coming") - (before == "coming")
        self.peak = max(self.peak, self.n_ready + self.n_coming)
        replica.stages.append((now_s, stage))
        if stage in self._highest:
            heapq.heappush(self._highest[stage], -replica.number)

    def _changed(self, now_s: float, replica: Replica) -> None:
        for listener in self.listeners:
            listener(now_s, replica)
