"""Visits that call other services, in the readable data plane: what they send, wait for, and how they go on."""

from __future__ import annotations

import math
from collections import deque
from typing import TYPE_CHECKING

from libramen.engine.border.records import N_PARTS, PARTS, Ending
from libramen.engine.border.specs import ClientSpec
from libramen.engine.plain.balancer import uniforms
from libramen.engine.plain.replica import Pool
from libramen.engine.plain.visit import Attempt, Errand

if TYPE_CHECKING:
    from libramen.engine.plain.state import PlainState

_RETRIED = PARTS.index("retried")


class Calls:
    """How visits call, in a data plane.

    Args:
        world: the data plane.
    """

    def __init__(self, world: PlainState) -> None:
        self._world, self._spec = world, world.spec
        self._news: deque[Errand] = deque()  # calls that have ended, and whose callers have not heard of it

    def of(self, server: int) -> range:
        """Which of the clients are the calls of a service."""
        return self._spec.calls_of(server)

    # -- what a visit sends ------------------------------------------------------------------------

    def begin(self, visit: Attempt, now_s: float) -> None:
        """A visit in its slot has no CPU work left: it makes its calls, within this event."""
        visit.left_s = visit.errand.wait_s
        self._go_on(visit, now_s)

    def _go_on(self, visit: Attempt, now_s: float) -> None:
        """It makes its next calls, waits for those that it has made, or has made all of them."""
        calls = self.of(visit.server)
        while visit.step < len(calls):
            number = calls[visit.step]
            client = self._spec.clients[number]
            if visit.calls and not (client.at_once and client.group == visit.group):
                return  # until it has heard of all of these
            if visit.nth == 0 and not self._is_made(visit, number, client):
                visit.step += 1
                continue
            nth, visit.nth = visit.nth, visit.nth + 1
            if visit.nth == client.times:
                visit.step, visit.nth = visit.step + 1, 0
            visit.group = client.group
            self._make(visit, number, client, nth, now_s)
        if visit.calls:
            return
        server, replica = self._world.servers[visit.server], visit.replica
        assert replica is not None
        if visit.has_waited or visit.left_s > 0 or visit.errand.cpu_s == 0:
            server.start_wait(visit, now_s)
        else:
            server.leave(replica, visit, Ending.OK, now_s)

    def _is_made(self, visit: Attempt, number: int, client: ClientSpec) -> bool:
        """Whether this visit makes that call: not for requests of another route, nor where a draw says so."""
        errand = visit.errand
        if self._spec.codes and not self._world.chunk.applies[number][errand.route]:
            return False
        if client.share < 1:
            u, _ = uniforms(self._spec.seed, "share", errand.id, visit.lineage, errand.place + client.place)
            return u < client.share
        if client.source == "of_wait":
            visit.left_s -= client.of_wait * errand.wait_s
            if visit.left_s < 1e-12 * errand.wait_s:
                visit.left_s = 0.0
        return True

    def _make(self, visit: Attempt, number: int, client: ClientSpec, nth: int, now_s: float) -> None:
        """A call is made: it is sent as soon as it has a connection."""
        errand = visit.errand
        place = errand.place + client.place + nth * client.places_each
        origin = self._world.regions.origin(visit.server)
        call = Errand(
            errand.id, client, number, client.server, *self._work(visit, client, place), errand.route, errand.visitor,
            given_s=errand.given_s, place=place, lineage=visit.lineage, origin=origin,
        )  # fmt: skip
        self._world.n_open += 1
        if client.awaited:
            if not visit.calls:
                visit.group_s = now_s
            visit.has_waited = True
            visit.calls.append(call)
            call.caller = visit
        if client.pool < 0:
            self._world.send(call, 1, now_s)
            return
        assert visit.replica is not None
        pool = visit.replica.pools.setdefault(client.pool, Pool(client.pool_limit))
        if pool.in_use < pool.limit:
            pool.in_use += 1
            call.connection = pool
            self._world.send(call, 1, now_s)
        else:
            call.queues_for, call.queued_at_s, call.planned = pool, now_s, self._world.clients.plan()
            pool.waiting.append(call)

    def _work(self, visit: Attempt, client: ClientSpec, place: int) -> tuple[float, float]:
        """CPU work and wait of a call."""
        if client.source == "of_wait":
            work_s = client.of_wait * visit.errand.wait_s / client.times
        elif client.source == "column":
            work_s = visit.errand.given_s[client.column] / client.times
        elif client.source == "drawn":
            cpu_s, wait_s = client.cpu_median_s, client.wait_median_s
            if client.cpu_sigma or client.wait_sigma:
                u, v = uniforms(self._spec.seed, "call", visit.errand.id, visit.lineage, place)
                radius = math.sqrt(-2 * math.log(1 - u))
                cpu_s *= math.exp(client.cpu_sigma * radius * math.cos(2 * math.pi * v))
                wait_s *= math.exp(client.wait_sigma * radius * math.sin(2 * math.pi * v))
            return cpu_s, wait_s
        else:
            return 0.0, 0.0
        return client.cpu_factor * work_s, client.wait_factor * work_s

    # -- what a visit hears ------------------------------------------------------------------------

    def tell(self, call: Errand) -> None:
        """A call has ended, and its caller is to hear of it when this event is over."""
        self._news.append(call)

    def hear_all(self, now_s: float) -> None:
        """An event is over: callers hear of ends, first come first served."""
        while self._news:
            self._hear(self._news.popleft(), now_s)

    def _hear(self, call: Errand, now_s: float) -> None:
        """A call has ended: its connection is handed on, then its caller goes on."""
        fails = call.has_ended_as != Ending.OK and not call.client.goes_on
        if fails and call.caller is not None:
            self._forget_unsent(call.caller)  # its connection is not for a sibling
        pool, call.connection = call.connection, None
        if pool is not None:
            if pool.waiting:
                following = pool.waiting.pop(0)
                following.queues_for, following.connection = None, pool
                self._world.send(following, 1, now_s)
            else:
                pool.in_use -= 1
        visit, call.caller = call.caller, None
        if visit is None:
            return
        visit.calls.remove(call)
        if fails:
            self._fail_visit(visit, now_s)
        elif not visit.calls:
            visit.called_s += now_s - visit.group_s
            visit.connecting_s += call.first_s - visit.group_s
            if self._spec.spends:
                self._take_over(visit, call, now_s)
            self._go_on(visit, now_s)

    def _take_over(self, visit: Attempt, call: Errand, now_s: float) -> None:
        """Where the time of a call went is where that of its caller went, too."""
        first, last = (N_PARTS * at for at in self._spec.parts[call.server])
        if call.has_ended_as != Ending.OK:
            visit.spent_s[first + _RETRIED] += now_s - call.first_s
        else:
            assert call.last is not None
            visit.spent_s[first:last] += call.last.spent_s[first:last]

    def _fail_visit(self, visit: Attempt, now_s: float) -> None:
        """A call of this visit has failed, and so has the visit."""
        self.abandon(visit)
        assert visit.replica is not None
        self._world.servers[visit.server].leave(visit.replica, visit, Ending.ERRORED, now_s)

    def _forget_unsent(self, visit: Attempt) -> None:
        """A visit ends early: those of its calls that wait for a connection are never sent."""
        for call in [call for call in visit.calls if call.queues_for is not None]:
            assert call.queues_for is not None
            call.queues_for.waiting.remove(call)
            visit.calls.remove(call)
            self._world.n_open -= 1

    def abandon(self, visit: Attempt) -> None:
        """A visit ends early: what waits for a connection is never sent, what is under way runs on, and that is all."""
        self._forget_unsent(visit)
        for call in reversed(visit.calls):
            call.caller, call.abandoned = None, True
            for repeat in [repeat for repeat in self._world.clients.repeats if repeat.errand is call]:
                self._world.clients.repeats.remove(repeat)
                latency_s = max(0.0, repeat.failed_s - call.first_s)
                self._world.end(repeat.last, latency_s, Ending(call.has_ended_as), call.ended_at, repeat.failed_s)
        visit.calls = []

    # -- connections that are waited for -----------------------------------------------------------

    def impatient(self) -> list[tuple[float, Errand]]:
        """Calls that wait for a connection, and when they will do so no longer."""
        replicas = [replica for server in self._world.servers for replica in server.replicas.values()]
        pools = [pool for replica in replicas for pool in replica.pools.values()]
        return [(call.queued_at_s + call.client.pool_timeout_s, call) for pool in pools for call in pool.waiting]

    def wait_no_longer(self, call: Errand, now_s: float) -> None:
        """A call has waited too long for a connection: it has failed, and was no visit."""
        assert call.queues_for is not None
        call.queues_for.waiting.remove(call)
        call.queues_for = None
        self._world.last_s = max(self._world.last_s, now_s)
        self._world.servers[call.client.caller].unsent += 1
        self._world.n_open -= 1
        call.has_ended_as, call.first_s = int(Ending.TIMED_OUT), now_s
        self._news.append(call)
