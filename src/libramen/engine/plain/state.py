"""One `advance` of the readable data plane, event by event, and what the control plane asks of it."""

from __future__ import annotations

import math
from collections import deque
from typing import TYPE_CHECKING

import numpy as np

from libramen.engine.plain.balancer import Balancer
from libramen.engine.plain.clients import Clients
from libramen.engine.plain.replica import Attempt, Replica, Request
from libramen.engine.plane import Chunk, Ended, Ending, Integrals, Notices, Results, Sample, ServerSpec, Signal
from libramen.times import tolerance_s

if TYPE_CHECKING:
    from collections.abc import Callable


class PlainState:
    """A data plane; see `engine.plane.DataPlane` for what each method promises."""

    def __init__(self, spec: ServerSpec, results: Results | None, tally: Callable[[Ended], None] | None = None) -> None:
        self.spec = spec
        self.now_s = 0.0
        self._chunk = Chunk(np.zeros(0), np.zeros(0), np.zeros(0), last=False)
        self._next = 0  # number of the next request of the trace to arrive
        self._attempts = 0  # that have arrived
        self._open = 0  # requests that have arrived and not ended
        self._replicas: dict[int, Replica] = {}
        self._held: deque[Attempt] = deque()  # the shared or held queue
        self._clients, self._balancer = Clients(spec), Balancer(spec)
        self._emptied: list[int] = []
        self._killed: list[int] = []
        self._idled: list[int] = []
        self._coming_slots: int | None = None  # None: the control plane does not want to be asked for slots
        self._asked_for = -1  # the attempt for which it was asked last
        self._asks = False
        self._answers: list[float] = []  # latencies of the ok answers, each of its own attempt
        self._billed = 0.0  # periods of use that are over, each rounded up
        self._edges_s = np.zeros(0)
        self._series: list[tuple[float, ...]] = []
        self._integrals = [0.0] * 7
        self.last_s = 0.0  # the instant of the latest event: the integrals are up to date to it
        self._results, self._tally = results, tally
        self._ended: list[tuple[float, ...]] = []
        self.turns = np.full((len(results) if results is not None and spec.forced else 0, 3), np.nan)

    # -- one instant after the other ---------------------------------------------------------------

    def hand_in(self, chunk: Chunk, edges_s: np.ndarray) -> None:
        self._chunk, self._edges_s = chunk, edges_s

    def advance(self, until_s: float) -> Signal:
        while True:
            if self._emptied or self._killed or self._idled:
                until_s = min(until_s, self.last_s)
            i = self._next - self._chunk.first
            if i == len(self._chunk.at_s) and not self._chunk.last:
                return Signal.CHUNK
            arrival_s = float(self._chunk.at_s[i]) if i < len(self._chunk.at_s) else math.inf
            completions = [(replica.ends_s(a), a.order, replica, a) for replica, a in self._active()]
            banks = [(replica.bank_empties_s(), replica) for replica in self._replicas.values()]
            timeouts = self._clients.timeouts()
            times = [
                [entry[0] for entry in entries] for entries in (completions, banks, timeouts, self._clients.repeats)
            ]
            instant_s = min([arrival_s, until_s, *(time for some in times for time in some)])
            limit_s = instant_s + tolerance_s(instant_s)
            # At one instant: completions in the order of arrival, control, time-outs, (the control plane is asked
            # for a slot,) arrivals, repeated attempts.
            if any(empties_s < limit_s for empties_s, _ in banks):
                self._empty_bank(*min(banks, key=lambda entry: entry[0]))
            elif now_due := [entry for entry in completions if entry[0] < limit_s]:
                end_s, _, replica, attempt = min(now_due, key=lambda entry: entry[1])
                self._complete(replica, attempt, end_s)
            elif math.isinf(instant_s):
                return Signal.ENDED
            elif until_s < limit_s:
                self.now_s = until_s
                return Signal.CONTROL
            elif any(timeout_s < limit_s for timeout_s, _ in timeouts):
                self._clients.give_up(min(timeouts, key=lambda entry: entry[0])[1])
            elif self._asked_for != self._attempts and self._lacks_slot():
                self._asked_for, self._asks, self.now_s = self._attempts, True, instant_s
                return Signal.CONTROL
            elif arrival_s < limit_s:
                self._arrive(i, arrival_s)
            else:
                self._repeat(min((r for r in self._clients.repeats if r[0] < limit_s), key=lambda entry: entry[1].id))

    def _active(self) -> list[tuple[Replica, Attempt]]:
        """Those whose next step is only a matter of time: running or waiting, in a slot."""
        return [
            (replica, attempt)
            for replica in self._replicas.values()
            for attempt in [*replica.running(), *(a for a in replica.in_slots if a.wait_ends_s is not None)]
        ]

    def _empty_bank(self, now_s: float, replica: Replica) -> None:
        self._integrate(now_s)
        replica.work(now_s)
        replica.bank = 0.0

    # -- arrival -----------------------------------------------------------------------------------

    def _arrive(self, i: int, now_s: float) -> None:
        chunk = self._chunk
        more = (int(chunk.route[i]), float(chunk.bytes_out[i])) if self._results is None else ()
        request = Request(self._next, now_s, float(chunk.cpu_s[i]), float(chunk.wait_s[i]), *more)
        self._next += 1
        self._open += 1
        self._send(request, 1, now_s)

    def _repeat(self, due: tuple[float, Request, int]) -> None:
        self._clients.repeats.remove(due)
        now_s, request, number = due
        self._send(request, number, now_s)

    def _send(self, request: Request, number: int, now_s: float) -> None:
        """The balancer gets an attempt."""
        self._integrate(now_s)
        attempt = Attempt(request, number, now_s, self._attempts)
        self._attempts += 1
        self._clients.sent(attempt)
        spec, ready = self.spec, self._ready()
        if not ready and not spec.holds_requests:
            self._fail(attempt, Ending.REFUSED, 0, now_s)
            return
        room = [replica for replica in ready if replica.has_room()]
        if (spec.holds_requests or spec.balancer == "shared_queue") and (self._held or not room):
            if spec.queue_limit < 0 or len(self._held) < spec.queue_limit:
                self._held.append(attempt)
            else:
                self._fail(attempt, Ending.REFUSED, 0, now_s)
        else:
            self._put(self._balancer.choose(room if spec.holds_requests else ready, attempt), attempt, now_s)

    def _ready(self) -> list[Replica]:
        """The replicas that the balancer believes ready, by number."""
        ready = [replica for replica in self._replicas.values() if replica.state in {"ready", "dead"}]
        return sorted(ready, key=lambda replica: replica.number)

    def _put(self, replica: Replica, attempt: Attempt, now_s: float) -> None:
        """A replica gets a request: into a slot, into its backlog, or refused."""
        spec = self.spec
        if replica.state == "dead":
            self._fail(attempt, Ending.LOST, replica.number, now_s)
        elif len(replica.in_slots) < spec.slots:
            memory = spec.memory_base + spec.memory_per_request * (len(replica.in_slots) + 1)
            if 0 <= spec.memory < memory:
                self._fail(attempt, Ending.LOST, replica.number, now_s)
                self._kill(replica, now_s)
            else:
                self._take_slot(replica, attempt, now_s)
        elif replica.has_room():
            replica.backlog.append(attempt)
        else:
            self._fail(attempt, Ending.REFUSED, replica.number, now_s)

    # -- service -----------------------------------------------------------------------------------

    def _take_slot(self, replica: Replica, attempt: Attempt, now_s: float) -> None:
        replica.work(now_s)
        if replica.begin_s is None or now_s - replica.end_s > tolerance_s(now_s):
            # A slot that is freed and taken at one instant does not end a period of use.
            self._billed += replica.use(now_s)
            replica.begin_s = now_s
        replica.end_s = math.inf
        attempt.slot_at_s = now_s
        if attempt.request.cpu_s == 0:
            self._start_wait(attempt, now_s)
        replica.in_slots.append(attempt)
        replica.start_turns(now_s)

    def _start_wait(self, attempt: Attempt, now_s: float) -> None:
        """Its CPU work is over."""
        attempt.wait_ends_s = now_s + attempt.request.wait_s
        if self.spec.forced:
            attempt.wait_ends_s = max(now_s, attempt.request.wait_s)
            if attempt.turn_at_s is not None:
                self.turns[attempt.request.id] = attempt.turn_at_s, now_s, attempt.done_s / attempt.slower

    def _complete(self, replica: Replica, attempt: Attempt, now_s: float) -> None:
        self._integrate(now_s)
        replica.work(now_s)
        if attempt.wait_ends_s is None and (attempt.request.wait_s > 0 or self.spec.forced):
            self._start_wait(attempt, now_s)
            replica.start_turns(now_s)
            return
        replica.in_slots.remove(attempt)
        replica.start_turns(now_s)
        self._answer(attempt, replica.number, now_s)
        while replica.backlog and len(replica.in_slots) < self.spec.slots:
            following = replica.backlog.popleft()
            if self._is_dropped(following, now_s):
                self._fail(following, Ending.TIMED_OUT, replica.number, now_s)
            else:
                self._take_slot(replica, following, now_s)
        if not replica.in_slots:
            self._end_use(replica, now_s)
        self._hand_out(now_s)
        if replica.state == "draining" and not replica.busy:
            self._emptied.append(replica.number)

    def _is_dropped(self, attempt: Attempt, now_s: float) -> bool:
        """Whether it is past its deadline now that it would take a slot, and such are dropped."""
        return self.spec.drops and now_s - attempt.at_s > self.spec.timeout_s + tolerance_s(now_s)

    def _hand_out(self, now_s: float) -> None:
        """The shared or held queue moves up as long as some replica has room."""
        while self._held and (room := [replica for replica in self._ready() if replica.has_room()]):
            attempt = self._held.popleft()
            slot_is_free = any(len(replica.in_slots) < self.spec.slots for replica in room)
            if slot_is_free and self._is_dropped(attempt, now_s):
                self._fail(attempt, Ending.TIMED_OUT, room[0].number, now_s)
            else:
                self._put(self._balancer.choose(room, attempt), attempt, now_s)

    def _kill(self, replica: Replica, now_s: float) -> None:
        """A replica dies. The balancer knows at once, or when it is told."""
        replica.work(now_s)
        self._end_all(replica, Ending.LOST, now_s)
        replica.state = "out" if self.spec.detect_s == 0 else "dead"
        self._killed.append(replica.number)

    def _end_all(self, replica: Replica, ending: Ending, now_s: float) -> None:
        inside = [*replica.in_slots, *replica.backlog]
        if replica.in_slots:
            self._end_use(replica, now_s)
        replica.in_slots.clear()
        replica.backlog.clear()
        for attempt in inside:
            self._fail(attempt, ending, replica.number, now_s)

    # -- the client --------------------------------------------------------------------------------

    def _answer(self, attempt: Attempt, number: int, now_s: float) -> None:
        """It has been served; its client may have given up long before."""
        if attempt.given_up:
            return
        if max(0.0, now_s - attempt.at_s) + self.spec.overhead_s > self.spec.timeout_s + tolerance_s(now_s):
            self._fail(attempt, Ending.TIMED_OUT, number, now_s)
        else:
            overhead_s = self.spec.overhead_s
            self._answers.append(max(0.0, now_s - attempt.at_s) + overhead_s)
            self._end(attempt, max(0.0, now_s - attempt.request.first_s) + overhead_s, Ending.OK, number, now_s)

    def _fail(self, attempt: Attempt, ending: Ending, number: int, now_s: float) -> None:
        """It has failed, at its deadline if that was before: repeat the request, or it was the last attempt."""
        if attempt.given_up:
            return
        failed_s = now_s
        if ending == Ending.TIMED_OUT or now_s - attempt.at_s > self.spec.timeout_s + tolerance_s(now_s):
            ending, failed_s = Ending.TIMED_OUT, attempt.at_s + self.spec.timeout_s
        if attempt.number <= self.spec.retries:
            self._clients.repeat_later(attempt, failed_s)
        else:
            self._end(attempt, max(0.0, failed_s - attempt.request.first_s), ending, number, now_s)

    def _end(self, attempt: Attempt, latency_s: float, ending: Ending, number: int, now_s: float) -> None:
        """The user has seen the last of this request."""
        self._clients.forget(attempt)
        self._open -= 1
        request = attempt.request
        has_slot_s = now_s if attempt.slot_at_s is None else attempt.slot_at_s
        queued_s, before_s = max(0.0, has_slot_s - attempt.at_s), attempt.at_s - request.first_s
        result = (latency_s, queued_s, before_s, number, int(ending), attempt.number)
        if self._results is not None:
            self._results.records[request.id] = (*result, 0)
        else:
            more = (request.first_s, request.cpu_s, request.wait_s, request.bytes_out, request.route)
            self._ended.append((*result, request.id, *more))

    def flush(self) -> None:
        if self._ended and self._tally is not None:
            self._tally(Ended(*(np.array(column) for column in zip(*self._ended, strict=True))))
            self._ended = []

    # -- what the control plane does ---------------------------------------------------------------

    def add(self, number: int, now_s: float, *, warm: bool = False) -> None:
        self._integrate(now_s)
        bank, core_s = self.spec.bank_at_start if self.spec.lends_cpu else 1.0, 0.0
        if number in self._replicas:  # it comes again; a bank stands still while its replica is down
            again = self._replicas[number]
            bank, core_s = again.bank, again.core_s
            self._billed += again.use(now_s)
        self._replicas[number] = Replica(
            self.spec, number, -math.inf if warm else now_s, worked_to_s=now_s, bank=bank, core_s=core_s, end_s=now_s
        )
        self._hand_out(now_s)

    def drain(self, number: int, now_s: float) -> bool:
        self._integrate(now_s)
        replica = self._replicas[number]
        replica.state = "draining"
        return not replica.busy

    def withdraw(self, number: int, now_s: float) -> None:
        self._integrate(now_s)
        self._replicas[number].state = "out"

    def remove(self, number: int, now_s: float) -> None:
        if number in self._replicas:
            self._integrate(now_s)
            replica = self._replicas.pop(number)
            self._end_all(replica, Ending.CUT, now_s)
            self._billed += replica.use(now_s)

    def dismiss_held(self, now_s: float) -> None:
        self._integrate(now_s)
        held, self._held = self._held, deque()
        for attempt in held:
            ending = Ending.TIMED_OUT if math.isfinite(self.spec.timeout_s) else Ending.REFUSED
            self._fail(attempt, ending, 0, now_s)

    def take_notices(self) -> Notices | None:
        notices = Notices(self._emptied, self._killed, self._idled, self._asks)
        self._emptied, self._killed, self._idled, self._asks = [], [], [], False
        return notices if any(notices) else None

    def take_killed(self) -> list[int]:
        killed, self._killed = self._killed, []
        return killed

    @property
    def held(self) -> int:
        return len(self._held)

    def finished(self) -> bool:
        all_arrived = self._chunk.last and self._next == self._chunk.first + len(self._chunk.at_s)
        return all_arrived and not self._open

    # -- scaling on arrival, and use ---------------------------------------------------------------

    def ask(self, coming_slots: int | None) -> None:
        self._coming_slots = coming_slots

    def _lacks_slot(self) -> bool:
        """Whether the control plane wants to be asked for a slot, and none is left for one more attempt."""
        if self._coming_slots is None:
            return False
        free = sum(self.spec.slots - len(replica.in_slots) for replica in self._ready())
        return free + self._coming_slots <= self.waiting

    def idle_since_s(self, number: int) -> float:
        return self._replicas[number].end_s

    def tell_idle(self, number: int) -> None:
        self._replicas[number].tells = True

    def _end_use(self, replica: Replica, now_s: float) -> None:
        replica.end_s = now_s
        if replica.tells:
            replica.tells = False
            self._idled.append(replica.number)

    def billed(self, at_s: float) -> float:
        return self._billed + sum(replica.use(at_s) for replica in self._replicas.values())

    # -- measures ----------------------------------------------------------------------------------

    @property
    def waiting(self) -> int:
        return len(self._held) + sum(len(r.backlog) for r in self._replicas.values() if r.state == "ready")

    def sample(self, at_s: float) -> Sample:
        return Sample(*self.integrals(at_s)[:3], self._attempts, len(self._answers))

    def answers(self, first: int, last: int) -> np.ndarray:
        return np.array(self._answers[first:last])

    def core_s(self, number: int, at_s: float) -> float:
        if number not in self._replicas:
            return 0.0
        replica = self._replicas[number]
        return replica.core_s + max(0.0, at_s - replica.worked_to_s) * replica.used()

    def _levels(self) -> list[float]:
        """What is in use and waiting now, over the ready replicas and over all, as in `Integrals`."""
        levels = [0.0, 0.0, len(self._held), 0.0, 0.0, len(self._held), 0.0]
        for replica in self._replicas.values():
            for k, level in enumerate((replica.used(), len(replica.in_slots), len(replica.backlog))):
                levels[3 + k] += level
                levels[k] += level if replica.state == "ready" else 0
            earned = self.spec.steady_cores
            levels[6] += earned < self.spec.cores and replica.bank <= 0 and len(replica.running()) > earned
        return levels

    def _integrate(self, now_s: float) -> None:
        """Bring the integrals up to date, before a level changes; write them down at the edges passed."""
        while len(self._series) < len(self._edges_s) and self._edges_s[len(self._series)] <= now_s:
            self._series.append(self.integrals(self._edges_s[len(self._series)])[3:])
        self._integrals = list(self.integrals(now_s))
        self.last_s = max(self.last_s, now_s)

    def integrals(self, at_s: float) -> Integrals:
        passed_s = max(0.0, at_s - self.last_s)
        return Integrals(
            *(so_far + passed_s * level for so_far, level in zip(self._integrals, self._levels(), strict=True))
        )

    def series(self) -> np.ndarray:
        rest = self._edges_s[len(self._series) :]
        return np.array([*self._series, *(self.integrals(edge_s)[3:] for edge_s in rest)])
