"""Where the time of requests went that several services served."""

from __future__ import annotations

from functools import cached_property
from typing import TYPE_CHECKING, Final, NamedTuple

import numpy as np

from libramen.base.times import EPSILON_S
from libramen.engine.border.records import AT_THE_EDGE, PARTS
from libramen.outcome.measures import TIME_PARTS
from libramen.study.edge import EDGE

if TYPE_CHECKING:
    from libramen.outcome.outcome import Outcome

SLOWEST: Final = 0.01
"""The share of the requests that is looked at for itself."""


class Stretch(NamedTuple):
    """Part of the time of a request, on average [s]: at which service, doing what."""

    service: str
    part: str
    mean_s: float
    slowest_s: float


class Where:
    """Where the time of the requests went that were answered ok, of all and of the slowest 1 %.

    Every second of a request is counted once, at the service where it was spent: without a slot (`queued`), on the
    CPU as if alone (`cpu`), slowed down there (`slowed`), waiting for a connection to another service (`connecting`),
    waiting on its own (`waiting`), on the network (`overhead`), in attempts that failed and pauses after them
    (`retried`). Of a fan-out the call counts that ended last. So the stretches of one request add up to its latency.

    Attributes:
        is_known: whether it was kept for each request; else it is the mean of the visits of each service.
    """

    def __init__(self, outcome: Outcome) -> None:
        self._outcome = outcome
        self.is_known = outcome.run.results is not None

    @cached_property
    def _rows(self) -> tuple[np.ndarray, np.ndarray]:
        """The measured requests that were answered ok, and the slowest of them."""
        results = self._outcome.run.kept
        ok = (results.ending == 0) & (self._outcome.trace.at_s >= self._outcome.settle_s)
        rows = np.flatnonzero(ok)
        n = max(1, int(np.ceil(SLOWEST * len(rows) - EPSILON_S)))
        order = np.argsort(results.latency_s[rows], kind="stable")
        return rows, rows[order[-n:]]

    @cached_property
    def stretches(self) -> tuple[Stretch, ...]:
        """In the order in which services ask each other; those that took no time are left out."""
        if not self.is_known:
            return tuple(self._of_visits())
        rows, slowest = self._rows
        if not len(rows):
            return ()
        names, spent_s = self._spent()
        mean_s, slowest_s = spent_s[rows].mean(axis=0), spent_s[slowest].mean(axis=0)
        found = [
            Stretch(name, part, float(mean_s[place, k]), float(slowest_s[place, k]))
            for place, name in enumerate(names)
            for k, part in enumerate(PARTS)
        ]
        return tuple(one for one in found if max(one.mean_s, one.slowest_s) > EPSILON_S)

    def _spent(self) -> tuple[list[str], np.ndarray]:
        """The services, in the order in which they ask each other, and float64 (n, services, PARTS) [s]."""
        outcome, results = self._outcome, self._outcome.run.kept
        system, n = outcome.system, len(results)
        if results.spent_s.shape[1]:
            places = {hosted.of: place for hosted, (place, _) in zip(system.hosted, system.parts, strict=True)}
            names, spent_s = sorted(places, key=lambda name: places[name]), results.spent_s
            if system.edge is not None:
                at_the_edge = np.zeros((n, 1, len(PARTS)))
                hits = results.server == AT_THE_EDGE
                at_the_edge[hits, 0, PARTS.index("overhead")] = results.latency_s[hits]
                names, spent_s = [*names, EDGE], np.concatenate([spent_s, at_the_edge], axis=1)
            return names, spent_s
        # Nobody calls anybody: what a request is and what became of it says all.
        trace, server = outcome.trace, system.servers_of(outcome.run.routes)[outcome.trace.route_codes]
        spent_s = np.zeros((n, len(system.hosted), len(PARTS)))
        for number, hosted in enumerate(system.hosted):
            here = server == number
            overhead_s = hosted.hosting.tier.overhead
            before_s, queued_s = results.before_s[here], results.queued_s[here]
            cpu_s, wait_s = trace.cpu_s[here] / hosted.hosting.alone, trace.wait_s[here]
            slowed_s = results.latency_s[here] - before_s - queued_s - cpu_s - wait_s - overhead_s
            nothing = np.zeros(len(cpu_s))
            columns = (before_s, queued_s, cpu_s, np.maximum(0.0, slowed_s), nothing, wait_s, nothing + overhead_s)
            spent_s[here, number] = np.stack(columns, axis=1)
        return [hosted.name for hosted in system.hosted], spent_s

    def _of_visits(self) -> list[Stretch]:
        requests = max(1, self._outcome.endings["ok"])
        return [
            Stretch(name, part, one.time_s[part] / requests, float("nan"))
            for name, one in self._outcome.services.items()
            for part in PARTS
            if one.time_s[part] > EPSILON_S
        ]

    @property
    def time_s(self) -> dict[str, float]:
        """The same added up over all requests and services, by part [s]."""
        n = self._outcome.endings["ok"]
        sums = dict.fromkeys(TIME_PARTS, 0.0)
        for one in self.stretches:
            sums[one.part] += n * one.mean_s
        return sums
