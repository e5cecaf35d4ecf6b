"""The figures of a run whose requests are kept: exact, from arrays."""

from __future__ import annotations

import copy
from typing import TYPE_CHECKING, Final

import numpy as np

from libramen.engine.plane import ENDINGS, EPSILON_S, Ending
from libramen.outcome import measures, waits
from libramen.outcome.measures import TIME_PARTS, Asked, Failures, Hour, Measures, Within
from libramen.ranks import PERCENTILES

if TYPE_CHECKING:
    from collections.abc import Iterator
    from fractions import Fraction

    from libramen.bill.month import Month
    from libramen.engine.plane import Results
    from libramen.engine.run import Run
    from libramen.outcome.waits import ColdWaits
    from libramen.study.plan import Plan
    from libramen.trace.trace import Trace

_BLOCK: Final = 1 << 18
"""Requests looked at together, so that what is computed on the way needs little memory."""


class Kept:
    """What became of each request, and what that comes to; see `measures.Measured`."""

    def __init__(
        self, trace: Trace, results: Results, plan: Plan, *, settle_s: float, asked: Asked, window_s: float
    ) -> None:
        self._trace, self._results, self._plan = trace, results, plan
        self._asked, self._window_s = asked, window_s
        # Arrivals are in order, so what is measured is all from one on.
        self._first = int(np.searchsorted(trace.at_s, settle_s, side="left"))

    def measures(self, route: int | None = None, window: int | None = None) -> Measures:
        """The figures of all that are measured, of one route, or of one window of the objectives."""
        trace, results, n_minutes = self._trace, self._results, int(self._trace.at_s[-1] // 60) + 1
        goals = self._asked.limits(None if route is None else trace.routes[route], window)
        counts = np.zeros(len(ENDINGS), np.int64)
        arrivals, failed = np.zeros(n_minutes, np.int64), np.zeros(n_minutes, np.int64)
        within = np.zeros((len(goals), n_minutes), np.int64)
        attempts, sent, times, latencies = 0, 0.0, np.zeros(len(TIME_PARTS)), []
        for rows in self._blocks(route, window):
            ending = results.ending[rows]
            is_ok = ending == Ending.OK
            counts += np.bincount(ending, minlength=len(ENDINGS))
            minute = (trace.at_s[rows] // 60).astype(np.int64)
            arrivals += np.bincount(minute, minlength=n_minutes)
            failed += np.bincount(minute[~is_ok], minlength=n_minutes)
            for k, goal in enumerate(goals):
                in_time = is_ok & (results.latency_s[rows] <= goal.limit_s + EPSILON_S)
                within[k] += np.bincount(minute[in_time], minlength=n_minutes)
            attempts += int(results.attempts[rows].sum())
            if trace.bytes_out is not None:
                sent += float(trace.bytes_out[rows][is_ok | (ending == Ending.ERRORED)].sum())
            columns = (results.latency_s, results.queued_s, results.before_s, trace.cpu_s, trace.wait_s)
            ok = [column[rows][is_ok] for column in columns]
            times += [
                part.sum()
                for part in measures.time_parts(*ok, alone=self._plan.alone, overhead_s=self._plan.tier.overhead)
            ]
            latencies.append(ok[0])
        n = int(counts.sum())
        ascending = np.sort(np.concatenate(latencies)) if latencies else np.zeros(0)
        return Measures(
            requests=n,
            attempts=attempts,
            endings=dict(zip(ENDINGS, counts.tolist(), strict=True)),
            latency_s=measures.latencies(ascending),
            answered_s=measures.latencies_of_all(ascending, n),
            within={
                goal.name: Within(int(in_time.sum()), *measures.minutes_within(arrivals, in_time, goal.share or 0.0))
                for goal, in_time in zip(goals, within, strict=True)
            },
            availability=int(counts[Ending.OK]) / n if n else None,
            availability_minutes=measures.availability_minutes(arrivals, failed, self._asked.failed_share),
            time_s=dict(zip(TIME_PARTS, times.tolist(), strict=True)),
            bytes_out=sent,
        )

    def _blocks(self, route: int | None, window: int | None) -> Iterator[slice | np.ndarray]:
        for first in range(self._first, len(self._trace), _BLOCK):
            block = slice(first, first + _BLOCK)
            if window is not None:
                yield first + np.flatnonzero(self._asked.inside(self._trace.at_s[block], window))
            else:
                yield block if route is None else first + np.flatnonzero(self._trace.route_codes[block] == route)

    def worst_hour(self) -> Hour | None:
        """The hour of the clock with the most requests that were not answered within `Asked.telling`."""
        rows, goal, into_s = slice(self._first, None), self._asked.telling, self._trace.into_hour_s
        hour = ((self._trace.at_s[rows] + into_s) // 3600).astype(np.int64)
        is_ok = in_time = self._results.ending[rows] == Ending.OK
        if goal is not None:
            in_time = is_ok & (self._results.latency_s[rows] <= goal.limit_s + EPSILON_S)
        n = int(hour[-1]) + 1 if len(hour) else 0
        return measures.worst_hour(
            into_s, *(np.bincount(hour[some], minlength=n) for some in (slice(None), is_ok, in_time))
        )

    def per_window(self, n: int, route: int | None = None) -> dict[str, np.ndarray]:
        """Of each of n windows, by first arrival: arrivals, each ending, p50_s, p95_s, p99_s of ok requests."""
        rows = slice(None) if route is None else np.flatnonzero(self._trace.route_codes == route)
        ending, latency_s = self._results.ending[rows], self._results.latency_s[rows]
        window = np.minimum(self._trace.at_s[rows] // self._window_s, n - 1).astype(np.int32)
        series: dict[str, np.ndarray] = {"arrivals": np.bincount(window, minlength=n)}
        for code, name in enumerate(ENDINGS):
            series[name] = np.bincount(window[ending == code], minlength=n)
        return series | _percentiles_per_window(window, ending == Ending.OK, latency_s, n)

    def served(self, n: int) -> np.ndarray:
        """Requests answered ok by each of the replicas 1 to n."""
        results = self._results
        return np.bincount(results.replica[results.ending == Ending.OK], minlength=n + 1)[1:]

    def failures(self) -> Failures | None:
        """When requests failed, None: none did."""
        at_s = self._trace.at_s[self._results.ending != Ending.OK]
        if not len(at_s):
            return None
        worst = int(np.argmax(np.bincount((at_s // 60).astype(np.int64))))
        return Failures(float(at_s[0]), float(at_s[-1]), worst * 60.0)

    def failed_between(self, from_s: float, to_s: float) -> tuple[int, int] | None:
        """Of the requests that arrived then, how many failed, and how many there were."""
        at_s = self._trace.at_s
        rows = slice(int(np.searchsorted(at_s, from_s)), int(np.searchsorted(at_s, to_s, side="right")))
        return int(np.count_nonzero(self._results.ending[rows] != Ending.OK)), len(at_s[rows])

    def egress(self, month: Month) -> Fraction:
        """Bytes sent out in a month."""
        if self._trace.bytes_out is None:
            return month.of_amounts(np.zeros(0), np.zeros(0))
        ending = self._results.ending
        answered = (ending == Ending.OK) | (ending == Ending.ERRORED)
        return month.of_amounts(self._trace.at_s[answered], self._trace.bytes_out[answered])

    def cold_waits(self, run: Run) -> ColdWaits:
        """Requests that waited for a cold start."""
        return waits.cold_waits(self._trace, self._results, run)

    def sent(self, month: Month) -> Fraction:
        """Attempts that the balancer got in a month."""
        return month.of_amounts(self._trace.at_s, self._results.attempts.astype(np.float64))

    def with_arrays(self, trace: Trace | None, results: Results | None) -> Kept:
        """The same with other copies of the same arrays, or without them: then nothing can be asked of it."""
        other = copy.copy(self)
        vars(other).update(_trace=trace, _results=results)
        return other


def _percentiles_per_window(
    window: np.ndarray, is_ok: np.ndarray, latency_s: np.ndarray, n: int
) -> dict[str, np.ndarray]:
    """p50_s, p95_s and p99_s of the ok requests of each of n windows, by nearest rank."""
    rows = np.flatnonzero(is_ok)
    rows = rows[np.lexsort((latency_s[rows], window[rows]))]
    ascending = latency_s[rows]
    first = np.searchsorted(window[rows], np.arange(n + 1))
    count = np.diff(first)
    found: dict[str, np.ndarray] = {}
    for name in ("p50", "p95", "p99"):
        rank = measures.ranks(count, PERCENTILES[name])
        values = np.full(n, np.nan)
        values[count > 0] = ascending[(first[:-1] + rank - 1)[count > 0]]
        found[f"{name}_s"] = values
    return found
