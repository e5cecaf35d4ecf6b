"""Whether the quiet minutes of a log were quiet: what `demand = "quiet"` assumes, tested on the log itself."""

from __future__ import annotations

from typing import Final

import numpy as np

from libramen.base import units
from libramen.trace.growing import counted
from libramen.trace.statuses import is_answer
from libramen.trace.trace import Trace

_FEW: Final = 300
_RISE: Final = 0.08
_SIGMAS: Final = 4.0
_ALIKE: Final = 0.6
_BUSIEST: Final = 1.15
_SOME: Final = 1_000_000
_ENOUGH: Final = 4_000_000
"""Requests of a longer log that are looked at."""
_GOLDEN: Final = 0.6180339887498949
_LEAD_S: Final = 600.0
"""So long before them those are counted that may still be in progress."""
_MINUTES_S: Final = 120.0
_LONG_S: Final = 10.0
_MANY_IN_PROGRESS: Final = 500
REMEDY: Final = (
    'add recorded_on = "PLAN" to [trace], the plan on which the log was recorded (its replicas, slots and balancer): '
    "then what was queueing there is taken out of the latencies"
)


def quiet_doubts(trace: Trace) -> tuple[str, ...]:
    """What speaks against taking the latencies of the quiet minutes for work: sentences, none where nothing does.

    In a fleet where nobody waits and nobody shares cores, how long a request takes does not depend on how many are in
    progress when it arrives (M/G/infinity; Kleinrock, Queueing Systems, vol. 1, 1975). So within each quiet minute the
    requests that found more in progress than others are compared with those that found fewer, each against the median
    of its route.

    Args:
        trace: a log with latencies.
    """
    if trace.latency_s is None or len(trace) < _FEW:
        return ()
    arrivals = counted(trace.at_s, 60.0)
    with_traffic = np.flatnonzero(arrivals)
    order = with_traffic[np.argsort(arrivals[with_traffic], kind="stable")]
    quarter = max(1, -(-len(order) // 4))
    quiet = np.zeros(len(arrivals), bool)
    quiet[order[:quarter]] = True
    pieces = [_looked_at(trace, some) for some in _hours_of(trace, quiet)]
    minute, before, answered, relative = (np.concatenate(columns) for columns in zip(*pieces, strict=True))
    doubts = []
    rise = _rise(relative, before, minute, quiet[minute] & answered)
    if rise is not None:
        doubts.append(
            f"in the quiet minutes of this log requests that found more others in progress took "
            f"{units.show_share(rise)} longer: they waited, so their time is not their work"
        )
    low, high = float(arrivals[order[:quarter]].mean()), float(arrivals[order[-quarter:]].mean())
    if low > _ALIKE * high and (rise is not None or _rise(relative, before, minute, answered) is not None):
        doubts.append(
            f"its quietest quarter has {units.show_share(low / high)} of the requests of its busiest: there is no "
            "quiet time from which work could be taken"
        )
    return tuple(doubts)


def _hours_of(trace: Trace, quiet: np.ndarray) -> list[slice]:
    """The hours of a log that are looked at: all, or of a long one those with most quiet minutes and some others."""
    n = int(trace.at_s[-1] // 3600) + 1
    bounds = np.concatenate([[0], np.searchsorted(trace.at_s, 3600.0 * np.arange(1, n)), [len(trace)]])
    if len(trace) <= _ENOUGH:
        return [slice(0, len(trace))]
    quietest = np.argsort(-np.add.reduceat(quiet, np.arange(0, len(quiet), 60)), kind="stable")
    chosen: set[int] = set()
    spread = np.argsort(np.arange(n) * _GOLDEN % 1, kind="stable")  # any number of the first are spread over all
    for order in (quietest, spread):
        requests = 0
        for hour in order.tolist():
            if requests > _ENOUGH // 2:
                break
            requests += int(bounds[hour + 1] - bounds[hour])
            chosen.add(hour)
    pairs = [(int(bounds[hour]), int(bounds[hour + 1])) for hour in sorted(chosen)]
    return [slice(first, last) for first, last in pairs if last > first]


def _looked_at(trace: Trace, rows: slice) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Of each request in some rows: minute, found in progress, whether answered, latency over that of its route."""
    assert trace.latency_s is not None
    lead = int(np.searchsorted(trace.at_s, trace.at_s[rows.start] - _LEAD_S))
    seen, own = slice(lead, rows.stop), slice(rows.start - lead, None)
    at_s, latency_s = trace.at_s[seen], trace.latency_s[seen]
    before = np.arange(len(at_s)) - np.searchsorted(np.sort(at_s + latency_s), at_s, side="right")
    answered = np.ones(rows.stop - rows.start, bool)
    if trace.status is not None:
        answered = is_answer(trace.status[rows])
    relative = trace.latency_s[rows] / _route_medians(trace.part(rows))
    return (trace.at_s[rows] // 60).astype(np.int64), before[own], answered, relative


def unit_doubts(trace: Trace) -> tuple[str, ...]:
    """Latencies that can hardly be meant, so that their unit is in doubt: sentences, none where nothing speaks for it.

    Args:
        trace: with latencies, or with work.
    """
    took_s = trace.latency_s if trace.latency_s is not None else trace.cpu_s + trace.wait_s
    some_s = took_s[:: max(1, len(took_s) // _SOME)]
    doubts = []
    median_s = float(np.median(some_s))
    if median_s >= _MINUTES_S:
        doubts.append(
            f"half of the requests take {units.show_duration(median_s)} or longer. Is the unit of the latencies "
            "another one (latency_unit)?"
        )
    rate, mean_s = len(trace) / trace.span_s, float(some_s.mean())
    # Little's law: in progress = arrivals a second x time in the system.
    if rate * mean_s >= _MANY_IN_PROGRESS and mean_s >= _LONG_S and not doubts:
        doubts.append(
            f"{rate:.3g} requests a second that take {units.show_duration(mean_s)} on average are "
            f"{rate * mean_s:,.0f} in progress at a time. Is the unit of the latencies another one "
            "(latency_unit)?"
        )
    return tuple(doubts)


def implausible(trace: Trace, work_s: np.ndarray) -> tuple[str, ...]:
    """Whether the busiest minute would need more work in progress than there was in progress at all.

    Args:
        trace: a log with latencies.
        work_s: float64 (n,), estimated [s].
    """
    assert trace.latency_s is not None
    busiest = int(np.argmax(counted(trace.at_s, 60.0)))
    first, last = np.searchsorted(trace.at_s, [60.0 * busiest, 60.0 * (busiest + 1)]).tolist()
    needed, there = float(work_s[first:last].sum()) / 60, float(trace.latency_s[first:last].sum()) / 60
    if last - first < _FEW or needed <= _BUSIEST * there:
        return ()
    sentence = (
        f"in its busiest minute this work would keep {needed:.3g} requests in progress, where the log had {there:.3g}: "
        "the quiet samples are too long"
    )
    return (sentence,)


def _route_medians(trace: Trace) -> np.ndarray:
    """The median latency of the route of each request, float64 (n,) [s]."""
    assert trace.latency_s is not None
    order = np.argsort(trace.route_codes, kind="stable")
    bounds = np.searchsorted(trace.route_codes[order], np.arange(len(trace.routes) + 1))
    medians = np.ones(len(trace.routes))
    for code in range(len(trace.routes)):
        rows = order[bounds[code] : bounds[code + 1]]
        if len(rows):
            medians[code] = max(float(np.median(trace.latency_s[rows])), 1e-6)
    of_each: np.ndarray = medians[trace.route_codes]
    return of_each


def _rise(relative: np.ndarray, before: np.ndarray, minute: np.ndarray, rows: np.ndarray) -> float | None:
    """How much longer requests took that found more in progress than the mean of their minute; None: no longer."""
    counts = np.maximum(1, np.bincount(minute, rows))
    mean = np.bincount(minute, rows * before) / counts
    above = np.minimum(relative, 20.0)  # single monsters say nothing of the rest
    more = rows & (before > mean[minute])
    fewer = rows & (before < mean[minute])
    if min(np.count_nonzero(more), np.count_nonzero(fewer)) < _FEW // 3:
        return None
    one, other = above[more], above[fewer]
    difference = float(one.mean() - other.mean())
    error = float(np.sqrt(one.var() / len(one) + other.var() / len(other)))
    rise = difference / float(other.mean())
    return rise if rise > _RISE and difference > _SIGMAS * error else None
