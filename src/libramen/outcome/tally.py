"""The figures of a run whose requests are not kept: counts, sums and histograms, as requests end."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from libramen.engine.plane import ENDINGS, EPSILON_S, Ending
from libramen.errors import ReplayError
from libramen.outcome import measures
from libramen.outcome.measures import TIME_PARTS, Asked, Failures, Hour, Measures, Within
from libramen.ranks import PERCENTILES, rank_of

if TYPE_CHECKING:
    from fractions import Fraction

    from libramen.bill.month import Month
    from libramen.engine.plane import Ended, Results
    from libramen.engine.run import Run
    from libramen.study.objectives import Goal
    from libramen.study.plan import Plan
    from libramen.trace.trace import Trace

# Logarithmic bins: bin 0 is up to 1 ns, which counts as 0; each other is 0.99 % wide, and stands for the
# geometric mean of its edges, which is at most sqrt(1.0099) - 1 = 0.494 % from anything in it.
_GROWTH: Final = 1.0099
_LEAST_S: Final = 1e-9
_BINS: Final = 2 + math.ceil(math.log(1e9 / _LEAST_S) / math.log(_GROWTH))
_MIDDLES_S: Final = np.concatenate([[0.0], _LEAST_S * _GROWTH ** (np.arange(1, _BINS) - 0.5)])
_PENDING: Final = 1 << 17
"""Bins of windows that come in before they are merged, and the windows that are complete summed up."""


def bin_of(latency_s: np.ndarray) -> np.ndarray:
    """The bin of each latency: float64 (n,) [s] -> int64 (n,)."""
    with np.errstate(divide="ignore"):
        at = np.ceil(np.log(latency_s / _LEAST_S) / math.log(_GROWTH))
    return np.clip(at, 0, _BINS - 1).astype(np.int64)


def percentile_of(histogram: np.ndarray, share: float, n: int | None = None) -> float:
    """The percentile by nearest rank of what was counted in bins: int64 (_BINS,); within 0.5 %.

    `n`: of how many the share is, where not all were counted in bins; those beyond come last.
    """
    rank = rank_of(int(histogram.sum()) if n is None else n, share) + 1
    return float(_MIDDLES_S[np.searchsorted(np.cumsum(histogram), rank)])


class _Growing:
    """An array that grows along one axis as higher places are added to."""

    def __init__(self, *shape: int, axis: int = 0, dtype: Any = np.int64) -> None:
        self.values = np.zeros(shape, dtype)
        self._axis = axis

    def reach(self, n: int) -> np.ndarray:
        """The array, with room for n places."""
        have = self.values.shape[self._axis]
        if n > have:
            more = list(self.values.shape)
            more[self._axis] = max(n, 2 * have) - have
            self.values = np.concatenate([self.values, np.zeros(more, self.values.dtype)], axis=self._axis)
        return self.values


class _Sums:
    """Counts, sums and histograms of some requests, by route: of all that are measured, or of those of a window."""

    def __init__(self, plan: Plan, asked: Asked, goals: list[Goal]) -> None:
        self._plan, self._asked = plan, asked
        self._limits_s = sorted({goal.limit_s for goal in goals})
        self._counts = _Growing(1, len(ENDINGS))
        self._attempts = _Growing(1)
        self._histogram = _Growing(1, _BINS)
        self._latency_sum = _Growing(1, dtype=np.float64)
        self._latency_max = _Growing(1, dtype=np.float64)
        self._times = _Growing(1, len(TIME_PARTS), dtype=np.float64)
        self._bytes = _Growing(1, dtype=np.float64)
        # By minute, route, and what: arrivals, failures, then those within each limit.
        self._minutes = _Growing(64, 1, 2 + len(self._limits_s), dtype=np.int32)

    def take(self, ended: Ended, rows: np.ndarray, route: np.ndarray) -> None:
        """Some of the requests that have ended, and the route of each of them: int64 (k,) both."""
        if not len(rows):
            return
        ending = ended.ending[rows].astype(np.int64)
        is_ok = ending == Ending.OK
        answered = is_ok | (ending == Ending.ERRORED)
        n = int(route.max()) + 1
        _count(self._counts.reach(n), route * len(ENDINGS) + ending)
        _add(self._attempts, route, ended.attempts[rows])
        _add(self._bytes, route[answered], ended.bytes_out[rows][answered])
        self._take_minutes(ended, rows, route, is_ok)
        ok = rows[is_ok]
        route, latency_s = route[is_ok], ended.latency_s[ok]
        _count(self._histogram.reach(n), route * _BINS + bin_of(latency_s))
        _add(self._latency_sum, route, latency_s)
        np.maximum.at(self._latency_max.reach(n), route, latency_s)
        columns = (ended.queued_s, ended.before_s, ended.cpu_s, ended.wait_s)
        parts = measures.time_parts(
            latency_s,
            *(column[ok] for column in columns),
            alone=self._plan.alone,
            overhead_s=self._plan.tier.overhead,
        )
        times = self._times.reach(n)
        for k, part in enumerate(parts):
            times[:, k] += np.bincount(route, weights=part, minlength=len(times))

    def _take_minutes(self, ended: Ended, rows: np.ndarray, route: np.ndarray, is_ok: np.ndarray) -> None:
        n, (have, per) = int(route.max()) + 1, self._minutes.values.shape[1:]
        if n > have:
            grown = np.zeros((len(self._minutes.values), 2 * n, per), np.int32)
            grown[:, :have] = self._minutes.values
            self._minutes.values = grown
        minute = (ended.at_s[rows] // 60).astype(np.int64)
        minutes = self._minutes.reach(int(minute.max()) + 1)
        place = per * (minute * minutes.shape[1] + route)
        _count(minutes, place)
        _count(minutes, place[~is_ok] + 1)
        latency_s = ended.latency_s[rows]
        for k, limit_s in enumerate(self._limits_s):
            _count(minutes, place[is_ok & (latency_s <= limit_s + EPSILON_S)] + 2 + k)

    def measures(self, route: int | None, goals: list[Goal]) -> Measures:
        """The figures of all of them, or of one route."""
        rows = slice(None) if route is None else slice(route, route + 1)
        counts = self._counts.values[rows].sum(axis=0)
        n, n_ok = int(counts.sum()), int(counts[Ending.OK])
        minutes = self._minutes.values[:, rows].sum(axis=1)
        arrivals = minutes[:, 0]
        histogram = self._histogram.values[rows].sum(axis=0)
        most = float(self._latency_max.values[rows].max(initial=0.0))
        within = {}
        for goal in goals:
            in_time = minutes[:, 2 + self._limits_s.index(goal.limit_s)]
            met = measures.minutes_within(arrivals, in_time, goal.share or 0.0)
            within[goal.name] = Within(int(in_time.sum()), *met)
        latency_s: dict[str, float | None] = dict.fromkeys(measures.LATENCIES)
        if n_ok:
            latency_s = {
                "mean": float(self._latency_sum.values[rows].sum()) / n_ok,
                **{name: min(most, percentile_of(histogram, share)) for name, share in PERCENTILES.items()},
                "max": most,
            }
        return Measures(
            requests=n,
            attempts=int(self._attempts.values[rows].sum()),
            endings=dict(zip(ENDINGS, counts.tolist(), strict=True)),
            latency_s=latency_s,
            answered_s={
                name: min(most, percentile_of(histogram, share, n)) if n and rank_of(n, share) < n_ok else None
                for name, share in PERCENTILES.items()
            },
            within=within,
            availability=n_ok / n if n else None,
            availability_minutes=measures.availability_minutes(arrivals, minutes[:, 1], self._asked.failed_share),
            time_s=dict(zip(TIME_PARTS, self._times.values[rows].sum(axis=0).tolist(), strict=True)),
            bytes_out=float(self._bytes.values[rows].sum()),
        )


class Tally:
    """Adds up requests as they end; see `measures.Measured`, and `control.Sink` for what fills it."""

    def __init__(self, plan: Plan, *, settle_s: float, asked: Asked, window_s: float, into_hour_s: float = 0.0) -> None:
        self._settle_s, self._asked = settle_s, asked
        self._window_s, self._into_hour_s = window_s, into_hour_s
        # Of what is measured.
        self._sums = _Sums(
            plan, asked, [goal for goal in asked.goals if goal.share is not None and goal.window is None]
        )
        self._of_window = [_Sums(plan, asked, asked.limits(window=window)) for window in range(len(asked.edges_s))]
        self._hours = _Growing(24, 3)  # by hour of the clock: arrivals, ok, ok within the limit that tells hours apart
        self.routes: tuple[str, ...] = ()
        """The routes, by code; known when all has been replayed."""
        # Of everything.
        self._failures = _Growing(64)  # by minute
        self._first_failure_s, self._last_failure_s = math.inf, -math.inf
        self._served = _Growing(8)  # by replica
        self._hourly_bytes = _Growing(24, dtype=np.float64)  # by hour of the clock since the start
        self._hourly_attempts = _Growing(24)
        self._windows = _Growing(64, len(ENDINGS))
        self._arrivals = _Growing(64)  # by window, of all that have been handed in
        self._arrived_to_s = 0.0
        self._open = np.zeros((2, 0), np.int64)  # window * _BINS + bin, ascending, and how many there
        self._pending: list[np.ndarray] = []  # more of the same
        self._n_pending = 0
        self._percentiles: dict[str, _Growing] = {
            name: _Growing(64, dtype=np.float64) for name in ("p50", "p95", "p99")
        }

    # -- filling it --------------------------------------------------------------------------------

    def arrived(self, at_s: np.ndarray) -> None:
        """Some more requests are going to arrive at these times: float64 (n,) [s]."""
        counts = np.bincount((at_s // self._window_s).astype(np.int64))
        self._arrivals.reach(len(counts))[: len(counts)] += counts
        self._arrived_to_s = float(at_s[-1])

    def take(self, ended: Ended) -> None:
        """Some requests have ended."""
        ending = ended.ending.astype(np.int64)
        is_ok = ending == Ending.OK
        answered = is_ok | (ending == Ending.ERRORED)
        self._take_all(ended, ending, is_ok, answered)
        rows = np.flatnonzero(ended.at_s >= self._settle_s)
        if len(rows):
            self._sums.take(ended, rows, ended.route[rows].astype(np.int64))
            self._take_hours(ended, rows, is_ok[rows])
            for window, sums in enumerate(self._of_window):
                inside = rows[self._asked.inside(ended.at_s[rows], window)]
                sums.take(ended, inside, np.zeros(len(inside), np.int64))

    def _take_hours(self, ended: Ended, rows: np.ndarray, is_ok: np.ndarray) -> None:
        hour = ((ended.at_s[rows] + self._into_hour_s) // 3600).astype(np.int64)
        goal, in_time = self._asked.telling, is_ok
        if goal is not None:
            in_time = is_ok & (ended.latency_s[rows] <= goal.limit_s + EPSILON_S)
        hours = self._hours.reach(int(hour.max()) + 1)
        for k, some in enumerate((np.ones(len(rows), bool), is_ok, in_time)):
            hours[:, k] += np.bincount(hour[some], minlength=len(hours))

    def _take_all(self, ended: Ended, ending: np.ndarray, is_ok: np.ndarray, answered: np.ndarray) -> None:
        """What counts whether it is measured or not."""
        failed_s = ended.at_s[~is_ok]
        if len(failed_s):
            _add(self._failures, (failed_s // 60).astype(np.int64))
            self._first_failure_s = min(self._first_failure_s, float(failed_s.min()))
            self._last_failure_s = max(self._last_failure_s, float(failed_s.max()))
        _add(self._served, ended.replica[is_ok])
        hour = ((ended.at_s + self._into_hour_s) // 3600).astype(np.int64)
        _add(self._hourly_bytes, hour[answered], ended.bytes_out[answered])
        _add(self._hourly_attempts, hour, ended.attempts.astype(np.int64))
        window = (ended.at_s // self._window_s).astype(np.int64)
        _count(self._windows.reach(int(window.max()) + 1), window * len(ENDINGS) + ending)
        keys, counts = np.unique(window[is_ok] * _BINS + bin_of(ended.latency_s[is_ok]), return_counts=True)
        self._pending.append(np.stack([keys, counts]))
        self._n_pending += len(keys)
        if self._n_pending > max(_PENDING, self._open.shape[1]):
            self._merge()
            self._close(complete_only=True)

    def _merge(self) -> None:
        """Put the bins of windows that have come in since into `_open`."""
        both = np.concatenate([self._open, *self._pending], axis=1)
        self._pending, self._n_pending = [], 0
        self._open = _summed(*both)

    def _close(self, *, complete_only: bool) -> None:
        """Sum up windows: those whose requests have all ended, or all."""
        keys, counts = self._open
        window = keys // _BINS
        last = int(window[-1]) + 1 if len(window) else 0
        done = np.ones(last, bool)
        if complete_only:
            past = (np.arange(last) + 1) * self._window_s < self._arrived_to_s
            ended = self._windows.reach(last)[:last].sum(axis=1)
            done = past & (ended == self._arrivals.reach(last)[:last])
        closing = done[window]
        self._open = self._open[:, ~closing]
        keys, counts, window = keys[closing], counts[closing], window[closing]
        first = np.flatnonzero(np.append(True, np.diff(window) > 0)) if len(window) else np.zeros(0, np.int64)
        cumulative = np.cumsum(counts)
        before = cumulative[first] - counts[first]
        total = np.add.reduceat(counts, first) if len(first) else np.zeros(0, np.int64)
        for name, values in self._percentiles.items():
            at = np.searchsorted(cumulative, before + measures.ranks(total, PERCENTILES[name]))
            values.reach(last)[window[first]] = _MIDDLES_S[keys[at] % _BINS]

    # -- what it comes to --------------------------------------------------------------------------

    def measures(self, route: int | None = None, window: int | None = None) -> Measures:
        """The figures of all that are measured, of one route, or of one window of the objectives."""
        if window is not None:
            return self._of_window[window].measures(None, self._asked.limits(window=window))
        return self._sums.measures(route, self._asked.limits(None if route is None else self.routes[route]))

    def worst_hour(self) -> Hour | None:
        """The hour of the clock with the most requests that were not answered within `Asked.telling`."""
        return measures.worst_hour(self._into_hour_s, *self._hours.values.T)

    def per_window(self, n: int, route: int | None = None) -> dict[str, np.ndarray]:
        """Of each of n windows, by first arrival: arrivals, each ending, p50_s, p95_s, p99_s of ok requests."""
        if route is not None:
            raise ReplayError("the series of a route needs the requests; allowed: keep_requests=True")
        self._merge()
        # An arrival at the very end of the last window belongs to it.
        window = np.minimum(self._open[0] // _BINS, n - 1)
        self._open = _summed(window * _BINS + self._open[0] % _BINS, self._open[1])
        self._close(complete_only=False)
        endings = self._windows.reach(n + 1)
        endings = np.concatenate([endings[: n - 1], endings[n - 1 :].sum(axis=0)[None]])
        series = {"arrivals": endings.sum(axis=1)}
        series |= {name: endings[:, code] for code, name in enumerate(ENDINGS)}
        for name, values in self._percentiles.items():
            series[f"{name}_s"] = np.where(endings[:, Ending.OK] > 0, values.reach(n)[:n], np.nan)
        return series

    def served(self, n: int) -> np.ndarray:
        """Requests answered ok by each of the replicas 1 to n."""
        return self._served.reach(n + 1)[1 : n + 1]

    def failures(self) -> Failures | None:
        """When requests failed, None: none did."""
        if self._first_failure_s > self._last_failure_s:
            return None
        return Failures(self._first_failure_s, self._last_failure_s, 60.0 * int(np.argmax(self._failures.values)))

    def failed_between(self, from_s: float, to_s: float) -> tuple[int, int] | None:  # noqa: ARG002  (not kept)
        """Not known, since requests are not kept."""
        return None

    def egress(self, month: Month) -> Fraction:
        """Bytes sent out in a month."""
        return month.of_hours(self._hourly_bytes.values)

    def cold_waits(self, run: Run) -> None:
        """Not known: requests were not kept."""

    def sent(self, month: Month) -> Fraction:
        """Attempts that the balancer got in a month."""
        return month.of_hours(self._hourly_attempts.values)

    def with_arrays(self, trace: Trace | None, results: Results | None) -> Tally:  # noqa: ARG002  (it has none)
        """The same: it has none."""
        return self


def _add(to: _Growing, at: np.ndarray, amount: np.ndarray | None = None) -> None:
    """Count places, or add amounts to them."""
    if len(at):
        sums = np.bincount(at, weights=amount)
        to.reach(len(sums))[: len(sums)] += sums.astype(to.values.dtype)


def _count(to: np.ndarray, places: np.ndarray) -> None:
    """Count places of an array, as they stand one after the other."""
    np.add.at(to.reshape(-1), places, 1)


def _summed(keys: np.ndarray, counts: np.ndarray) -> np.ndarray:
    """Each key once, ascending, with the sum of its counts: int64 (2, k)."""
    order = np.argsort(keys, kind="stable")
    keys, counts = keys[order], counts[order]
    if not len(keys):
        return np.stack([keys, counts])
    first = np.flatnonzero(np.append(True, np.diff(keys) > 0))
    return np.stack([keys[first], np.add.reduceat(counts, first)])
