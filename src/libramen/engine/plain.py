"""The data plane in readable Python: the executable form of the model.

It is slow, and has no cleverness on purpose: every list is scanned, every event looks at everything.
`kernel` must agree with it on every request. Read this file to learn what a replay means.
"""

from __future__ import annotations

import math
from collections import deque
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Literal

import numpy as np

from libramen import streams
from libramen.engine.plane import Chunk, Ended, Ending, Integrals, Notices, Results, Sample, ServerSpec, Signal
from libramen.times import EPSILON_S, tolerance_s

if TYPE_CHECKING:
    from collections.abc import Callable


@dataclass(frozen=True)
class _Request:
    """A request of the trace. A copy, so that it outlives its chunk."""

    id: int
    first_s: float
    cpu_s: float
    wait_s: float
    route: int = 0
    bytes_out: float = 0.0


@dataclass(eq=False)
class _Attempt:
    """One attempt of a request: what the balancer and a replica deal with."""

    request: _Request
    number: int  # 1 for the first
    at_s: float  # its own arrival
    order: int  # among all attempts, by arrival
    given_up: bool = False  # its client has gone and sends the request again: no client waits for this one
    slot_at_s: float | None = None  # when it took its slot
    cpu_left_s: float | None = None  # CPU work still to do on a core of speed 1; None before its first turn
    wait_ends_s: float | None = None  # None while it has CPU work to do


@dataclass(eq=False)
class _Replica:
    """A replica that has been ready and is not gone."""

    number: int
    ready_s: float  # since then it warms up; -infinity: it is warm
    worked_to_s: float  # the CPU work of its requests and its bank are up to date to this instant
    bank: float  # core-seconds
    state: Literal["ready", "draining", "dead", "out"] = "ready"  # dead: the balancer does not know yet
    in_slots: list[_Attempt] = field(default_factory=list)  # in the order in which they took their slots
    backlog: deque[_Attempt] = field(default_factory=deque)
    core_s: float = 0.0  # cores in use integrated up to `worked_to_s` [core-seconds]
    begin_s: float | None = None  # of its latest period of use, None: there was none since it became ready
    end_s: float = math.inf  # of that, infinity: it goes on; without one, when it became ready
    tells: bool = False  # when it becomes idle

    @property
    def busy(self) -> int:
        return len(self.in_slots) + len(self.backlog)


class PlainState:
    """A data plane; see `engine.plane.DataPlane` for what each method promises."""

    def __init__(self, spec: ServerSpec, results: Results | None, tally: Callable[[Ended], None] | None = None) -> None:
        self.spec = spec
        self.now_s = 0.0
        self._chunk = Chunk(np.zeros(0), np.zeros(0), np.zeros(0), last=False)
        self._next = 0  # number of the next request of the trace to arrive
        self._attempts = 0  # that have arrived
        self._open = 0  # requests that have arrived and not ended
        self._replicas: dict[int, _Replica] = {}
        self._held: deque[_Attempt] = deque()  # the shared or held queue
        self._clients: list[_Attempt] = []  # attempts that may be repeated and whose clients still wait
        self._repeats: list[tuple[float, _Request, int]] = []  # when, of what, number of the attempt
        self._last_chosen = 0  # for round robin
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
            completions = [(self._ends_s(replica, a), a.order, replica, a) for replica, a in self._active()]
            banks = [(self._bank_empties_s(replica), replica) for replica in self._replicas.values()]
            timeouts = [(attempt.at_s + self.spec.timeout_s, attempt) for attempt in self._clients]
            times = [[entry[0] for entry in entries] for entries in (completions, banks, timeouts, self._repeats)]
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
                self._give_up(min(timeouts, key=lambda entry: entry[0])[1])
            elif self._asked_for != self._attempts and self._lacks_slot():
                self._asked_for, self._asks, self.now_s = self._attempts, True, instant_s
                return Signal.CONTROL
            elif arrival_s < limit_s:
                self._arrive(i, arrival_s)
            else:
                self._repeat(min((r for r in self._repeats if r[0] < limit_s), key=lambda entry: entry[1].id))

    def _running(self, replica: _Replica) -> list[_Attempt]:
        """Those that use the CPU now: the first `threads` of those with CPU work, by when they took their slots."""
        return [attempt for attempt in replica.in_slots if attempt.wait_ends_s is None][: self.spec.threads]

    def _active(self) -> list[tuple[_Replica, _Attempt]]:
        """Those whose next step is only a matter of time: running or waiting, in a slot."""
        return [
            (replica, attempt)
            for replica in self._replicas.values()
            for attempt in [*self._running(replica), *(a for a in replica.in_slots if a.wait_ends_s is not None)]
        ]

    def _ends_s(self, replica: _Replica, attempt: _Attempt) -> float:
        """When its CPU work, or its wait, is over if nothing else happens."""
        if attempt.wait_ends_s is not None:
            return attempt.wait_ends_s
        assert attempt.cpu_left_s is not None
        return replica.worked_to_s + attempt.cpu_left_s / self._rate(replica)

    # -- CPU ---------------------------------------------------------------------------------------

    def _cores(self, replica: _Replica) -> float:
        """Cores that a replica has now: all of them, or with an empty bank what it earns."""
        return self.spec.cores if replica.bank > 0 else min(self.spec.cores, self.spec.steady_cores)

    def _used(self, replica: _Replica) -> float:
        """Cores in use."""
        return min(len(self._running(replica)), self._cores(replica))

    def _rate(self, replica: _Replica) -> float:
        """CPU work that each running request gets done in a second."""
        return self.spec.speed * min(1.0, self._cores(replica) / len(self._running(replica)))

    def _bank_empties_s(self, replica: _Replica) -> float:
        spends = self._used(replica) - self.spec.steady_cores
        return replica.worked_to_s + replica.bank / spends if replica.bank > 0 and spends > 0 else math.inf

    def _empty_bank(self, now_s: float, replica: _Replica) -> None:
        self._integrate(now_s)
        self._work(replica, now_s)
        replica.bank = 0.0

    def _work(self, replica: _Replica, now_s: float) -> None:
        """Bring the CPU work and the bank of a replica up to date, before who runs changes."""
        passed_s = now_s - replica.worked_to_s
        if passed_s <= 0:
            return
        running, used = self._running(replica), self._used(replica)
        replica.core_s += passed_s * used
        done = passed_s * self._rate(replica) if running else 0.0
        for attempt in running:
            assert attempt.cpu_left_s is not None
            attempt.cpu_left_s = max(0.0, attempt.cpu_left_s - done)
        if self.spec.lends_cpu:
            replica.bank += (self.spec.steady_cores - used) * passed_s
            replica.bank = min(max(replica.bank, 0.0), self.spec.bank)
        replica.worked_to_s = now_s

    def _start_turns(self, replica: _Replica, now_s: float) -> None:
        """Those whose CPU turn begins now need more work where the replica is not warm."""
        for attempt in self._running(replica):
            if attempt.cpu_left_s is None:
                attempt.cpu_left_s = attempt.request.cpu_s
                if self.spec.warm_up_s > 0:
                    cold = max(0.0, 1 - (now_s - replica.ready_s) / self.spec.warm_up_s)
                    attempt.cpu_left_s *= 1 + (self.spec.warm_up_factor - 1) * cold

    # -- arrival -----------------------------------------------------------------------------------

    def _arrive(self, i: int, now_s: float) -> None:
        chunk = self._chunk
        more = (int(chunk.route[i]), float(chunk.bytes_out[i])) if self._results is None else ()
        request = _Request(self._next, now_s, float(chunk.cpu_s[i]), float(chunk.wait_s[i]), *more)
        self._next += 1
        self._open += 1
        self._send(request, 1, now_s)

    def _repeat(self, due: tuple[float, _Request, int]) -> None:
        self._repeats.remove(due)
        now_s, request, number = due
        self._send(request, number, now_s)

    def _send(self, request: _Request, number: int, now_s: float) -> None:
        """The balancer gets an attempt."""
        self._integrate(now_s)
        attempt = _Attempt(request, number, now_s, self._attempts)
        self._attempts += 1
        if number <= self.spec.retries and math.isfinite(self.spec.timeout_s):
            self._clients.append(attempt)
        spec, ready = self.spec, self._ready()
        if not ready and not spec.holds_requests:
            self._fail(attempt, Ending.REFUSED, 0, now_s)
            return
        room = [replica for replica in ready if self._has_room(replica)]
        if (spec.holds_requests or spec.balancer == "shared_queue") and (self._held or not room):
            if spec.queue_limit < 0 or len(self._held) < spec.queue_limit:
                self._held.append(attempt)
            else:
                self._fail(attempt, Ending.REFUSED, 0, now_s)
        else:
            self._put(self._choose(room if spec.holds_requests else ready, attempt), attempt, now_s)

    def _ready(self) -> list[_Replica]:
        """The replicas that the balancer believes ready, by number."""
        ready = [replica for replica in self._replicas.values() if replica.state in {"ready", "dead"}]
        return sorted(ready, key=lambda replica: replica.number)

    def _has_room(self, replica: _Replica) -> bool:
        """Whether a replica would take one more; a dead one looks empty."""
        backlog = 0 if self.spec.balancer == "shared_queue" else self.spec.backlog
        return len(replica.in_slots) < self.spec.slots or backlog < 0 or len(replica.backlog) < backlog

    def _choose(self, among: list[_Replica], attempt: _Attempt) -> _Replica:
        """The balancer's rule."""
        balancer = self.spec.balancer
        if balancer == "round_robin":
            later = [replica for replica in among if replica.number > self._last_chosen]
            chosen = (later or among)[0]
            self._last_chosen = chosen.number
            return chosen
        if balancer in {"random", "two_choices"}:
            u, v = self._uniforms("balancer", attempt)
            chosen = among[int(u * len(among))]
            if balancer == "random" or len(among) == 1:
                return chosen
            others = [replica for replica in among if replica is not chosen]
            among = [chosen, others[int(v * len(others))]]
        return min(among, key=lambda replica: (replica.busy, replica.number))

    def _uniforms(self, purpose: str, attempt: _Attempt) -> tuple[float, float]:
        """Two numbers of the attempt's own, uniform in [0, 1)."""
        counter = np.array([0, attempt.request.id, attempt.number, 0], np.uint64)
        stream = np.random.Generator(np.random.Philox(key=streams.key(self.spec.seed, purpose), counter=counter))
        return stream.random(), stream.random()

    def _put(self, replica: _Replica, attempt: _Attempt, now_s: float) -> None:
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
        elif self._has_room(replica):
            replica.backlog.append(attempt)
        else:
            self._fail(attempt, Ending.REFUSED, replica.number, now_s)

    # -- service -----------------------------------------------------------------------------------

    def _take_slot(self, replica: _Replica, attempt: _Attempt, now_s: float) -> None:
        self._work(replica, now_s)
        if replica.begin_s is None or now_s - replica.end_s > tolerance_s(now_s):
            # A slot that is freed and taken at one instant does not end a period of use.
            self._billed += self._use(replica, now_s)
            replica.begin_s = now_s
        replica.end_s = math.inf
        attempt.slot_at_s = now_s
        if attempt.request.cpu_s == 0:
            attempt.wait_ends_s = now_s + attempt.request.wait_s
        replica.in_slots.append(attempt)
        self._start_turns(replica, now_s)

    def _complete(self, replica: _Replica, attempt: _Attempt, now_s: float) -> None:
        self._integrate(now_s)
        self._work(replica, now_s)
        if attempt.wait_ends_s is None and attempt.request.wait_s > 0:
            attempt.wait_ends_s = now_s + attempt.request.wait_s
            self._start_turns(replica, now_s)
            return
        replica.in_slots.remove(attempt)
        self._start_turns(replica, now_s)
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

    def _is_dropped(self, attempt: _Attempt, now_s: float) -> bool:
        """Whether it is past its deadline now that it would take a slot, and such are dropped."""
        return self.spec.drops and now_s - attempt.at_s > self.spec.timeout_s + tolerance_s(now_s)

    def _hand_out(self, now_s: float) -> None:
        """The shared or held queue moves up as long as some replica has room."""
        while self._held and (room := [replica for replica in self._ready() if self._has_room(replica)]):
            attempt = self._held.popleft()
            slot_is_free = any(len(replica.in_slots) < self.spec.slots for replica in room)
            if slot_is_free and self._is_dropped(attempt, now_s):
                self._fail(attempt, Ending.TIMED_OUT, room[0].number, now_s)
            else:
                self._put(self._choose(room, attempt), attempt, now_s)

    def _kill(self, replica: _Replica, now_s: float) -> None:
        """A replica dies. The balancer knows at once, or when it is told."""
        self._work(replica, now_s)
        self._end_all(replica, Ending.LOST, now_s)
        replica.state = "out" if self.spec.detect_s == 0 else "dead"
        self._killed.append(replica.number)

    def _end_all(self, replica: _Replica, ending: Ending, now_s: float) -> None:
        inside = [*replica.in_slots, *replica.backlog]
        if replica.in_slots:
            self._end_use(replica, now_s)
        replica.in_slots.clear()
        replica.backlog.clear()
        for attempt in inside:
            self._fail(attempt, ending, replica.number, now_s)

    # -- the client --------------------------------------------------------------------------------

    def _answer(self, attempt: _Attempt, number: int, now_s: float) -> None:
        """It has been served; its client may have given up long before."""
        if attempt.given_up:
            return
        if max(0.0, now_s - attempt.at_s) + self.spec.overhead_s > self.spec.timeout_s + tolerance_s(now_s):
            self._fail(attempt, Ending.TIMED_OUT, number, now_s)
        else:
            overhead_s = self.spec.overhead_s
            self._answers.append(max(0.0, now_s - attempt.at_s) + overhead_s)
            self._end(attempt, max(0.0, now_s - attempt.request.first_s) + overhead_s, Ending.OK, number, now_s)

    def _fail(self, attempt: _Attempt, ending: Ending, number: int, now_s: float) -> None:
        """It has failed, at its deadline if that was before: repeat the request, or it was the last attempt."""
        if attempt.given_up:
            return
        failed_s = now_s
        if ending == Ending.TIMED_OUT or now_s - attempt.at_s > self.spec.timeout_s + tolerance_s(now_s):
            ending, failed_s = Ending.TIMED_OUT, attempt.at_s + self.spec.timeout_s
        if attempt.number <= self.spec.retries:
            self._repeat_later(attempt, failed_s)
        else:
            self._end(attempt, max(0.0, failed_s - attempt.request.first_s), ending, number, now_s)

    def _give_up(self, attempt: _Attempt) -> None:
        """A client gives up waiting. The server does not know, and goes on with the attempt."""
        attempt.given_up = True
        self._repeat_later(attempt, attempt.at_s + self.spec.timeout_s)

    def _repeat_later(self, attempt: _Attempt, failed_s: float) -> None:
        """The client learns at `failed_s` that an attempt has failed, and sends the next one after a pause."""
        self._forget_client(attempt)
        pause_s = self.spec.retry_after_s * 2 ** (attempt.number - 1)
        if self.spec.retry_jitter > 0:
            pause_s *= 1 + self.spec.retry_jitter * (2 * self._uniforms("retry", attempt)[0] - 1)
        self._repeats.append((failed_s + pause_s, attempt.request, attempt.number + 1))

    def _forget_client(self, attempt: _Attempt) -> None:
        if attempt in self._clients:
            self._clients.remove(attempt)

    def _end(self, attempt: _Attempt, latency_s: float, ending: Ending, number: int, now_s: float) -> None:
        """The user has seen the last of this request."""
        self._forget_client(attempt)
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
            self._billed += self._use(again, now_s)
        self._replicas[number] = _Replica(
            number, -math.inf if warm else now_s, worked_to_s=now_s, bank=bank, core_s=core_s, end_s=now_s
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
            self._billed += self._use(replica, now_s)

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

    def _end_use(self, replica: _Replica, now_s: float) -> None:
        replica.end_s = now_s
        if replica.tells:
            replica.tells = False
            self._idled.append(replica.number)

    def _use(self, replica: _Replica, at_s: float) -> float:
        """For how long the latest period of use is billed: units of the granularity, without one seconds."""
        if replica.begin_s is None:
            return 0.0
        lasted = (min(replica.end_s, at_s) - replica.begin_s) / (self.spec.granularity_s or 1.0)
        is_over = math.isfinite(replica.end_s)
        return math.ceil(lasted - EPSILON_S) if is_over and self.spec.granularity_s else lasted

    def billed(self, at_s: float) -> float:
        return self._billed + sum(self._use(replica, at_s) for replica in self._replicas.values())

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
        return replica.core_s + max(0.0, at_s - replica.worked_to_s) * self._used(replica)

    def _levels(self) -> list[float]:
        """What is in use and waiting now, over the ready replicas and over all, as in `Integrals`."""
        levels = [0.0, 0.0, len(self._held), 0.0, 0.0, len(self._held), 0.0]
        for replica in self._replicas.values():
            for k, level in enumerate((self._used(replica), len(replica.in_slots), len(replica.backlog))):
                levels[3 + k] += level
                levels[k] += level if replica.state == "ready" else 0
            earned = self.spec.steady_cores
            levels[6] += earned < self.spec.cores and replica.bank <= 0 and len(self._running(replica)) > earned
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
