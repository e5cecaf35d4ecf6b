"""The fleet: replicas ordered, becoming ready, dying, draining, gone."""

from __future__ import annotations

import heapq
import math
from collections.abc import Callable
from typing import TYPE_CHECKING, Literal

from libramen.base.delays import Delay
from libramen.base.times import EPSILON_S
from libramen.engine.border.plane import Server
from libramen.engine.border.records import AS_WRITTEN, Notices
from libramen.engine.control.account import MANY, AccountLimits
from libramen.engine.control.agenda import Kind, ServiceAgenda
from libramen.engine.control.detector import Detector
from libramen.engine.control.members import Members
from libramen.engine.control.placement import InTurn
from libramen.engine.control.versions import FIRST, Owed, Version, as_quick, draws_by_number, never
from libramen.engine.replica import Death, Detection, Luck, Process, Replica
from libramen.study.hosting import Hosting
from libramen.study.service import Service

if TYPE_CHECKING:
    from libramen.engine.control.standbys import Standbys


class Fleet(Members):
    """All replicas of a service, and what can be done to them.

    What is in `listeners` is called with the instant and the replica whenever one became ready, was found dead,
    or went; what is in `order_listeners` whenever one was ordered.

    Attributes:
        detector: how deaths are detected.
        versions: what each version is, by number.
        version: what a new order gets.
        keeps_versions: a replacement gets the version of what it replaces.
        free_machines: numbers of replicas that an update has drained, and whose machines are there; a heap.
        slower: by how much CPU work is multiplied on a replica that becomes ready.
        out_of_stock: whether there is no machine to be had in a zone of a tier, for nobody.
        owed: what is to be ordered as soon as some zone is open.
        release: number of the release under way; going back is part of it.
        account: limits of all services together, None: there are none.
        standbys: who promotes replicas that stand by, None: all serve.
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
        super().__init__(hosting)
        self._service, self._hosting, self._plane, self._agenda = service, hosting, plane, agenda
        self._placement = placement
        self.luck = Luck(seed, index)
        self.detector = Detector(hosting.tier, self.luck)
        self.deaths: list[Death] = []
        self.held_s: list[float] = []  # when orders were held back, since the account had no room
        self.versions = {FIRST: Version(AS_WRITTEN, service.start)}
        self.version = FIRST
        self.keeps_versions = False
        self.free_machines: list[int] = []
        self.slower: Callable[[Replica], float] = as_quick
        self.out_of_stock: Callable[[str, str], bool] = never
        self.owed: list[Owed] = []
        self.updates_to: int | None = None
        """How many serving replicas the update under way leaves; None: there is none."""
        self.release = 0
        self.account: AccountLimits | None = None
        self.standbys: Standbys | None = None
        self.listeners: list[Callable[[float, Replica], None]] = []
        self.order_listeners: list[Callable[[float, Replica], None]] = []
        self._is_measured = False
        for _ in range(hosting.replicas_used):
            self._appear(0.0, why="start", warm=True)

    @property
    def cores(self) -> float:
        """Of each, as the size has them."""
        return self._hosting.size.cores

    def used(self, at_s: float) -> float:
        """For how long replicas were in use up to now, where that is metered; see `plane.Server.billed`."""
        return self._plane.billed(at_s)

    def measure(self, at_s: float) -> None:
        """The span is over: write down what each replica has used of its cores."""
        for replica in self._alive.values():
            replica.core_s = self._plane.core_s(replica.number, at_s)
        self._is_measured = True

    @property
    def draws_by_number(self) -> bool:
        """Whether replicas still draw something that depends on their number."""
        return draws_by_number(self._hosting, self.mixture.tiers, self.versions.values())

    def comparable(self, _now_s: float) -> list[object]:
        """What decides its future: see `sameness`."""
        return [
            self.alive(), self.versions, self.version, self.keeps_versions, self.updates_to, self.owed, self.slower,
            self._is_measured,
            [(one.zone, one.entry) for one in (self.replicas[n - 1] for n in sorted(self.free_machines))],
            self.luck if self.draws_by_number else None,
        ]  # fmt: skip

    # -- what can be done --------------------------------------------------------------------------

    @property
    def may_order(self) -> bool:
        """Whether some zone is open, and the account has room."""
        return self._placement.is_open and self.room > 0

    @property
    def room(self) -> int:
        """How many more the account allows."""
        return MANY if self.account is None else self.account.room(self)

    def order(
        self, now_s: float, why: str, *, version: int | None = None, in_place: bool = False, decision: int | None = None
    ) -> Replica | None:
        """Order a replica; `in_place`: on a machine that was freed, if there is one.

        None: no zone is open, or the account has no room.
        """
        version = self.version if version is None else version
        if self.account is not None and not self.room:
            self.account.hold_back()
            self.held_s.append(now_s)
            return None
        if in_place and self.free_machines:
            machine = self.replicas[heapq.heappop(self.free_machines) - 1]
            replica = self._new(now_s, machine.zone, why, version, machine.entry)
            self._bought(replica, now_s, on_machine=True)
            return replica
        zone = self._placement.zone_of(len(self.replicas) + 1)
        if zone is None:
            return None
        replica = self._new(
            now_s, zone, why, version, self.mixture.short(self.of_version(version) if self.keeps_versions else None)
        )
        replica.decision = decision
        self._try_to_buy(replica, now_s)
        return replica

    def replace(self, replica: Replica, now_s: float, why: str) -> None:
        """Order one in the place of a replica, now or as soon as some zone is open and the account has room.

        Its machine is gone, or will be: then it serves on until the other one is ready; so does the one in whose place
        it was ordered itself.
        """
        self.owed.append(Owed(replica.version, replica if replica.is_ready else replica.stands_for, why))
        self.order_owed(now_s)

    def order_owed(self, now_s: float) -> None:
        """Order what is owed if that may be, of the version that orders have now, or of what it replaces."""
        owed, self.owed = self.owed, []
        for one in owed:
            if self._update_has_all:
                continue
            new = self.order(now_s, one.why, version=one.version if self.keeps_versions else self.version)
            if new is None:
                self.owed.append(one)
            else:
                new.stands_for = one.stands_for

    @property
    def _update_has_all(self) -> bool:
        """Whether as many as the update under way leaves are there or coming: one more would be one too many."""
        if self.updates_to is None or self.keeps_versions:
            return False
        standing_by = 0 if self.standbys is None else self.standbys.standing_by
        new = [one for one in self.of_version(self.version) if not (one.is_draining or one.is_leaving)]
        return len(new) >= self.updates_to + standing_by

    def _try_to_buy(self, replica: Replica, now_s: float) -> None:
        """A tier may be out of stock: then another one meets the order, or it is tried again."""
        replica.is_held_up = True
        for entry in self.mixture.would_meet(replica.entry):
            if not self._is_out(replica, entry):
                self._move(replica, entry)
                replica.is_held_up = False
                self._bought(replica, now_s, on_machine=False)
                return
        again_s = now_s + self.mixture.tier(replica).order_again
        self._agenda.add(again_s, Kind.FAULT, self._try_again, replica.number, replica, counts=False)

    def _is_out(self, replica: Replica, entry: int) -> bool:
        """Whether an order cannot be met by an entry: out of stock, at its most, or it happens to fail."""
        tier = self.mixture.tiers[entry]
        return (
            self.out_of_stock(replica.zone, tier.plain_name)
            or self.mixture.is_full(entry, self.alive())
            or (tier.order_fails > 0 and self.luck.own("stock", replica.number).random() < tier.order_fails)
        )

    def _move(self, replica: Replica, entry: int) -> None:
        """A replica that is coming will be on a machine of this entry."""
        if entry == replica.entry:
            return
        self._count(replica, -1)
        replica.moved_from, replica.entry = replica.entry, entry
        self._count(replica, 1)
        self._newest.add(replica)

    def _try_again(self, now_s: float, replica: Replica) -> None:
        if replica.is_coming and not replica.is_lost:  # else it was cancelled
            self._try_to_buy(replica, now_s)

    def _bought(self, replica: Replica, now_s: float, *, on_machine: bool) -> None:
        replica.bought_s = now_s
        provision, start = self.mixture.tier(replica).provision, self.versions[replica.version].start
        replica.started_s = now_s + (0.0 if on_machine else self._takes_s(provision, "provision", replica.number))
        self._plan_ready(replica, replica.started_s + self._takes_s(start, "start", replica.number))

    def appear(self, now_s: float, why: str) -> None:
        """A replica is there and ready at once."""
        self._changed(now_s, self._appear(now_s, why))

    def _appear(self, now_s: float, why: str, *, warm: bool = False) -> Replica:
        zone = self._placement.zone_of(len(self.replicas) + 1)
        assert zone is not None, "a zone is open"
        replica = self._new(now_s, zone, why, self.version, self.mixture.short())
        replica.bought_s = now_s
        self.detector.begin(replica, now_s)
        self._become_ready(replica, now_s, warm=warm)
        return replica

    def _takes_s(self, delay: Delay, what: Literal["provision", "start"], number: int) -> float:
        return delay.at(0.0 if delay.is_constant else self.luck.of(what, number))

    def cancel(self, replica: Replica, now_s: float, why: str, decision: int | None = None) -> None:
        """A replica on its way, or one that stands by, is not wanted any more: it is gone at once."""
        replica.ended_by = decision
        replica.freed_by = self.release if why == "update" and replica.is_standby else None
        self._gone(replica, now_s, why)

    def drain(self, replica: Replica, now_s: float, why: str, decision: int | None = None) -> None:
        """A ready replica takes nothing new, and is gone when empty or when its time is up; a dead one at once."""
        replica.draining_s, replica.why_gone, replica.ended_by = now_s, why, decision
        replica.freed_by = self.release if why == "update" else None
        stood_by = replica.is_standby
        if self.standbys is not None and replica.is_ready:
            self.standbys.hand_over(replica)
        self._enter(replica, now_s, "draining")
        if stood_by or not replica.is_serving or self._plane.drain(replica.number, now_s):
            self.end_drain(replica.number, now_s)
        elif self._service.drain is not None:
            self.end_drain(replica.number, now_s + self._service.drain)
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
            self._ran_out_of_memory(self.replicas[number - 1], now_s)
        for number in notices.emptied:
            self.end_drain(number, now_s)

    def note_leaving(self, replica: Replica, notice_s: float | None) -> None:
        """Write down when the machine of a replica is taken back; None: it is lost, and another is ordered for it."""
        self._count(replica, -1)
        replica.notice_s, replica.is_replaced = notice_s, notice_s is None
        self._count(replica, 1)

    # -- what goes wrong ---------------------------------------------------------------------------

    def crash(self, replica: Replica, now_s: float, *, detect_s: float | None, why: str) -> None:
        """The process of a replica that can die does; `detect_s`: until the balancer knows, None: as the tier says."""
        if replica.is_draining:
            self.lose_draining(replica, now_s, why)
            return
        detection = self._detection(replica, now_s, detect_s)
        if replica.is_ready:
            self._plane.fail(replica.number, now_s, found=detection.at_s == now_s)
        self._died(replica, now_s, why, detection)
        self._heed_killed(now_s)

    def lose_draining(self, replica: Replica, now_s: float, why: str) -> None:
        """A draining replica dies: it is gone."""
        self.note_death(replica, now_s, why)
        self._plane.fail(replica.number, now_s, found=True)
        self._gone(replica, now_s, replica.why_gone)
        self._changed(now_s, replica)

    def lose_ready(self, replica: Replica, now_s: float, why: str, *, found: bool) -> None:
        """The machine of a replica that works is lost for good; unless it is found the balancer still sends to it."""
        self.note_death(replica, now_s, why)
        if replica.is_ready:
            self._plane.fail(replica.number, now_s, found=found)

    def end(self, replica: Replica, now_s: float, why: str) -> None:
        """A replica is gone at once, whatever it was."""
        self._gone(replica, now_s, why)
        self._changed(now_s, replica)
        self._heed_killed(now_s)

    def note_death(self, replica: Replica, now_s: float, why: str) -> None:
        """A process has died."""
        replica.life += 1
        replica.down.append((now_s, math.inf))
        replica.is_serving = False
        self.deaths.append(Death(now_s, replica.number, why))

    def _detection(self, replica: Replica, died_s: float, detect_s: float | None) -> Detection:
        """When the balancer learns that a process is dead: of this death, or before that of the one before."""
        detection = self.detector.detection(replica, died_s, detect_s)
        if replica.detection is None or detection.at_s < replica.detection.at_s:
            replica.detection = detection
        return replica.detection

    def _died(self, replica: Replica, now_s: float, why: str, detection: Detection) -> None:
        """The process of a ready replica has died: it is started again, and the balancer may learn of it."""
        self.note_death(replica, now_s, why)
        is_found = detection.at_s == now_s
        if not is_found:
            counts = not self.dies_for_ever(replica)
            self._agenda.add(
                detection.at_s, Kind.FAULT, self._detect, replica.number, replica, detection, counts=counts
            )
        if self.mixture.tier(replica).restarts == "at_once":
            self._start_again(replica, now_s)
        if is_found:
            self._found_dead(replica, now_s)

    def _start_again(self, replica: Replica, now_s: float) -> None:
        """A new process starts on the machine of a dead one."""
        start = self.versions[replica.version].start
        z = 0.0 if start.is_constant else float(self.luck.own("restart", replica.number).standard_normal())
        at_s = now_s + start.at(z)
        if replica.detection is None or at_s - replica.detection.at_s > EPSILON_S:  # it is out until it works
            at_s = self.detector.counts_from(replica, at_s)
        process, counts = Process(replica, replica.life), not self.dies_for_ever(replica)
        self._agenda.add(at_s, Kind.READY, self._has_started, replica.number, process, counts=counts)

    def dies_for_ever(self, replica: Replica) -> bool:
        """Whether its processes die one after the other: while only that goes on, nothing is left to happen."""
        return self.versions[replica.version].crashes_after is not None

    def _detect(self, now_s: float, replica: Replica, detection: Detection) -> None:
        """The balancer learns of a death, unless the replica was drained or lost meanwhile, or works again."""
        if not (replica.is_ready or replica.is_standby) or replica.is_lost or replica.detection != detection:
            return
        if replica.is_serving:
            self._take_out(replica, now_s)
        else:
            if replica.is_ready:
                self._plane.withdraw(replica.number, now_s)
            self._found_dead(replica, now_s)
        self._heed_killed(now_s)

    def _found_dead(self, replica: Replica, now_s: float) -> None:
        """The balancer knows: the replica is out until its process works."""
        replica.detection = None
        self._enter(replica, now_s, "coming")
        if self.mixture.tier(replica).restarts == "when_found":
            self._start_again(replica, now_s)
        self._changed(now_s, replica)

    def _take_out(self, replica: Replica, now_s: float) -> None:
        """Too many checks failed, although the process works by now: nothing new is sent there until checks succeed."""
        replica.detection, replica.life = None, replica.life + 1
        if replica.is_ready:
            self._plane.drain(replica.number, now_s)
        self._enter(replica, now_s, "coming")
        again_s = max(now_s, self.detector.counts_from(replica, replica.works_s, after=1))
        process, counts = Process(replica, replica.life), not self.dies_for_ever(replica)
        self._agenda.add(again_s, Kind.READY, self._has_started, replica.number, process, counts=counts)
        self._changed(now_s, replica)

    def _ran_out_of_memory(self, replica: Replica, now_s: float) -> None:
        self._died(replica, now_s, "out_of_memory", self._detection(replica, now_s, None))

    def _heed_killed(self, now_s: float) -> None:
        """By requests that waited, and were handed out."""
        for number in self._plane.take_killed():
            self._ran_out_of_memory(self.replicas[number - 1], now_s)

    # -- from one stage to the next ----------------------------------------------------------------

    def _new(self, now_s: float, zone: str, why: str, version: int, entry: int) -> Replica:
        number = len(self.replicas) + 1
        replica = Replica(number, zone, version, why, ordered_s=now_s, started_s=now_s, entry=entry)
        self.replicas.append(replica)
        self._alive[number] = replica
        self._enter(replica, now_s, "coming")
        for listener in self.order_listeners:
            listener(now_s, replica)
        return replica

    def _plan_ready(self, replica: Replica, works_s: float) -> None:
        """A process works from then on; it counts as ready after as many good checks as the tier wants."""
        at_s = self.detector.counts_from(replica, works_s)
        self._agenda.add(at_s, Kind.READY, self._has_started, replica.number, Process(replica, replica.life))

    def _has_started(self, now_s: float, process: Process) -> None:
        """A process works, and unless nobody has noticed that there was none the balancer sends to it from now on."""
        replica, detection = process.replica, process.replica.detection
        if not process.is_there:  # it was cancelled
            return
        if detection is not None and now_s - detection.unless_s <= EPSILON_S:
            replica.detection = None
        self._become_ready(replica, now_s)
        self._changed(now_s, replica)

    def _become_ready(self, replica: Replica, now_s: float, *, warm: bool = False) -> None:
        if replica.ready_s is None:
            replica.ready_s = now_s
        stands_by = self.standbys is not None and not replica.is_ready
        if stands_by and not replica.is_standby:
            self._enter(replica, now_s, "standby")
        elif not stands_by and not replica.is_ready:
            self._enter(replica, now_s, "ready")
        if not replica.is_serving:
            replica.is_serving, replica.works_s = True, now_s
            if replica.down:
                replica.down[-1] = replica.down[-1][0], now_s
        version = self.versions[replica.version]
        if version.crashes_after is not None and replica.works_s + version.crashes_after >= now_s:
            process, at_s = Process(replica, replica.life), replica.works_s + version.crashes_after
            self._agenda.add(at_s, Kind.FAULT, self._crash_again, replica.number, process, counts=False)
        if not stands_by:
            self._send_to(replica, now_s, warm=warm)

    def serve(self, replica: Replica, now_s: float) -> None:
        """One that stood by serves from now on: it is as cold as one that has just become ready."""
        self._enter(replica, now_s, "ready")
        self._send_to(replica, now_s, warm=False)
        self._changed(now_s, replica)

    def _send_to(self, replica: Replica, now_s: float, *, warm: bool) -> None:
        version = self.versions[replica.version]
        self._plane.add(replica.number, now_s, warm=warm, profile=version.profile, slower=self.slower(replica))
        self._heed_killed(now_s)  # by the requests that were held for it

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
        if self.account is not None:
            self.account.gone(now_s)
        if replica.freed_by == self.release and not (replica.is_reclaimed or replica.is_lost):
            heapq.heappush(self.free_machines, replica.number)

    def _changed(self, now_s: float, replica: Replica) -> None:
        for listener in self.listeners:
            listener(now_s, replica)
