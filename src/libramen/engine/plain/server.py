"""One service of the readable data plane: replicas, queue, measures, and what the control plane asks of it."""

from __future__ import annotations

import math
from collections import deque
from typing import TYPE_CHECKING

import numpy as np

from libramen.base.times import EPSILON_S, tolerance_s
from libramen.engine.border.records import AS_WRITTEN, Ending, Integrals, Notices, Profile, Sample
from libramen.engine.plain.balancer import Balancer, uniforms
from libramen.engine.plain.replica import Replica
from libramen.engine.plain.visit import Attempt

if TYPE_CHECKING:
    from libramen.engine.plain.state import PlainState


class PlainServer:
    """One service; see `engine.plane.Server` for what each method promises."""

    def __init__(self, world: PlainState, index: int) -> None:
        self.world, self.index = world, index
        self.spec = world.spec.servers[index]
        self.replicas: dict[int, Replica] = {}
        self.queues: tuple[deque[Attempt], ...] = (deque(), deque())  # the shared or held queue, of each side
        pins = world.pins_of(index)
        self._moved = pins[1]
        self._balancers = [Balancer(self.spec.balancer, world.spec.seed, index, *pins) for _ in range(2)]
        self._share, self._side, self._split = 0.0, 1, 0  # of attempts that go to that side, and how many were split
        self._slower, self._errors = 1.0, 0.0  # of what visits wait for
        self._judged: int | None = None  # the version of which it is written down how attempts end
        self._by_side = False
        self._sent: list[Attempt] = []
        self._judgement = 0  # so many versions have been judged
        self._timed: list[tuple[float, float, int]] = []  # ok attempts: when each ended, its latency, its judgement
        self.attempts = 0
        self._latest_s, self._at_latest = -math.inf, 0  # the instant of the latest attempt, and how many came then
        self.on_their_way: list[Attempt] = []  # answers to those that called
        self.unsent = 0
        self.emptied: list[int] = []
        self.killed: list[int] = []
        self.idled: list[int] = []
        self.is_asking = self.is_closed = False
        self.lost = ""  # how what is sent to its region is lost: "at_once", or "none": it hears nothing
        self.silent: list[Attempt] = []  # that have heard nothing, and will not give up by themselves
        self.coming_slots: int | None = None  # None: the control plane does not want to be asked for slots
        self.logged_s: list[float] = []  # latencies of the ok answers, each of its own attempt
        self._billed = self._lasted_s = 0.0  # periods of use that are over, each rounded up, and not rounded
        self._series: list[tuple[float, ...]] = []
        self._integrals = [0.0] * 7
        self._integrated_to_s = 0.0

    @property
    def has_notices(self) -> bool:
        return bool(self.emptied or self.killed or self.idled or self.is_asking)

    # -- where an attempt goes ---------------------------------------------------------------------

    def ready(self, side: int | None = None) -> list[Replica]:
        """The replicas that the balancer believes ready, by number; those of one side, or all."""
        ready = [replica for replica in self.replicas.values() if replica.state in {"ready", "dead"}]
        return sorted(
            (replica for replica in ready if side in {None, replica.profile.side}), key=lambda replica: replica.number
        )

    def lacks_slot(self) -> bool:
        """Whether the control plane wants to be asked for a slot, and none is left for one more attempt."""
        if self.coming_slots is None:
            return False
        free = sum(self.spec.slots - len(replica.in_slots) for replica in self.ready())
        return free + self.coming_slots <= self.waiting

    def _choose_side(self) -> int:
        """Which side gets the next attempt: as the split says, unless only the other one has a ready replica."""
        self._split += 1
        before, after = (math.floor(k * self._share + EPSILON_S) for k in (self._split - 1, self._split))
        side = self._side if after > before else 1 - self._side
        return 1 - side if not self.ready(side) and self.ready(1 - side) else side

    def count(self, now_s: float) -> None:
        """One more attempt is its."""
        self.attempts += 1
        if now_s - self._latest_s > tolerance_s(now_s):
            self._latest_s, self._at_latest = now_s, 0
        self._at_latest += 1

    def lose_count(self) -> None:
        """The latest attempt goes on to another region, and is counted there."""
        self.attempts -= 1
        self._at_latest -= 1

    @property
    def is_open(self) -> bool:
        """Whether it takes attempts, as far as is known: a replica is ready, or may come, or it holds them."""
        return not self.is_closed and (bool(self.ready()) or self.coming_slots is not None or self.spec.holds)

    def shut(self, now_s: float, *, lost: str, closed: bool) -> None:
        self.integrate(now_s)
        self.lost, self.is_closed = lost, closed
        self._hand_out(now_s)
        self.world.calls.hear_all(now_s)

    def get(self, attempt: Attempt, now_s: float) -> None:
        """The balancer gets an attempt."""
        self.integrate(now_s)
        self.count(now_s)
        attempt.side = side = self._choose_side()
        spec, ready, queue = self.spec, self.ready(side), self.queues[side]
        if self._by_side and self._judged is not None and side == self._side:
            self._sent.append(attempt)
        if attempt.finds_none:
            self.world.refuse(attempt, 0, now_s)
            return
        if self.lost:
            self.world.lose_at_the_door(attempt, now_s)
            return
        if not ready and not spec.holds:
            self.world.refuse(attempt, 0, now_s)
            return
        room = [replica for replica in ready if replica.has_room()]
        if spec.queues and (queue or not room):
            if spec.queue_limit < 0 or self.held < spec.queue_limit:
                queue.append(attempt)
            else:
                self.world.refuse(attempt, 0, now_s)
        else:
            self._put(self._balancers[side].choose(room if spec.queues else ready, attempt), attempt, now_s)

    def _put(self, replica: Replica, attempt: Attempt, now_s: float) -> None:
        """A replica gets a visit: into a slot, into its backlog, or refused."""
        is_full = replica.state != "dead" and not replica.has_room()
        if not self._by_side and replica.profile.version == self._judged and not (is_full and self.spec.spills):
            self._sent.append(attempt)
        if replica.state == "dead":
            self.world.fail(attempt, Ending.LOST, replica.number, now_s)
        elif replica.has_free_slot():
            if replica.lacks_memory():
                self._kill(replica, now_s)
                self.world.fail(attempt, Ending.LOST, replica.number, now_s)
                self._move_over(now_s)
            else:
                self._take_slot(replica, attempt, now_s)
        elif replica.has_room():
            replica.backlog.append(attempt)
        else:
            self.world.refuse(attempt, replica.number, now_s)

    # -- service -----------------------------------------------------------------------------------

    def _take_slot(self, replica: Replica, attempt: Attempt, now_s: float) -> None:
        replica.catch_up(now_s)
        if replica.begin_s is None or now_s - replica.end_s > tolerance_s(now_s):
            # A slot that is freed and taken at one instant does not end a period of use.
            self._bill(replica, now_s)
            replica.begin_s = now_s
        replica.end_s = math.inf
        attempt.slot_at_s, attempt.replica = now_s, replica
        has_work = attempt.errand.cpu_s > 0
        if not has_work and self._errs(replica, attempt):
            attempt.fails, attempt.wait_ends_s = True, now_s
        elif not has_work and not self.world.calls.of(self.index):
            self.start_wait(attempt, now_s)
        attempt.is_calling = not has_work and attempt.wait_ends_s is None
        replica.in_slots.append(attempt)
        replica.start_turns(now_s)
        if attempt.is_calling:
            self.world.calls.begin(attempt, now_s)

    def start_wait(self, attempt: Attempt, now_s: float) -> None:
        """Its CPU work is over, and its calls."""
        attempt.is_calling = False
        wait_s = attempt.left_s if self.world.calls.of(self.index) else attempt.errand.wait_s
        attempt.wait_ends_s = now_s + wait_s * self._slower
        if self.spec.forced:
            attempt.wait_ends_s = max(now_s, wait_s)
            if attempt.turn_at_s is not None:
                self.world.turns[attempt.errand.id] = attempt.turn_at_s, now_s, attempt.done_s / attempt.slower

    def _errs(self, replica: Replica, attempt: Attempt) -> bool:
        """Whether an attempt fails by itself: since its version does, or what it waits for."""
        if not self.spec.errs:
            return False
        errand = attempt.errand
        u, v = uniforms(self.world.spec.seed, "error", errand.id, attempt.lineage, errand.place)
        return u < replica.profile.error_rate or v < self._errors

    def complete(self, replica: Replica, attempt: Attempt, now_s: float) -> None:
        """The CPU work or the wait of a visit is over."""
        self.integrate(now_s)
        replica.catch_up(now_s)
        if attempt.fails or (attempt.wait_ends_s is None and self._errs(replica, attempt)):
            self.leave(replica, attempt, Ending.ERRORED, now_s)
            return
        if attempt.wait_ends_s is None and self.world.calls.of(self.index):
            attempt.is_calling = True
            replica.start_turns(now_s)
            self.world.calls.begin(attempt, now_s)
            return
        if attempt.wait_ends_s is None and (attempt.errand.wait_s > 0 or self.spec.forced):
            self.start_wait(attempt, now_s)
            replica.start_turns(now_s)
            return
        self.leave(replica, attempt, Ending.OK, now_s)

    def leave(self, replica: Replica, attempt: Attempt, ending: Ending, now_s: float) -> None:
        """A visit leaves its slot, answered ok or with an error."""
        self.integrate(now_s)
        attempt.is_calling = False
        replica.in_slots.remove(attempt)
        replica.start_turns(now_s)
        self.world.answer(attempt, ending, replica.number, now_s)
        while replica.backlog and replica.has_free_slot():
            following = replica.backlog.popleft()
            if self._is_dropped(following, now_s):
                self.world.fail(following, Ending.TIMED_OUT, replica.number, now_s)
            else:
                self._take_slot(replica, following, now_s)
        if not replica.in_slots:
            self._end_use(replica, now_s)
        if replica.state == "draining" and not replica.busy:
            self.emptied.append(replica.number)
        self._hand_out(now_s)

    def _is_dropped(self, attempt: Attempt, now_s: float) -> bool:
        """Whether it is past its deadline now that it would take a slot, and such are dropped."""
        return self.spec.drops and now_s - attempt.at_s > attempt.errand.client.timeout_s + tolerance_s(now_s)

    def _hand_out(self, now_s: float) -> None:
        """The shared or held queues move up as long as some replica has room."""
        if self.lost or self.is_closed:
            return
        for side, queue in enumerate(self.queues):
            while queue and (room := [replica for replica in self.ready(side) if replica.has_room()]):
                attempt = queue.popleft()
                if self._is_dropped(attempt, now_s):
                    self.world.fail(attempt, Ending.TIMED_OUT, room[0].number, now_s)
                else:
                    self._put(self._balancers[side].choose(room, attempt), attempt, now_s)

    def _move_over(self, now_s: float) -> None:
        """What waits for a side without a ready replica goes over to the other, if that has one, by arrival."""
        for side, queue in enumerate(self.queues):
            if queue and not self.ready(side) and self.ready(1 - side):
                both = sorted([*queue, *self.queues[1 - side]], key=lambda attempt: attempt.order)
                queue.clear()
                self.queues[1 - side].clear()
                self.queues[1 - side].extend(both)
                self._hand_out(now_s)

    def empty_bank(self, replica: Replica, now_s: float) -> None:
        """A replica has used up the CPU that it had saved."""
        self.integrate(now_s)
        replica.catch_up(now_s)
        replica.bank = 0.0

    def _kill(self, replica: Replica, now_s: float) -> None:
        """A replica dies. The balancer knows at once, or when it is told."""
        replica.catch_up(now_s)
        self._end_all(replica, Ending.LOST, now_s)
        replica.state = "out" if self.spec.detect_s == 0 else "dead"
        self.killed.append(replica.number)

    def _end_all(self, replica: Replica, ending: Ending, now_s: float) -> None:
        """Every visit in a replica ends so, in the order of their arrival. Its connections are gone."""
        inside = sorted([*replica.in_slots, *replica.backlog], key=lambda attempt: attempt.order)
        if replica.in_slots:
            self._end_use(replica, now_s)
        for attempt in inside:
            self.world.calls.abandon(attempt)
        replica.pools = {}
        replica.in_slots.clear()
        replica.backlog.clear()
        for attempt in inside:
            self.world.fail(attempt, ending, replica.number, now_s)

    def take_all(self, now_s: float) -> list[tuple[Attempt, int]]:
        """Everything that it has is lost: attempts, and by which replica, 0: they were held."""
        self.integrate(now_s)
        found: list[tuple[Attempt, int]] = []
        for replica in self.replicas.values():
            replica.catch_up(now_s)
            found += [(attempt, replica.number) for attempt in [*replica.in_slots, *replica.backlog]]
            if replica.in_slots:
                self._end_use(replica, now_s)
            replica.pools = {}
            replica.in_slots.clear()
            replica.backlog.clear()
        places = self.world.spec.places
        if places is None or not places.outlives[self.index]:
            for queue in self.queues:
                found += [(attempt, 0) for attempt in queue]
                queue.clear()
        return found

    # -- what the control plane does ---------------------------------------------------------------

    def add(
        self, number: int, now_s: float, *, warm: bool = False, profile: Profile = AS_WRITTEN, slower: float = 1.0
    ) -> None:
        self.integrate(now_s)
        if number in self.replicas and self.replicas[number].state == "draining":  # it was taken out, and works
            self.replicas[number].state = "ready"
        else:
            self._begin(number, now_s, -math.inf if warm else now_s, profile, slower)
        self._move_over(now_s)
        self._hand_out(now_s)
        self.world.calls.hear_all(now_s)

    def _begin(self, number: int, now_s: float, warms_from_s: float, profile: Profile, slower: float) -> None:
        """A process begins."""
        bank, core_s = self.spec.bank_at_start if self.spec.lends else 1.0, 0.0
        if number in self.replicas:  # it comes again; a bank stands still while its replica is down
            again = self.replicas[number]
            bank, core_s = again.bank, again.core_s
            self._bill(again, now_s)
        self.replicas[number] = Replica(
            self.spec, number, warms_from_s, now_s, bank, profile, slower, core_s=core_s, end_s=now_s
        )

    def drain(self, number: int, now_s: float) -> bool:
        self.integrate(now_s)
        replica = self.replicas[number]
        replica.state = "draining"
        self._move_over(now_s)
        self.world.calls.hear_all(now_s)
        return not replica.busy

    def fail(self, number: int, now_s: float, *, found: bool) -> None:
        self.integrate(now_s)
        replica = self.replicas[number]
        replica.catch_up(now_s)
        self._end_all(replica, Ending.LOST, now_s)
        if replica.state == "ready":
            replica.state = "out" if found else "dead"
            self._move_over(now_s)
            self._hand_out(now_s)
        self.world.calls.hear_all(now_s)

    def withdraw(self, number: int, now_s: float) -> None:
        self.integrate(now_s)
        self.replicas[number].state = "out"
        self._move_over(now_s)
        self.world.calls.hear_all(now_s)

    def remove(self, number: int, now_s: float) -> None:
        if number in self.replicas:
            self.integrate(now_s)
            replica = self.replicas.pop(number)
            self._end_all(replica, Ending.CUT, now_s)
            self._bill(replica, now_s)
            self._move_over(now_s)
            self.world.calls.hear_all(now_s)

    def slow(self, number: int, factor: float) -> None:
        self.replicas[number].slower = factor

    def depend(self, slower: float, errors: float) -> None:
        if not self.spec.forced:
            self._slower, self._errors = slower, errors

    # -- versions ----------------------------------------------------------------------------------

    def split(self, share: float, side: int, now_s: float) -> None:  # noqa: ARG002  (nothing moves by it)
        self._share, self._side, self._split = share, side, 0

    def renew(self, side: int) -> None:
        self._balancers[side].last_chosen = 0

    def judge(self, version: int | None, *, sides: bool) -> None:
        self._judged, self._by_side, self._sent = version, sides, []
        self._judgement += 1

    def judged(self, from_s: float, to_s: float) -> tuple[int, int]:
        ends = [(_end_s(attempt), attempt) for attempt in self._sent]
        self._sent = [attempt for end_s, attempt in ends if end_s > from_s + tolerance_s(to_s)]
        late = [a for end_s, a in ends if _timeout_s(a) < a.ended_s and end_s < to_s - tolerance_s(to_s)]
        seen = [a for end_s, a in ends if not _timeout_s(a) < a.ended_s and end_s < to_s + tolerance_s(to_s)]
        ended = [attempt for attempt in (*late, *seen) if attempt in self._sent]
        return len(ended), sum(attempt.has_failed or attempt in late for attempt in ended)

    def note_time(self, attempt: Attempt, now_s: float) -> None:
        """An ok attempt has ended in time."""
        if self.spec.timed_s:
            is_new = any(sent is attempt for sent in self._sent)
            latency_s = max(0.0, now_s - attempt.at_s) + self.spec.overhead_s + attempt.trip_s
            self._timed.append((now_s, latency_s, self._judgement if is_new else 0))

    def timed(self, from_s: float, to_s: float) -> tuple[np.ndarray, np.ndarray]:
        within = [entry for entry in self._timed if entry[0] > from_s + tolerance_s(to_s)]
        new = [latency_s for _, latency_s, judgement in within if judgement == self._judgement]
        return np.array(new), np.array([took_s for _, took_s, judgement in within if judgement != self._judgement])

    def take_notices(self) -> Notices | None:
        notices = Notices(self.emptied, self.killed, self.idled, self.is_asking)
        self.emptied, self.killed, self.idled, self.is_asking = [], [], [], False
        return notices if any(notices) else None

    def take_killed(self) -> list[int]:
        killed, self.killed = self.killed, []
        return killed

    @property
    def held(self) -> int:
        return sum(len(queue) for queue in self.queues)

    def moved(self) -> np.ndarray:
        mine = {number: moved for (server, number), moved in self._moved.items() if server == self.index}
        counts = np.zeros(1 + max(mine, default=0), np.int64)
        for number, moved in mine.items():
            counts[number] = moved
        return counts

    # -- scaling on arrival, and use ---------------------------------------------------------------

    def ask(self, coming_slots: int | None) -> None:
        self.coming_slots = coming_slots

    def idle_since_s(self, number: int) -> float:
        return self.replicas[number].end_s

    def tell_idle(self, number: int) -> None:
        self.replicas[number].tells = True

    def _end_use(self, replica: Replica, now_s: float) -> None:
        replica.end_s = now_s
        if replica.tells:
            replica.tells = False
            self.idled.append(replica.number)

    def _bill(self, replica: Replica, now_s: float) -> None:
        """The latest period of use of a replica is over."""
        self._billed += replica.use(now_s)
        self._lasted_s += replica.lasted_s(now_s)

    def billed(self, at_s: float) -> float:
        return self._billed + sum(replica.use(at_s) for replica in self.replicas.values())

    def lasted_s(self, at_s: float) -> float:
        return self._lasted_s + sum(replica.lasted_s(at_s) for replica in self.replicas.values())

    # -- measures ----------------------------------------------------------------------------------

    @property
    def waiting(self) -> int:
        return self.held + sum(len(r.backlog) for r in self.replicas.values() if r.state == "ready")

    def sample(self, at_s: float) -> Sample:
        before = self.attempts - (self._at_latest if at_s - self._latest_s < tolerance_s(at_s) else 0)
        return Sample(*self.integrals(at_s)[:3], before, len(self.logged_s))

    def answers(self, first: int, last: int) -> np.ndarray:
        return np.array(self.logged_s[first:last])

    def core_s(self, number: int, at_s: float) -> float:
        if number not in self.replicas:
            return 0.0
        replica = self.replicas[number]
        return replica.core_s + max(0.0, at_s - replica.worked_to_s) * replica.used()

    def _levels(self) -> list[float]:
        """What is in use and waiting now, over the ready replicas and over all, as in `Integrals`."""
        levels = [0.0, 0.0, self.held, 0.0, 0.0, self.held, 0.0]
        for replica in self.replicas.values():
            for k, level in enumerate((replica.used(), len(replica.in_slots), len(replica.backlog))):
                levels[3 + k] += level
                levels[k] += level if replica.state == "ready" else 0
            earned = self.spec.steady_cores
            levels[6] += earned < self.spec.cores and replica.bank <= 0 and len(replica.running()) > earned
        return levels

    def integrate(self, now_s: float) -> None:
        """Bring the integrals up to date, before a level changes; write them down at the edges passed."""
        edges_s = self.world.edges_s
        while len(self._series) < len(edges_s) and edges_s[len(self._series)] <= now_s:
            self._series.append(self.integrals(edges_s[len(self._series)])[3:])
        self._integrals = list(self.integrals(now_s))
        self._integrated_to_s = max(self._integrated_to_s, now_s)
        self.world.last_s = max(self.world.last_s, now_s)

    def integrals(self, at_s: float) -> Integrals:
        passed_s = max(0.0, at_s - self._integrated_to_s)
        return Integrals(
            *(so_far + passed_s * level for so_far, level in zip(self._integrals, self._levels(), strict=True))
        )

    def series(self) -> np.ndarray:
        rest = self.world.edges_s[len(self._series) :]
        return np.array([*self._series, *(self.integrals(edge_s)[3:] for edge_s in rest)])


def _timeout_s(attempt: Attempt) -> float:
    return attempt.at_s + attempt.errand.client.timeout_s


def _end_s(attempt: Attempt) -> float:
    """When an attempt ended for whoever judges its version; infinity: it has not."""
    return min(attempt.ended_s, _timeout_s(attempt))
