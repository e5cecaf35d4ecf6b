"""The figures of a run whose requests are not kept: counts, sums and histograms, as requests end."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Final

import numpy as np

from libramen.base.ranks import PERCENTILES, ranks_of
from libramen.engine.border.records import Ended
from libramen.engine.kernel.bins import BINS, Columns
from libramen.engine.record import ServiceRun
from libramen.outcome.counts import MIDDLES_S, Counting, Counts, grown
from libramen.outcome.hourly import Hourly, Latencies
from libramen.outcome.measures import ALL, Failures, Hour, Measures, Scope

_PENDING: Final = 1 << 18
"""Requests that end before their windows are summed up, those that are complete."""


class CountedRequests:
    """Adds up requests or visits as they end; see `measured.Measured`, and `simulation.Sink` for what fills it.

    Args:
        setting: what is the same for all of them.
        knows_arrivals: whether it is told of arrivals before their ends.
        areas: names of the places from which they may come, as `Ended.area` numbers them; none: that is not told.
    """

    def __init__(self, setting: Counting, *, knows_arrivals: bool = True, areas: Sequence[str] = ()) -> None:
        self._setting = setting
        self._areas, self._of_area = tuple(areas), dict[str, Counts]()
        # Else visits may yet come to any window, and none is summed up before the end.
        self._knows_arrivals = knows_arrivals
        asked = setting.asked
        goals = [goal for goal in asked.goals if goal.share is not None and goal.is_counted_at_once]
        self._counts = Counts(setting, goals, fine=False, coarse=True)
        self._of_window = [
            Counts(setting, asked.limits(Scope(window=window)), fine=False, coarse=True)
            for window in range(len(asked.edges_s))
        ]
        self.routes: tuple[str, ...] = ()
        """The routes, by code; known when all has been replayed."""
        # Latencies per window of the series.
        self._window_s = setting.window_s
        self._arrivals = np.zeros(64, np.int64)  # by window, of all that have been handed in
        self._arrived_to_s = 0.0
        self._open = np.zeros((2, 0), np.int64)  # window * BINS + bin, ascending, and how many there
        self._keys = np.zeros(_PENDING, np.int64)  # more of the same, one a request; below 0: it is not ok
        self._n_keys = 0
        self._percentiles = {name: np.zeros(64) for name in ("p50", "p95", "p99")}

    # -- filling it --------------------------------------------------------------------------------

    def arrived(self, at_s: np.ndarray) -> None:
        """Some more requests are going to arrive at these times: float64 (n,) [s]."""
        self._arrivals = grown(self._arrivals, int(at_s[-1] // self._window_s) + 1)
        from libramen.engine.kernel import counting

        counting.count_arrivals(at_s, self._window_s, self._arrivals)
        self._arrived_to_s = float(at_s[-1])

    def take(self, ended: Ended) -> None:
        """Some requests have ended."""
        n = len(ended.at_s)
        if self._n_keys + n > len(self._keys):
            self._merge()
            if self._knows_arrivals:
                self._close(complete_only=True)
        self._keys = grown(self._keys, n)
        kinds = {"ending": np.uint8, "attempts": np.uint8, "replica": np.int32, "route": np.int32}
        columns = Columns(*(np.asarray(getattr(ended, name), kinds.get(name)) for name in Columns._fields))
        self._counts.add(columns, self._keys[self._n_keys : self._n_keys + n])
        self._n_keys += n
        for window, counts in enumerate(self._of_window):
            inside = self._setting.asked.inside(ended.at_s, window)
            some = Columns(*(column[inside] for column in columns))
            counts.add(some._replace(route=np.zeros(0, np.int32)))
        for code in np.unique(ended.area) if self._areas else ():
            some = Columns(*(column[ended.area == code] for column in columns))
            self._counts_of(self._areas[code]).add(some._replace(route=np.zeros(0, np.int32)))

    @property
    def areas(self) -> tuple[str, ...]:
        """Where requests come from, as far as some have come; empty: nobody knows."""
        return tuple(name for name in self._areas if name and name in self._of_area)

    def _counts_of(self, area: str) -> Counts:
        """What is counted of an area."""
        if area not in self._of_area:
            limits = self._setting.asked.limits(Scope(area=area))
            self._of_area[area] = Counts(self._setting, limits, fine=False, coarse=True)
        return self._of_area[area]

    def _merge(self) -> None:
        """Put the bins of windows that have come in since into `_open`."""
        keys = np.sort(self._keys[: self._n_keys])
        self._n_keys = 0
        found = np.empty((2, len(keys) + self._open.shape[1]), np.int64)
        from libramen.engine.kernel import counting

        n = counting.sum_up(keys, self._open, found)
        self._open = np.ascontiguousarray(found[:, :n])

    def _close(self, *, complete_only: bool) -> None:
        """Sum up windows: those whose requests have all ended, or all."""
        keys, counts = self._open
        window = keys // BINS
        last = int(window[-1]) + 1 if len(window) else 0
        done = np.ones(last, bool)
        if complete_only:
            past = (np.arange(last) + 1) * self._window_s < self._arrived_to_s
            ended = grown(self._counts.of.windows, last)[:last].sum(axis=1)
            done = past & (ended == grown(self._arrivals, last)[:last])
        closing = done[window]
        self._open = np.ascontiguousarray(self._open[:, ~closing])
        keys, counts, window = keys[closing], counts[closing], window[closing]
        first = np.flatnonzero(np.append(True, np.diff(window) > 0)) if len(window) else np.zeros(0, np.int64)
        cumulative = np.cumsum(counts)
        before = cumulative[first] - counts[first]
        total = np.add.reduceat(counts, first) if len(first) else np.zeros(0, np.int64)
        for name, found in list(self._percentiles.items()):
            at = np.searchsorted(cumulative, before + ranks_of(total, PERCENTILES[name]))
            self._percentiles[name] = values = grown(found, last)
            values[window[first]] = MIDDLES_S[keys[at] % BINS]

    # -- what it comes to --------------------------------------------------------------------------

    def _of(self, scope: Scope) -> tuple[Counts, int | None]:
        """What was counted of a scope, and where that is of all routes, the code of its own."""
        if scope.area is not None:
            return self._counts_of(scope.area), None
        route = None if scope.route is None else self.routes.index(scope.route)
        return self._counts if scope.window is None else self._of_window[scope.window], route

    def measures(self, scope: Scope = ALL) -> Measures:
        """See `Measured`."""
        counts, route = self._of(scope)
        return counts.measures(route, self._setting.asked.limits(scope), counts.coarse_latencies(route))

    def worst_hour(self) -> Hour | None:
        """The hour of the clock with the most requests that were not answered within `Asked.telling`."""
        return self._counts.worst_hour()

    def per_window(self, n: int) -> dict[str, np.ndarray]:
        """Of each of n windows, by first arrival: arrivals, and each ending."""
        return self._counts.series(n)

    def percentiles_per_window(self, n: int) -> dict[str, np.ndarray]:
        """p50_s, p95_s and p99_s of the ok requests of each of n windows, NaN: none; within 0.5 %."""
        ok = self.per_window(n)["ok"]
        self._merge()
        # An arrival at the very end of the last window belongs to it.
        window = np.minimum(self._open[0] // BINS, n - 1)
        last = np.stack([window * BINS + self._open[0] % BINS, self._open[1]])
        last = np.ascontiguousarray(last[:, np.argsort(last[0], kind="stable")])
        found = np.empty_like(last)
        from libramen.engine.kernel import counting

        self._open = found[:, : counting.sum_up(np.zeros(0, np.int64), last, found)]
        self._close(complete_only=False)
        return {f"{name}_s": np.where(ok > 0, grown(found, n)[:n], np.nan) for name, found in self._percentiles.items()}

    def served(self, n: int) -> np.ndarray:
        """Requests answered ok by each of the replicas 1 to n."""
        return self._counts.served_by(n)

    def failures(self) -> Failures | None:
        """When requests failed, None: none did."""
        return self._counts.failures()

    def failed_between(self, from_s: float, to_s: float) -> tuple[int, int] | None:  # noqa: ARG002  (not kept)
        """Not known, since requests are not kept."""
        return None

    def hourly(self, item: str) -> np.ndarray:
        """See `Measured`."""
        return self._counts.hourly(item)

    def by_hour(self, scope: Scope = ALL) -> Hourly:
        """See `Measured`."""
        counts, route = self._of(scope)
        return counts.by_hour(route, self._setting.asked.limits(scope))

    def latencies(self, scope: Scope = ALL) -> Latencies | None:
        """Latencies of the ok ones of the same, in bins; of a route they are not known by hour."""
        return None if scope.route is not None else self._of(scope)[0].coarse_by_hour()

    def cold_waits(self, run: ServiceRun) -> None:
        """Not known: requests were not kept."""
