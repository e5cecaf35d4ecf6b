"""What is counted of the requests of a run: filled by one compiled pass, whether requests are kept or not."""

from __future__ import annotations

import math
from typing import Final, NamedTuple

import numpy as np

from libramen.base.ranks import PERCENTILES, rank_of
from libramen.base.times import EPSILON_S
from libramen.engine.border.records import ENDINGS, Ending
from libramen.engine.kernel.bins import (
    BASE,
    BINS,
    FINE_BINS,
    HELD,
    LATENCY,
    MOST,
    N_HOURLY,
    N_SUMS,
    RETRIED,
    SENT,
    SHIFT,
    SUM,
    TRIES,
    WORK,
    Columns,
    Counted,
    Limits,
)
from libramen.outcome import measures
from libramen.outcome.hourly import Hourly, Latencies
from libramen.outcome.measures import TIME_PARTS, Asked, Failures, Hour, Measures, Within
from libramen.study.hosting import Hosting
from libramen.study.objectives import Goal

_HOURLY: Final = {"requests": TRIES, "egress": SENT, "cpu": WORK, "held": HELD}
_EDGES_S: Final = ((np.arange(BINS + 1) + BASE) << SHIFT).view(np.float64)
MIDDLES_S: Final = np.concatenate([[0.0], (_EDGES_S[1:-1] + _EDGES_S[2:]) / 2])
"""What stands for the latencies in each bin: at most 0.39 % from any of them."""


_HOURS_IN_FULL: Final = 32


class Counting(NamedTuple):
    """What is the same for all requests of a run. Times in seconds."""

    hosting: Hosting
    asked: Asked
    settle_s: float
    window_s: float
    into_hour_s: float


class Percentiles(NamedTuple):
    """Of some requests: percentiles of the ok ones, and within what time each share of all was answered [s]."""

    of_ok: dict[str, float | None]
    of_all: dict[str, float | None]


class Counts:
    """Counts, sums and histograms of requests that have ended; of all, of a route, or of a window of objectives.

    Args:
        setting: what is the same for all requests.
        goals: the limits on latency that are counted within.
        fine: count ok latencies by their leading bits, so that ranks can be found exactly.
        coarse: count them in bins of 1 %, by route.
        windows: how many windows of the series there are; None: as many as come.
    """

    def __init__(
        self, setting: Counting, goals: list[Goal], *, fine: bool, coarse: bool, windows: int | None = None
    ) -> None:
        self._setting = setting
        limits_s = np.array(sorted({goal.limit_s for goal in goals}), np.float64)
        telling = setting.asked.telling
        hosting, telling_s = setting.hosting, math.inf if telling is None else telling.limit_s
        seconds = (
            setting.settle_s,
            setting.into_hour_s,
            setting.window_s,
            hosting.alone,
            hosting.tier.overhead,
            telling_s,
        )
        self._limits = Limits._make((*map(float, seconds), limits_s))
        self._bins = BinsByHour(setting.into_hour_s) if coarse else None
        self._n_windows = windows
        several = 1 if windows is None else windows
        self.of = Counted(
            endings=np.zeros((1, len(ENDINGS)), np.int64),
            tries=np.zeros(1, np.int64),
            sums=np.zeros((1, N_SUMS)),
            sent=np.zeros(1),
            minutes=np.zeros((1, 1, 2 + len(limits_s)), np.int32),
            hours=np.zeros((1, 3), np.int64),
            hourly_endings=np.zeros((1, 1, len(ENDINGS)), np.int64),
            hourly_within=np.zeros((1, 1, len(limits_s)), np.int64),
            histogram=np.zeros((1, BINS if coarse else 0), np.int64),
            fine=np.zeros(FINE_BINS if fine else 0, np.int64),
            windows=np.zeros((several, len(ENDINGS)), np.int64),
            window_tries=np.zeros(several, np.int64),
            hourly=np.zeros((1, 1, N_HOURLY)),
            failed=np.zeros(1, np.int64),
            served=np.zeros(1, np.int64),
            extremes=np.array([math.inf, -math.inf]),
        )

    def add(self, columns: Columns, keys: np.ndarray | None = None) -> None:
        """Count some more requests; `keys`: (n,) int64, overwritten with window * BINS + bin of each."""
        if not len(columns.at_s):
            return
        routes = int(columns.route.max()) + 1 if len(columns.route) else 1
        self._reach(float(columns.at_s.max()), routes, int(columns.replica.max()))
        from libramen.engine.kernel import counting  # late: it loads the compiler

        counting.count(self._limits, self.of, np.zeros(0, np.int64) if keys is None else keys, *columns)
        if self._bins is not None:
            is_counted = (columns.ending == Ending.OK) & (columns.at_s >= self._setting.settle_s)
            self._bins.add(columns.at_s[is_counted], columns.latency_s[is_counted])

    def _reach(self, at_s: float, routes: int, replica: int) -> None:
        """Room for a request that arrives then, on that route, served by that replica."""
        limits, minute = self._limits, int(at_s // 60) + 1
        hour = int((at_s + limits.into_hour_s) // 3600) + 1
        most = dict.fromkeys(("endings", "tries", "sums", "sent", "histogram"), routes)
        most |= dict.fromkeys(("hours", "hourly_endings", "hourly_within", "hourly"), hour)
        most |= {"failed": minute, "minutes": minute, "served": replica + 1}
        if self._n_windows is None:
            most |= dict.fromkeys(("windows", "window_tries"), int(at_s // limits.window_s) + 1)
        more = {name: grown(getattr(self.of, name), n) for name, n in most.items()}
        names = ("minutes", "hourly_endings", "hourly_within", "hourly")
        by_route = {name: grown(more[name], routes, axis=1) for name in names}
        self.of = self.of._replace(**more | by_route)

    # -- what it comes to --------------------------------------------------------------------------

    def n_of(self, route: int | None = None) -> tuple[int, int]:
        """How many requests were measured, and how many of them were ok."""
        endings = self.of.endings[_rows(route)].sum(axis=0)
        return int(endings.sum()), int(endings[Ending.OK])

    def measures(self, route: int | None, goals: list[Goal], latencies: Percentiles) -> Measures:
        """The figures of all of them, or of one route, given their latencies."""
        rows = _rows(route)
        endings = self.of.endings[rows].sum(axis=0)
        n, n_ok = int(endings.sum()), int(endings[Ending.OK])
        sums = self.of.sums[rows].sum(axis=0)
        some = self.of.minutes[:, rows]
        minutes = some[:, 0] if some.shape[1] == 1 else some.sum(axis=1)
        within = {}
        for goal in goals:
            in_time = minutes[:, 2 + int(np.searchsorted(self._limits.limits_s, goal.limit_s))]
            met = measures.minutes_within(minutes[:, 0], in_time, goal.share or 0.0)
            within[goal.name] = Within(int(in_time.sum()), *met)
        of_ok: dict[str, float | None] = dict.fromkeys(measures.LATENCIES)
        if n_ok:
            most = float(self.of.sums[rows, MOST].max())
            of_ok = {"mean": float(sums[LATENCY]) / n_ok, **latencies.of_ok, "max": most}
        return Measures(
            n_requests=n,
            attempts=int(self.of.tries[rows].sum()),
            endings=dict(zip(ENDINGS, endings.tolist(), strict=True)),
            latency_s=of_ok,
            answered_s=latencies.of_all,
            within=within,
            availability=n_ok / n if n else None,
            availability_minutes=measures.availability_minutes(
                minutes[:, 0], minutes[:, 1], self._setting.asked.failed_share
            ),
            time_s=dict(zip(TIME_PARTS, sums[RETRIED:].tolist(), strict=True)),
            bytes_out=float(self.of.sent[rows].sum()),
        )

    def by_hour(self, route: int | None, goals: list[Goal]) -> Hourly:
        """The same counts by hour of the clock since the start."""
        rows = _rows(route)
        some = self.of.minutes[:, rows]
        minutes = some[:, 0] if some.shape[1] == 1 else some.sum(axis=1)
        hours = len(self.of.hourly)
        traffic = np.flatnonzero(minutes[:, 0])
        hour = np.minimum(((60.0 * traffic + self._limits.into_hour_s) // 3600).astype(np.int64), hours - 1)
        arrived, failed = minutes[traffic, 0], minutes[traffic, 1]
        is_good = failed <= self._setting.asked.failed_share * arrived + EPSILON_S
        of_minutes = [np.bincount(some, minlength=hours) for some in (hour, hour[is_good])]
        within = self.of.hourly_within[:, rows].sum(axis=1)
        column = {goal.name: int(np.searchsorted(self._limits.limits_s, goal.limit_s)) for goal in goals}
        return Hourly(
            self.of.hourly_endings[:, rows].sum(axis=1),
            self.of.hourly[:, rows, SUM].sum(axis=1),
            np.stack(of_minutes, axis=1),
            {name: within[:, at] for name, at in column.items()},
            float(self.of.sums[rows, MOST].max(initial=0.0)),
        )

    def hourly(self, item: str) -> np.ndarray:
        """See `measured.Measured.hourly`."""
        return self.of.hourly[:, :, _HOURLY[item]]

    def coarse_by_hour(self) -> Latencies:
        """Latencies in bins, by hour."""
        assert self._bins is not None
        return self._bins.latencies()

    def coarse_latencies(self, route: int | None) -> Percentiles:
        """Percentiles from the histogram, within 0.5 %."""
        rows = _rows(route)
        n, n_ok = self.n_of(route)
        histogram, most = self.of.histogram[rows].sum(axis=0), float(self.of.sums[rows, MOST].max(initial=0.0))
        return Percentiles(
            {name: min(most, percentile_of(histogram, share)) if n_ok else None for name, share in PERCENTILES.items()},
            {
                name: min(most, percentile_of(histogram, share, n)) if n and rank_of(n, share) < n_ok else None
                for name, share in PERCENTILES.items()
            },
        )

    def worst_hour(self) -> Hour | None:
        """The hour of the clock with the most requests that were not answered within `Asked.telling`."""
        return measures.worst_hour(self._setting.into_hour_s, *self.of.hours.T)

    def failures(self) -> Failures | None:
        """When requests failed, None: none did."""
        if self.of.extremes[0] > self.of.extremes[1]:
            return None
        return Failures(float(self.of.extremes[0]), float(self.of.extremes[1]), 60.0 * int(np.argmax(self.of.failed)))

    def series(self, n: int) -> dict[str, np.ndarray]:
        """Of each of n windows, by first arrival: arrivals, attempts, and each ending."""
        endings, tries = grown(self.of.windows, n), grown(self.of.window_tries, n)
        endings = np.concatenate([endings[: n - 1], endings[n - 1 :].sum(axis=0)[None]])
        tries = np.concatenate([tries[: n - 1], [tries[n - 1 :].sum()]])
        return {"arrivals": endings.sum(axis=1), "attempts": tries} | {
            name: endings[:, code] for code, name in enumerate(ENDINGS)
        }

    def served_by(self, n: int) -> np.ndarray:
        """Requests answered ok by each of the replicas 1 to n."""
        return grown(self.of.served, n + 1)[1 : n + 1]


class BinsByHour:
    """Counts latencies in bins by hour of the clock: of the latest hours in full, of others only those that are there.

    Args:
        into_hour_s: how far into an hour the trace begins.
    """

    def __init__(self, into_hour_s: float) -> None:
        self._into_hour_s = into_hour_s
        self._latest: dict[int, np.ndarray] = {}
        self._done: list[tuple[np.ndarray, np.ndarray, np.ndarray]] = []  # hours, bins, how many there

    def add(self, at_s: np.ndarray, latency_s: np.ndarray) -> None:
        """Some more that arrived then and took so long: float64 (n,) each [s]."""
        if not len(at_s):
            return
        hour = ((at_s + self._into_hour_s) // 3600).astype(np.int64)
        low, high = int(hour.min()), int(hour.max())
        keys = (hour - low) * BINS + bin_of(latency_s)
        if high - low < _HOURS_IN_FULL:
            counts = np.bincount(keys, minlength=(high - low + 1) * BINS).reshape(-1, BINS)
            for place in np.flatnonzero(counts.any(axis=1)).tolist():
                known = self._latest.get(low + place)
                self._latest[low + place] = counts[place].copy() if known is None else known + counts[place]
            while len(self._latest) > 2 * _HOURS_IN_FULL:
                self._put_away(min(self._latest))
        else:
            some, number = np.unique(keys, return_counts=True)
            self._done.append((low + some // BINS, some % BINS, number))

    def _put_away(self, hour: int) -> None:
        counts = self._latest.pop(hour)
        there = np.flatnonzero(counts)
        self._done.append((np.full(len(there), hour), there, counts[there]))

    def latencies(self) -> Latencies:
        """What was counted so far."""
        for latest in sorted(self._latest):
            self._put_away(latest)
        if not self._done:
            return Latencies(np.zeros(0), np.zeros(0, np.int64), np.zeros(0))
        hour, at, number = (np.concatenate(column) for column in zip(*self._done, strict=True))
        return Latencies(MIDDLES_S[at], hour, number.astype(np.float64))


def _rows(route: int | None) -> slice:
    return slice(None) if route is None else slice(route, route + 1)


def grown(array: np.ndarray, n: int, axis: int = 0) -> np.ndarray:
    """The array with at least n places along an axis; where it grows, to twice as many."""
    have = array.shape[axis]
    if n <= have:
        return array
    more = list(array.shape)
    more[axis] = max(n, 2 * have if have > 1 else n) - have
    return np.ascontiguousarray(np.concatenate([array, np.zeros(more, array.dtype)], axis=axis))


def percentile_of(histogram: np.ndarray, share: float, n: int | None = None) -> float:
    """The percentile by nearest rank of what was counted in bins: int64 (BINS,); within 0.5 %.

    `n`: of how many the share is, where not all were counted in bins; those beyond come last.
    """
    rank = rank_of(int(histogram.sum()) if n is None else n, share) + 1
    return float(MIDDLES_S[np.searchsorted(np.cumsum(histogram), rank)])


def bin_of(latency_s: np.ndarray) -> np.ndarray:
    """The bin of each latency: float64 (n,) [s] -> int64 (n,)."""
    bins: np.ndarray = np.clip((np.asarray(latency_s, np.float64).view(np.int64) >> SHIFT) - BASE, 0, BINS - 1)
    return bins
