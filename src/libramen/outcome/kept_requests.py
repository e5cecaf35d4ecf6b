"""The figures of a run whose requests are kept: exact, from arrays."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property

import numpy as np

from libramen.base.ranks import PERCENTILES, by_group, rank_of
from libramen.engine.border.records import AT_THE_EDGE, Ending, Results
from libramen.engine.kernel.bins import Columns
from libramen.engine.record import ServiceRun
from libramen.outcome import waits
from libramen.outcome.counts import Counting, Counts, Percentiles
from libramen.outcome.hourly import Hourly, Latencies
from libramen.outcome.measures import ALL, Failures, Hour, Measures, Scope
from libramen.outcome.waits import ColdWaits
from libramen.study.objectives import Goal
from libramen.trace.trace import Trace


class KeptRequests:
    """What became of each request, and what that comes to; see `measured.Measured`."""

    def __init__(
        self, trace: Trace, results: Results, setting: Counting, windows: int, trip_s: np.ndarray | None = None
    ) -> None:
        self._trace, self._results, self._setting = trace, results, setting
        self._trip_s = np.zeros(0) if trip_s is None else trip_s
        met = results.server != AT_THE_EDGE
        self._met = None if met.all() else met  # a fleet; the others took no work
        # Arrivals are in order, so what is measured is all from one on.
        self._first = int(np.searchsorted(trace.at_s, setting.settle_s, side="left"))
        goals = [goal for goal in setting.asked.goals if goal.share is not None and goal.is_counted_at_once]
        self._counts = Counts(setting, goals, fine=True, coarse=False, windows=windows)
        self._counts.add(self._columns(slice(None)))

    def _columns(self, rows: slice | np.ndarray, *, by_route: bool = True) -> Columns:
        trace, results = self._trace, self._results
        nothing = np.zeros(0)
        return Columns(
            trace.at_s[rows],
            results.latency_s[rows],
            results.queued_s[rows],
            results.before_s[rows],
            trace.cpu_s[rows] if self._met is None else trace.cpu_s[rows] * self._met[rows],
            trace.wait_s[rows] if self._met is None else trace.wait_s[rows] * self._met[rows],
            nothing if trace.bytes_out is None else trace.bytes_out[rows],
            results.ending[rows],
            results.attempts[rows],
            results.replica[rows],
            trace.route_codes[rows] if by_route else nothing.astype(np.int32),
            trip_s=self._trip_s[rows] if len(self._trip_s) else nothing,
        )

    def _route(self, scope: Scope) -> int | None:
        """The code of the route of a scope."""
        return None if scope.route is None else self._trace.routes.index(scope.route)

    def measures(self, scope: Scope = ALL) -> Measures:
        """See `Measured`."""
        goals = self._setting.asked.limits(scope)
        if _is_of_some(scope):
            return self._of_some(self._parts(scope), goals)
        route = self._route(scope)
        n, n_ok = self._counts.n_of(route)
        latencies = self._whole(n, n_ok) if route is None else self._of_route(route, n)
        return self._counts.measures(route, goals, latencies)

    def _whole(self, n: int, n_ok: int) -> Percentiles:
        """Exact percentiles of all: what is in the few bins in which the ranks lie is sorted, and nothing else."""
        places = {rank_of(n_ok, share) for share in PERCENTILES.values()} if n_ok else set()
        places |= {rank for share in PERCENTILES.values() if (rank := rank_of(n, share)) < n_ok}
        up_to = np.cumsum(self._counts.of.fine)
        ranks = np.array(sorted(places), np.int64)
        bins = np.searchsorted(up_to, ranks, side="right")
        wanted = np.zeros(len(up_to), np.uint8)
        wanted[bins] = 1
        held = np.unique(bins)
        found = np.empty(int(self._counts.of.fine[held].sum()))
        results = self._results
        from libramen.engine.kernel.counting import collect  # late: it loads the compiler

        collect(results.latency_s[self._first :], results.ending[self._first :], wanted, found)
        found.sort()
        # Of the collected, how many come before each bin, and of all.
        before = dict(
            zip(held.tolist(), np.cumsum(self._counts.of.fine[held]) - self._counts.of.fine[held], strict=True)
        )
        value = {
            rank: float(found[before[at] + rank - (up_to[at] - self._counts.of.fine[at])])
            for rank, at in zip(ranks.tolist(), bins.tolist(), strict=True)
        }
        return Percentiles(
            {name: value[rank_of(n_ok, share)] if n_ok else None for name, share in PERCENTILES.items()},
            {name: value.get(rank_of(n, share)) if n else None for name, share in PERCENTILES.items()},
        )

    @cached_property
    def _by_route(self) -> list[np.ndarray]:
        """The latencies of the measured ok requests of each route."""
        ending, codes = self._results.ending[self._first :], self._trace.route_codes[self._first :]
        n_ok = self._counts.of.endings[:, Ending.OK]
        ends = np.cumsum(n_ok)
        found = np.empty(int(ends[-1]))
        from libramen.engine.kernel.counting import sort_by_route

        sort_by_route(self._results.latency_s[self._first :], ending, codes, ends - n_ok, found)
        per_route = np.split(found, ends[:-1])
        # Routes of which nothing was measured may have no row in the counts.
        return per_route + [np.zeros(0)] * (len(self._trace.routes) - len(per_route))

    def _of_route(self, route: int, n: int) -> Percentiles:
        return _selected(self._by_route[route], n)

    @property
    def areas(self) -> tuple[str, ...]:
        """Where requests come from; empty: nobody knows."""
        return self._trace.areas

    def _parts(self, scope: Scope) -> list[slice] | list[np.ndarray]:
        """The measured requests of a window, which are stretches of the trace, or of an area."""
        trace = self._trace
        if scope.window is not None:
            edges_s = self._setting.asked.edges_s[scope.window]
            edges = np.maximum(self._first, np.searchsorted(trace.at_s, edges_s, side="left"))
            return [slice(first, end) for first, end in edges.reshape(-1, 2).tolist() if end > first]
        if trace.area is None or scope.area not in trace.areas:
            return []
        return [self._first + np.flatnonzero(trace.area[self._first :] == trace.areas.index(scope.area))]

    def _counts_of(self, parts: Sequence[slice | np.ndarray], goals: list[Goal]) -> Counts:
        counts = Counts(self._setting, goals, fine=False, coarse=False)
        for rows in parts:
            counts.add(self._columns(rows, by_route=False))
        return counts

    def _of_some(self, parts: Sequence[slice | np.ndarray], goals: list[Goal]) -> Measures:
        counts = self._counts_of(parts, goals)
        latencies = [self._results.latency_s[rows][self._results.ending[rows] == Ending.OK] for rows in parts]
        found = _selected(np.concatenate(latencies) if latencies else np.zeros(0), counts.n_of()[0])
        return counts.measures(None, goals, found)

    def worst_hour(self) -> Hour | None:
        """The hour of the clock with the most requests that were not answered within `Asked.telling`."""
        return self._counts.worst_hour()

    def per_window(self, n: int) -> dict[str, np.ndarray]:
        """Of each of n windows, by first arrival: arrivals, and each ending."""
        return self._counts.series(n)

    def percentiles_per_window(self, n: int) -> dict[str, np.ndarray]:
        """p50_s, p95_s and p99_s of the ok requests of each of n windows, NaN: none."""
        ok = self._results.ending == Ending.OK
        return _percentiles_per_window(self._window(n), ok, self._results.latency_s, n)

    def _window(self, n: int) -> np.ndarray:
        window: np.ndarray = np.minimum(self._trace.at_s // self._setting.window_s, n - 1).astype(np.int32)
        return window

    def served(self, n: int) -> np.ndarray:
        """Requests answered ok by each of the replicas 1 to n."""
        return self._counts.served_by(n)

    def failures(self) -> Failures | None:
        """When requests failed, None: none did."""
        return self._counts.failures()

    def failed_between(self, from_s: float, to_s: float) -> tuple[int, int] | None:
        """Of the requests that arrived then, how many failed, and how many there were."""
        at_s = self._trace.at_s
        rows = slice(int(np.searchsorted(at_s, from_s)), int(np.searchsorted(at_s, to_s, side="right")))
        return int(np.count_nonzero(self._results.ending[rows] != Ending.OK)), len(at_s[rows])

    def hourly(self, item: str) -> np.ndarray:
        """See `Measured`."""
        return self._counts.hourly(item)

    def by_hour(self, scope: Scope = ALL) -> Hourly:
        """See `Measured`."""
        goals = self._setting.asked.limits(scope)
        if _is_of_some(scope):
            return self._counts_of(self._parts(scope), goals).by_hour(None, goals)
        return self._counts.by_hour(self._route(scope), goals)

    def latencies(self, scope: Scope = ALL) -> Latencies:
        """Latencies of the ok ones of the same, exact."""
        is_ok = self._results.ending == Ending.OK
        if _is_of_some(scope):
            parts = [np.arange(len(is_ok))[rows] for rows in self._parts(scope)]
            rows = np.concatenate(parts) if parts else np.zeros(0, np.int64)
            rows = rows[is_ok[rows]]
        else:
            which, route = is_ok[self._first :], self._route(scope)
            if route is not None:
                which = which & (self._trace.route_codes[self._first :] == route)
            rows = self._first + np.flatnonzero(which)
        hour = ((self._trace.at_s[rows] + self._setting.into_hour_s) // 3600).astype(np.int64)
        return Latencies(self._results.latency_s[rows], hour)

    def cold_waits(self, run: ServiceRun) -> ColdWaits:
        """Requests that waited for a cold start."""
        return waits.cold_waits(self._trace, self._results, run)


def _is_of_some(scope: Scope) -> bool:
    """Whether it is about requests of which nothing was counted apart."""
    return scope.window is not None or scope.area is not None


def _selected(latency_s: np.ndarray, n: int) -> Percentiles:
    """Percentiles of some ok latencies out of n requests, by selection."""
    n_ok = len(latency_s)
    ranks = {rank_of(n_ok, share) for share in PERCENTILES.values()} if n_ok else set()
    ranks |= {rank for share in PERCENTILES.values() if (rank := rank_of(n, share)) < n_ok}
    ordered = np.partition(latency_s, sorted(ranks)) if ranks else latency_s
    return Percentiles(
        {name: float(ordered[rank_of(n_ok, share)]) if n_ok else None for name, share in PERCENTILES.items()},
        {
            name: float(ordered[rank]) if n and (rank := rank_of(n, share)) < n_ok else None
            for name, share in PERCENTILES.items()
        },
    )


def _percentiles_per_window(
    window: np.ndarray, is_ok: np.ndarray, latency_s: np.ndarray, n: int
) -> dict[str, np.ndarray]:
    """p50_s, p95_s and p99_s of the ok requests of each of n windows, by nearest rank."""
    names = ("p50", "p95", "p99")
    found = by_group(latency_s[is_ok], window[is_ok], n, *(PERCENTILES[name] for name in names))
    return {f"{name}_s": values for name, values in zip(names, found, strict=True)}
