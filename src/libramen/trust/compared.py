"""Percentiles of logged and of replayed requests, side by side."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Final

import numpy as np

from libramen.base.ranks import PERCENTILES, nearest_rank
from libramen.base.results import Result
from libramen.base.streams import stream
from libramen.load.instants import in_system
from libramen.trace.statuses import is_answer
from libramen.trace.trace import Trace

QUANTILES: Final = ("p50", "p90", "p95", "p99")
JUDGED: Final = ("p50", "p95", "p99")
FEW: Final = 50
"""Of fewer requests nothing is said."""
BINS: Final = 5
MILLISECOND: Final = 1e-3


@dataclass(frozen=True)
class Compared(Result):
    """One percentile, logged and replayed [s]. `scope`: `"all"`, `"route /a"`, `"hour 07:00"`, `"in progress 0-3"`."""

    scope: str
    quantile: str
    requests: int
    logged_s: float
    replayed_s: float

    @property
    def off(self) -> float:
        """How far the replay is off, relative to the log; below a millisecond it is not."""
        return abs(self.signed)

    @property
    def signed(self) -> float:
        """The same, below 0 where the replay is quicker than the log."""
        return off_by(self.logged_s, self.replayed_s)


def off_by(logged_s: float, replayed_s: float) -> float:
    """How far a replayed time is from the logged one, relative to it; a millisecond is nothing."""
    difference = max(0.0, abs(replayed_s - logged_s) - MILLISECOND)
    return float(np.copysign(difference, replayed_s - logged_s)) / max(logged_s, MILLISECOND)


def answered(trace: Trace) -> np.ndarray:
    """Whether each request was answered in the log: bool (n,)."""
    if trace.status is None:
        return np.ones(len(trace), bool)
    return is_answer(trace.status)


def percentiles(scope: str, logged_s: np.ndarray, replayed_s: np.ndarray) -> Iterator[Compared]:
    """The percentiles of what was answered, NaN: it was not."""
    one, other = (np.sort(taken_s[~np.isnan(taken_s)]) for taken_s in (logged_s, replayed_s))
    if min(len(one), len(other)) < FEW:
        return
    for name in QUANTILES:
        share = PERCENTILES[name]
        yield Compared(scope, name, len(one), nearest_rank(one, share), nearest_rank(other, share))


def farthest(figures: Iterable[Compared]) -> float | None:
    """How far p50, p95 or p99 of all is off at most; None: there are none."""
    offs = [found.off for found in figures if found.scope == "all" and found.quantile in JUDGED]
    return max(offs) if offs else None


def hours_of(trace: Trace) -> np.ndarray:
    """The hour of the clock in which each request arrived, counted from that of the start: int64 (n,)."""
    hour: np.ndarray = ((trace.at_s + trace.into_hour_s) // 3600).astype(np.int64)
    return hour


def hour_named(trace: Trace, number: int) -> str:
    """`hour Sun 12:00`, or by its number where no real time is known."""
    local = trace.local_time(max(0.0, 3600.0 * number - trace.into_hour_s))
    return f"hour {number}" if local is None else f"hour {local:%a %H:00}"


def all_percentiles(trace: Trace, logged_s: np.ndarray, replayed_s: np.ndarray, seed: int) -> Iterator[Compared]:
    """Of all, by route, by hour, and by how many were in progress at arrival."""
    yield from percentiles("all", logged_s, replayed_s)
    if len(trace.routes) > 1:
        counts = np.bincount(trace.route_codes, minlength=len(trace.routes))
        for code in np.argsort(-counts, kind="stable").tolist():
            rows = trace.route_codes == code
            yield from percentiles(f"route {trace.routes[code]}", logged_s[rows], replayed_s[rows])
    hour = hours_of(trace)
    if hour[-1] > hour[0]:
        for number in np.unique(hour).tolist():
            rows = hour == number
            yield from percentiles(hour_named(trace, number), logged_s[rows], replayed_s[rows])
    logged = in_system(trace.at_s, np.nan_to_num(logged_s))
    replayed = in_system(as_stamped(trace, seed), np.nan_to_num(replayed_s))
    edges = np.unique(np.quantile(logged, np.linspace(0, 1, BINS + 1)[1:-1]).astype(np.int64))
    bounds = [-1, *edges.tolist(), int(max(logged.max(), replayed.max()))]
    for low, high in itertools.pairwise(bounds):
        scope = f"in progress {low + 1}-{high}" if high > low + 1 else f"in progress {high}"
        mine, theirs = ((low < n) & (n <= high) for n in (logged, replayed))
        yield from percentiles(scope, logged_s[mine], replayed_s[theirs])


def as_stamped(trace: Trace, seed: int) -> np.ndarray:
    """The arrivals known no better than the log knows them: (n,) [s].

    How many are in progress then is as uncertain in the replay as it is in the log, and the two can be compared.
    """
    if not trace.source.whole_seconds:
        return trace.at_s
    drawn_s: np.ndarray = np.floor(trace.at_s) + stream(seed, "backtest", 1).random(len(trace))
    return drawn_s
