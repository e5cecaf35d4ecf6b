"""One `advance` of the readable data plane, event by event, and what becomes of visits."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np

from libramen.base.errors import ReplayError
from libramen.base.times import tolerance_s
from libramen.engine.border.records import AT_THE_EDGE, N_PARTS, Chunk, Ended, Ending, Results, Signal
from libramen.engine.border.specs import SystemSpec
from libramen.engine.plain.calls import Calls
from libramen.engine.plain.clients import Clients, Repeat
from libramen.engine.plain.places import Regions
from libramen.engine.plain.replica import Replica
from libramen.engine.plain.server import PlainServer
from libramen.engine.plain.visit import Attempt, Errand


class PlainState:
    """A data plane; see `engine.plane.DataPlane` for what each method promises."""

    def __init__(self, spec: SystemSpec, results: Results | None) -> None:
        self.spec = spec
        self.now_s = 0.0
        self.chunk = Chunk(np.zeros(0), np.zeros(0), np.zeros(0), last=False)
        self.edges_s = np.zeros(0)
        self._next = 0  # number of the next request of the trace to arrive
        self._attempts = 0  # that have arrived
        self.n_open = 0  # requests and calls that have not ended; where there are calls, all that is still served
        self._asked_for = -1  # the attempt for which the control plane was last asked for a slot
        self.on_asked: Callable[[int, float], float] = lambda _server, _now_s: math.inf
        self._asked_until_s = math.inf  # the next control event, as it was said within this `advance`
        self.last_s = 0.0  # the instant of the latest event
        self._past_timeouts = False  # of the present instant time-outs come now, or arrivals
        self.clients, self.calls = Clients(spec.seed), Calls(self)
        self._pins: dict[int, tuple[dict[int, tuple[int, int]], Counter[tuple[int, int]]]] = {}
        self.servers = [PlainServer(self, index) for index in range(len(spec.servers))]
        self.regions = Regions(self)
        self._results = results
        self.tally: Callable[[Ended], None] | None = None
        self._ended: list[tuple[float, ...]] = []
        forced = any(server.forced for server in spec.servers)
        self.turns = np.full((len(results) if results is not None and forced else 0, 3), np.nan)

    def pins_of(self, server: int) -> tuple[dict[int, tuple[int, int]], Counter[tuple[int, int]]]:
        """Where visitors of a service are pinned, and from where they had to move: all its regions share it."""
        places = self.spec.places
        return self._pins.setdefault(server if places is None else places.first[server], ({}, Counter()))

    def __getstate__(self) -> dict[str, Any]:
        """All but the trace, and whoever takes what ends."""
        return vars(self) | {"chunk": None, "tally": None}

    # -- one instant after the other ---------------------------------------------------------------

    def hand_in(self, chunk: Chunk, edges_s: np.ndarray) -> None:
        self.chunk, self.edges_s = chunk, edges_s

    def advance(self, until_s: float) -> Signal:
        self._asked_until_s = math.inf
        while True:
            self.regions.note()
            until_s = min(until_s, self._asked_until_s)
            if self.has_notices():
                until_s = min(until_s, self.last_s)
            i = self._next - self.chunk.first
            if i == len(self.chunk.at_s) and not self.chunk.last:
                return Signal.CHUNK
            arrival_s = float(self.chunk.at_s[i]) if i < len(self.chunk.at_s) else math.inf
            completions, banks, timeouts = self._completions(), self._banks(), self.clients.timeouts()
            impatient, repeats = self.calls.impatient(), self.clients.repeats
            times = [[entry[0] for entry in entries] for entries in (completions, banks, timeouts, impatient, repeats)]
            instant_s = min([arrival_s, until_s, *(time for some in times for time in some)])
            limit_s = instant_s + tolerance_s(instant_s)
            due = completions + [(at_s, 0, None) for at_s, *_ in banks]
            self._past_timeouts = not any(entry[0] < limit_s for entry in due) and not until_s < limit_s
            # At one instant: completions in the order of arrival, control, time-outs, calls that wait for a connection
            # no longer, (the control plane is asked for a slot,) arrivals, repeated attempts.
            if any(empties_s < limit_s for empties_s, *_ in banks):
                empties_s, server, replica = min(banks, key=lambda entry: entry[0])
                server.empty_bank(replica, empties_s)
            elif now_due := [entry for entry in completions if entry[0] < limit_s]:
                end_s, _, happen = min(now_due, key=lambda entry: entry[1])
                happen(end_s)
                self.calls.hear_all(end_s)
            elif math.isinf(instant_s):
                return Signal.ENDED
            elif until_s < limit_s:
                self.now_s = until_s
                return Signal.CONTROL
            elif late := [entry for entry in timeouts if entry[0] < limit_s]:
                timeout_s, attempt = min(late, key=lambda entry: entry[1].order)
                self._give_up(attempt, timeout_s)
                self.calls.hear_all(timeout_s)
            elif any(until_s < limit_s for until_s, _ in impatient):
                over = [entry for entry in impatient if entry[0] < limit_s]
                _, call = min(over, key=lambda entry: entry[1].planned)
                self.calls.wait_no_longer(call, min(entry[0] for entry in over))
                self.calls.hear_all(min(entry[0] for entry in over))
            else:
                repeat = None
                if not arrival_s < limit_s:
                    repeat = min((r for r in repeats if r.at_s < limit_s), key=_turn)
                errand = self._request(i) if repeat is None else repeat.errand
                if repeat is None and len(self.chunk.hit) and self.chunk.hit[i]:
                    self._answer_at_the_edge(errand, arrival_s)
                    continue
                at_s = arrival_s if repeat is None else repeat.at_s
                server, finds_none = self.regions.chosen(errand, at_s)
                if self._asked_for != self._attempts and server.lacks_slot():
                    self._asked_for, server.is_asking, self.now_s = self._attempts, True, instant_s
                    return Signal.CONTROL
                if repeat is None:
                    self._next += 1
                    self.n_open += 1
                    self._attempt(server, errand, 1, at_s, finds_none=finds_none)
                else:
                    repeats.remove(repeat)
                    self._attempt(server, errand, repeat.number, at_s, finds_none=finds_none)
                self.calls.hear_all(at_s)

    def _completions(self) -> list[tuple[float, int, Callable[[float], None]]]:
        """What is only a matter of time: running, waiting, answers on their way; when, whose turn, what then."""
        due: list[tuple[float, int, Callable[[float], None]]] = []
        for server in self.servers:
            for replica in server.replicas.values():
                waiting = [attempt for attempt in replica.in_slots if attempt.wait_ends_s is not None]
                due += [
                    (replica.ends_s(attempt), attempt.order, _completing(server, replica, attempt))
                    for attempt in [*replica.running(), *waiting]
                ]
            due += [(a.answered_s, a.order, self._arriving(server, a)) for a in server.on_their_way]
        return due

    def _arriving(self, server: PlainServer, attempt: Attempt) -> Callable[[float], None]:
        def arrive(now_s: float) -> None:
            server.on_their_way.remove(attempt)
            self.last_s = max(self.last_s, now_s)
            if attempt.given_up:
                self._let_go()
            elif attempt.errand.has_ended_as == Ending.ERRORED:
                self.fail(attempt, Ending.ERRORED, attempt.errand.ended_at, now_s)
            else:
                latency_s = max(0.0, now_s - attempt.errand.first_s)
                self.end(attempt, latency_s, Ending.OK, attempt.errand.ended_at, now_s)

        return arrive

    def _banks(self) -> list[tuple[float, PlainServer, Replica]]:
        return [(replica.bank_empties_s(), s, replica) for s in self.servers for replica in s.replicas.values()]

    # -- arrival -----------------------------------------------------------------------------------

    def _request(self, i: int) -> Errand:
        """The next request of the trace, number `i` of the chunk, for the first region of its service."""
        chunk = self.chunk
        server = int(chunk.server[i]) if len(chunk.server) else 0
        return Errand(
            self._next, self.spec.clients[server], server, server, float(chunk.cpu_s[i]), float(chunk.wait_s[i]),
            route=int(chunk.route[i]) if len(chunk.route) else 0,
            visitor=int(chunk.visitor[i]) if len(chunk.visitor) else -1,
            origin=int(chunk.area[i]) if len(chunk.area) else 0,
            bytes_out=float(chunk.bytes_out[i]) if len(chunk.bytes_out) else 0.0,
            given_s=tuple(chunk.given_s[i]) if self.spec.columns else (),
        )  # fmt: skip

    def _answer_at_the_edge(self, request: Errand, now_s: float) -> None:
        """A request meets no fleet."""
        assert self.spec.edge_s is not None
        self._next += 1
        self.last_s = max(self.last_s, now_s)
        timeout_s, overhead_s = request.client.timeout_s, self.servers[request.server].spec.overhead_s
        is_late = self.spec.edge_s > timeout_s + tolerance_s(now_s)
        latency_s, ending = (timeout_s, Ending.TIMED_OUT) if is_late else (self.spec.edge_s, Ending.OK)
        result = (latency_s, 0.0, 0.0, 0, int(ending), 1)
        if self._results is not None:
            self._results.records[request.id] = (*result, AT_THE_EDGE)
        if self.tally is not None:
            more = (request.id, now_s, 0.0, 0.0, request.bytes_out, request.route, 0.0, 0.0)
            way_s = self.spec.edge_s - overhead_s
            self._ended.append((*result, *more, AT_THE_EDGE, request.client_number, way_s, request.origin))

    def send(self, call: Errand, number: int, now_s: float) -> None:
        """A call is sent, within an event."""
        server, finds_none = self.regions.chosen(call, now_s)
        if self._asked_for != self._attempts and server.lacks_slot():
            self._asked_for = self._attempts
            self._asked_until_s = min(self._asked_until_s, self.on_asked(server.index, now_s))
            server, finds_none = self.regions.chosen(call, now_s)  # one that can order nothing is not open
        self._attempt(server, call, number, now_s, finds_none=finds_none)

    def lose_at_the_door(self, attempt: Attempt, now_s: float) -> None:
        """An attempt is sent to a region that is lost: it is too, or hears nothing, and ends by its time-out."""
        server = self.servers[attempt.server]
        for_ever = math.isinf(attempt.errand.client.timeout_s)
        if server.lost == "at_once" or (for_ever and server.is_closed):  # it is found already
            self.fail(attempt, Ending.LOST, 0, now_s)
        elif for_ever:
            server.silent.append(attempt)
        elif self.clients.is_watched(attempt):
            attempt.is_silent = True
        else:
            self.fail(attempt, Ending.TIMED_OUT, 0, now_s)

    def refuse(self, attempt: Attempt, number: int, now_s: float) -> None:
        """A server turns an attempt away: the next region gets it, at once, or it is refused."""
        following = self.regions.next_after(attempt)
        if following is None:
            if attempt.turned_away:  # by all: it counts at the first
                self.servers[attempt.server].lose_count()
                attempt.server, number = attempt.turned_away[0], 0
                self.servers[attempt.server].count(now_s)
            self.fail(attempt, Ending.REFUSED, number, now_s)
            return
        self.servers[attempt.server].lose_count()
        attempt.turned_away.append(attempt.server)
        attempt.server, attempt.finds_none = following.index, False
        if following.lacks_slot():
            self._asked_until_s = min(self._asked_until_s, self.on_asked(following.index, now_s))
        following.get(attempt, now_s)

    def _attempt(self, server: PlainServer, errand: Errand, number: int, now_s: float, *, finds_none: bool) -> None:
        """The balancer gets an attempt."""
        if number == 1:
            errand.first_s = now_s
            self.regions.sent(errand, now_s)
        attempt = Attempt(
            errand, number, now_s, self._attempts, server.index, np.zeros(self.spec.n_parts), finds_none=finds_none
        )
        errand.last = attempt
        self._attempts += 1
        self.last_s = max(self.last_s, now_s)
        self.clients.watch(attempt)
        server.get(attempt, now_s)

    # -- how attempts end --------------------------------------------------------------------------

    def answer(self, attempt: Attempt, ending: Ending, number: int, now_s: float) -> None:
        """It has been served, well or not; its client may have given up long before."""
        if attempt.given_up:
            self._let_go()
            return
        errand, server = attempt.errand, self.servers[attempt.server]
        attempt.trip_s = self.regions.way_s(attempt)
        overhead_s = server.spec.overhead_s + attempt.trip_s
        late = max(0.0, now_s - attempt.at_s) + overhead_s > errand.client.timeout_s + tolerance_s(now_s)
        if not late:
            attempt.ended_s, attempt.has_failed = now_s, ending == Ending.ERRORED
            if ending == Ending.OK:
                server.note_time(attempt, now_s)
        if not errand.is_call:
            if ending == Ending.ERRORED:
                self.fail(attempt, ending, number, now_s + overhead_s)
                return
            if late:
                self.fail(attempt, Ending.TIMED_OUT, number, now_s)
                return
        if ending == Ending.OK:
            server.logged_s.append(max(0.0, now_s - attempt.at_s) + overhead_s)
            if self.spec.spends:
                self._add_up(attempt, server, now_s)
        if errand.is_call:
            errand.has_ended_as, errand.ended_at = int(ending), number
            attempt.answered_s = now_s + overhead_s
            server.on_their_way.append(attempt)
        else:
            self.end(attempt, max(0.0, now_s - errand.first_s) + overhead_s, ending, number, now_s)

    def fail(self, attempt: Attempt, ending: Ending, number: int, now_s: float) -> None:
        """It has failed, at its deadline if that was before: repeat it, or it was the last attempt."""
        if attempt.given_up:
            self._let_go()
            return
        errand, failed_s = attempt.errand, now_s
        timeout_s = errand.client.timeout_s
        # At the very instant of a time-out only what comes before time-outs is in time.
        tolerance = -tolerance_s(now_s) if self._past_timeouts else tolerance_s(now_s)
        if ending == Ending.TIMED_OUT or now_s - attempt.at_s > timeout_s + tolerance:
            ending, failed_s = Ending.TIMED_OUT, attempt.at_s + timeout_s
        elif math.isinf(attempt.ended_s):
            attempt.ended_s, attempt.has_failed = now_s, True
        errand.has_ended_as, errand.ended_at = int(ending), number
        self.clients.unwatch(attempt)
        if attempt.number <= errand.client.retries and not errand.abandoned:
            self.clients.repeat_later(attempt, failed_s)
        else:
            self.end(attempt, max(0.0, failed_s - errand.first_s), ending, number, now_s)

    def _give_up(self, attempt: Attempt, now_s: float) -> None:
        """A client gives up waiting. The server does not know, and goes on with the attempt."""
        self.fail(attempt, Ending.TIMED_OUT, 0, now_s)
        attempt.given_up = True
        if not attempt.is_silent:
            self.n_open += self.spec.has_calls
        self.last_s = max(self.last_s, now_s)

    def _let_go(self) -> None:
        """A visit that nobody waits for is over."""
        self.n_open -= self.spec.has_calls

    def _add_up(self, attempt: Attempt, server: PlainServer, now_s: float) -> None:
        """Where the time of an attempt went that was answered ok; the time of its calls is there already."""
        errand, spec = attempt.errand, server.spec
        assert attempt.slot_at_s is not None
        queued_s = max(0.0, attempt.slot_at_s - attempt.at_s)
        cpu_s = errand.cpu_s / (spec.speed * min(1.0, spec.cores))
        wait_s = self._own_wait_s(attempt)
        in_all_s = max(0.0, now_s - attempt.at_s)
        slowed_s = in_all_s - queued_s - cpu_s - wait_s - attempt.called_s
        first = N_PARTS * self.spec.parts[server.index][0]
        before_s = attempt.at_s - errand.first_s
        attempt.spent_s[first : first + N_PARTS] += [
            before_s, queued_s, cpu_s, slowed_s, attempt.connecting_s, wait_s, spec.overhead_s + attempt.trip_s,
        ]  # fmt: skip
        if not errand.is_call and self._results is not None:
            self._results.spent_s[errand.id] = attempt.spent_s.reshape(-1, N_PARTS)

    def _own_wait_s(self, attempt: Attempt) -> float:
        return attempt.left_s if self.calls.of(attempt.server) else attempt.errand.wait_s

    def end(self, last: Attempt, latency_s: float, ending: Ending, number: int, now_s: float) -> None:
        """The client has seen the last of this errand."""
        self.clients.unwatch(last)
        self.n_open -= 1
        errand = last.errand
        errand.has_ended_as = int(ending)
        has_slot_s = now_s if last.slot_at_s is None else min(now_s, last.slot_at_s)
        queued_s, before_s = max(0.0, has_slot_s - last.at_s), last.at_s - errand.first_s
        result = (latency_s, queued_s, before_s, number, int(ending), last.number)
        if self._results is not None and not errand.is_call:
            self._results.records[errand.id] = (*result, last.server)
        if self.tally is not None:
            wait_s = self._own_wait_s(last) if ending == Ending.OK else errand.wait_s
            more = (errand.first_s, errand.cpu_s, wait_s, errand.bytes_out, errand.route)
            calls = (last.called_s, last.connecting_s) if ending == Ending.OK else (0.0, 0.0)
            trip_s = last.trip_s if ending in {Ending.OK, Ending.ERRORED} else 0.0
            whose = (last.server, errand.client_number, trip_s, errand.origin)
            self._ended.append((*result, errand.id, *more, *calls, *whose))
        if errand.is_call and (errand.caller is not None or errand.connection is not None):
            self.calls.tell(errand)

    def comparable_state(self, ranks: Sequence[Mapping[int, int]], now_s: float) -> list[Any]:  # noqa: ARG002
        raise ReplayError('data_plane: replays on the plain one are not compared; allowed: "compiled"')

    def flush(self) -> None:
        if self._ended and self.tally is not None:
            self.tally(Ended(*(np.array(column) for column in zip(*self._ended, strict=True))))
            self._ended = []

    # -- what the control plane asks ---------------------------------------------------------------

    def has_notices(self) -> bool:
        return any(server.has_notices for server in self.servers)

    def dismiss_held(self, servers: Sequence[int], now_s: float) -> None:
        held: list[Attempt] = []
        for number in servers:
            server = self.servers[number]
            server.integrate(now_s)
            for queue in server.queues:
                held += queue
                queue.clear()
        for attempt in sorted(held, key=lambda attempt: attempt.order):
            finite = math.isfinite(attempt.errand.client.timeout_s)
            self.fail(attempt, Ending.TIMED_OUT if finite else Ending.REFUSED, 0, now_s)
        self.calls.hear_all(now_s)

    def lose(self, servers: Sequence[int], now_s: float) -> None:
        lost: list[tuple[Attempt, int]] = []
        for number in servers:
            lost += self.servers[number].take_all(now_s)
        lost.sort(key=lambda entry: entry[0].order)
        for attempt, _ in lost:
            self.calls.abandon(attempt)
        for attempt, replica in lost:
            self.fail(attempt, Ending.LOST, replica, now_s)
        self.calls.hear_all(now_s)

    def find_silent(self, servers: Sequence[int], now_s: float) -> None:
        silent = [attempt for number in servers for attempt in self.servers[number].silent]
        for number in servers:
            self.servers[number].silent = []
        for attempt in sorted(silent, key=lambda attempt: attempt.order):
            self.fail(attempt, Ending.LOST, 0, now_s)
        self.calls.hear_all(now_s)

    def is_still(self) -> bool:
        due = [*self._completions(), *self.clients.timeouts(), *self.clients.repeats]
        impatient = [at_s for at_s, _ in self.calls.impatient() if math.isfinite(at_s)]
        return self._all_arrived and not due and not impatient

    @property
    def _all_arrived(self) -> bool:
        return self.chunk.last and self._next == self.chunk.first + len(self.chunk.at_s)

    def finished(self) -> bool:
        return self._all_arrived and not self.n_open


def _completing(server: PlainServer, replica: Replica, attempt: Attempt) -> Callable[[float], None]:
    return lambda now_s: server.complete(replica, attempt, now_s)


def _turn(repeat: Repeat) -> tuple[int, int, int]:
    """Of attempts that are repeated at one instant: by request, by place in its tree of calls, as planned."""
    return repeat.errand.id, repeat.errand.place, repeat.planned
