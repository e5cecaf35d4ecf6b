"""What each service has to do for each request if nothing ever queues: from what the trace and the calls say."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np

from libramen.base.delays import Delay
from libramen.study.edge import hits_of
from libramen.study.places import NOWHERE
from libramen.study.system import Made, System
from libramen.trace.trace import Trace


@dataclass
class Load:
    """What one service has to do for each request: float64 (n,), expected values where something is drawn.

    Attributes:
        visits: how many.
        cpu_s: CPU work [core-seconds].
        held_s: time in its slots without queueing, its calls included [s].
    """

    visits: np.ndarray
    cpu_s: np.ndarray
    held_s: np.ndarray


@dataclass
class Loads:
    """What all services have to do, and how long requests take without queueing.

    Attributes:
        of: by number of the service.
        server: int32 (n,), at which each request arrives: in the nearest region.
        alone_s: float64 (n,), how long each takes if it is alone, an expected value where calls are drawn [s].
        least_s: float64 (n,), how long it takes at the least then: of what is drawn nothing is sure [s].
        way_s: float64 (n,), network time of its answer beside the overhead of its tier [s]: negative where an edge
            answers sooner than that.
    """

    of: list[Load] = field(default_factory=list)
    server: np.ndarray = field(default_factory=lambda: np.zeros(0, np.int32))
    alone_s: np.ndarray = field(default_factory=lambda: np.zeros(0))
    least_s: np.ndarray = field(default_factory=lambda: np.zeros(0))
    way_s: np.ndarray = field(default_factory=lambda: np.zeros(0))


def loads_of(trace: Trace, system: System, seed: int = 0) -> Loads:
    """Follow every request through the services, but for those that an edge answers with this seed.

    Raises:
        StudyError: requests match no service.
    """
    trace = trace.without_calls(system.columns)
    n = len(trace)
    found = Loads(
        of=[Load(np.zeros(n), np.zeros(n), np.zeros(n)) for _ in system.hosted],
        server=system.servers_of(trace.routes)[trace.route_codes],
        alone_s=np.zeros(n),
        least_s=np.zeros(n),
        way_s=np.zeros(n),
    )
    if system.is_placed:
        found.server, found.way_s = _in_nearest(trace, system, found.server)
    applies = system.applies(trace.routes)[len(system.hosted) :]
    missed = np.ones(n, bool)
    if system.edge is not None:
        missed = ~hits_of(seed, 0, system.edge.shares(trace.routes)[trace.route_codes])
    follow = _Follow(trace, system, found, applies)
    for number in np.unique(found.server).tolist():
        here = found.server == number
        weight = (here & missed).astype(float)
        own = trace.cpu_s * weight, trace.wait_s * weight
        took_s = follow.visit(number, *own, weight)
        found.alone_s += np.where(here & missed, took_s, 0.0)
        found.least_s += np.where(here & missed, follow.least(number, *own, weight), 0.0)
    if system.edge is not None:
        overhead_s = np.array([one.hosting.tier.overhead for one in system.hosted])[found.server]
        found.way_s = np.where(missed, found.way_s + system.edge.miss_time, system.edge.time - overhead_s)
    return found


def _in_nearest(trace: Trace, system: System, server: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """At which fleet each request arrives while all regions are open, and the round trips of its answer [s]."""
    areas = (NOWHERE,) if trace.area is None else trace.areas
    area = np.zeros(len(trace), np.int32) if trace.area is None else trace.area
    chosen, way_s = server.copy(), np.zeros(len(trace))
    for first in np.unique(server).tolist():
        for code, name in enumerate(areas):
            at, far_s = nearest_fleet(system, name, first)
            here = (server == first) & (area == code)
            chosen[here], way_s[here] = at, far_s * system.hosted[at].service.exchanges
    return chosen, way_s


def nearest_fleet(system: System, place: str, first: int) -> tuple[int, float]:
    """Of a service, whose first fleet is `first`, the fleet nearest to a place, and how far it is [s]."""
    fleets = [at for at, one in enumerate(system.first) if one == first and system.hosted[at].hosting.heir_of is None]
    if not system.is_placed:
        return fleets[0], 0.0
    far = [(system.round_trips.between(place, str(system.hosted[at].region)), at) for at in fleets]
    return min(far)[1], min(far)[0]


class _Follow:
    def __init__(self, trace: Trace, system: System, found: Loads, applies: np.ndarray) -> None:
        self._trace, self._system, self._found, self._applies = trace, system, found, applies

    def visit(self, number: int, cpu_s: np.ndarray, wait_s: np.ndarray, weight: np.ndarray) -> np.ndarray:
        """Add visits to a service, so many of each request with so much work each; returns how long one takes [s]."""
        hosting = self._system.hosted[number].hosting
        took_s: np.ndarray = cpu_s / hosting.alone
        left_s = wait_s.copy()
        groups: dict[int, np.ndarray] = {}
        for row, made in enumerate(self._system.calls):
            if made.caller != number:
                continue
            call = made.call
            each = weight * self._applies[row][self._trace.route_codes] * call.share
            work = self._work(made, wait_s)
            callee, far_s = nearest_fleet(self._system, self._system.hosted[number].region or NOWHERE, made.callee)
            overhead_s = self._system.hosted[callee].hosting.tier.overhead
            call_s = self.visit(callee, *work, each * call.times) + overhead_s + far_s
            if call.of_wait is not None:
                left_s -= np.where(each > 0, call.of_wait * wait_s, 0.0)
            if not call.wait_for_it:
                continue
            lasts_s = np.where(weight > 0, each / np.maximum(weight, 1e-300), 0.0) * call_s
            if call.at_once:
                groups[made.group] = np.maximum(groups.get(made.group, np.zeros(1)), lasts_s)
            else:
                took_s += call.times * lasts_s
        for lasts_s in groups.values():
            took_s += lasts_s
        took_s += np.maximum(0.0, left_s)
        load = self._found.of[number]
        load.visits += weight
        load.cpu_s += weight * cpu_s
        load.held_s += weight * took_s
        return took_s

    def least(self, number: int, cpu_s: np.ndarray, wait_s: np.ndarray, weight: np.ndarray) -> np.ndarray:
        """How long a visit takes at the least: with calls that are always made, and what they always take [s]."""
        took_s: np.ndarray = cpu_s / self._system.hosted[number].hosting.alone
        left_s = wait_s.copy()
        groups: dict[int, np.ndarray] = {}
        for row, made in enumerate(self._system.calls):
            if made.caller != number:
                continue
            call, makes = made.call, self._applies[row][self._trace.route_codes] * weight
            if call.of_wait is not None:
                left_s -= np.where(makes * call.share > 0, call.of_wait * wait_s, 0.0)
            if call.share < 1 or not call.wait_for_it:
                continue
            callee, far_s = nearest_fleet(self._system, self._system.hosted[number].region or NOWHERE, made.callee)
            overhead_s = self._system.hosted[callee].hosting.tier.overhead
            call_s = self.least(callee, *self._work(made, wait_s, surely=True), makes) + overhead_s + far_s
            if call.if_it_fails == "go_on" and call.timeout is not None:
                call_s = np.minimum(call_s, call.timeout)
            if call.at_once:
                groups[made.group] = np.maximum(groups.get(made.group, np.zeros(1)), makes * call_s)
            else:
                took_s = took_s + call.times * makes * call_s
        for lasts_s in groups.values():
            took_s = took_s + lasts_s
        least_s: np.ndarray = took_s + np.maximum(0.0, left_s)
        return least_s

    def _work(self, made: Made, wait_s: np.ndarray, *, surely: bool = False) -> tuple[np.ndarray, np.ndarray]:
        """CPU work and wait of each time of a call; `surely`: nothing of what is drawn, not the mean of it."""
        call, callee = made.call, self._system.hosted[made.callee]
        n = len(wait_s)
        if call.has_own_work:
            of = _surely if surely else _mean
            return np.full(n, of(call.cpu)), np.full(n, of(call.wait))
        if call.of_wait is not None:
            work_s = call.of_wait * wait_s / call.times
        else:
            work_s = self._trace.in_s.get(callee.of, np.zeros(n)) / call.times
        share = callee.service.cpu_share or 0.0
        cpu_s: np.ndarray = share * work_s * self._trace.source.recorded_speed
        rest_s: np.ndarray = (1 - share) * work_s
        return cpu_s, rest_s


def _surely(delay: Delay | None) -> float:
    """What it takes at the least: of a log-normal distribution nothing."""
    return delay.median_s if delay is not None and delay.is_constant else 0.0


def _mean(delay: Delay | None) -> float:
    """The mean of a log-normal distribution: median times exp(sigma^2 / 2)."""
    return 0.0 if delay is None else delay.median_s * math.exp(delay.sigma**2 / 2)
