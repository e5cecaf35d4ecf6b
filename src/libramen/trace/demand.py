"""Demand: how much work each request of a log was, when the log knows only how long it took."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final

import numpy as np

from libramen.errors import TraceError

if TYPE_CHECKING:
    from libramen.trace.trace import Trace

_ENOUGH_SAMPLES: Final = 30
_QUIET_SHARES: Final = (0.25, 0.5, 1.0)


def with_demand(trace: Trace, kind: str | None, *, cpu_share: float, recorded_speed: float, has_cpu: bool) -> Trace:
    """The trace with `cpu_s` and `wait_s` as a study asks for them.

    Args:
        trace: the requests; `latency_s` is needed for all kinds but `"given"`.
        kind: `"given"`, `"quiet"` or `"observed"`; None: given if there is a `cpu_s`, else quiet.
        cpu_share: share of the work that is CPU work.
        recorded_speed: speed of the core on which the log was recorded.
        has_cpu: whether `cpu_s` came with the trace.

    Raises:
        TraceError: the trace lacks what the kind needs.
    """
    kind = kind or ("given" if has_cpu else "quiet")
    if kind == "given":
        if not has_cpu:
            raise TraceError(
                "demand = 'given' needs a column cpu_s, and this trace has none; allowed: quiet or observed"
            )
        return trace
    if trace.latency_s is None:
        raise TraceError(f"demand = {kind!r} needs observed latencies (latency_s), and this trace has none")
    if kind == "observed":
        work_s, notes = (
            trace.latency_s,
            ["demand = observed: time spent queueing in the log counts as work, so it is counted twice"],
        )
    else:
        work_s, notes = quiet_work(trace)
    return trace.with_demand(
        cpu_share * work_s * recorded_speed, (1 - cpu_share) * work_s, demand=kind, notes=tuple(notes)
    )


def quiet_work(trace: Trace) -> tuple[np.ndarray, list[str]]:
    """Work without queueing [s], estimated from the minutes with the fewest arrivals.

    A request in a quiet minute keeps its own latency. Any other takes the quantile of its route's
    quiet latencies at (r - 0.5) / n, r its rank by latency among its route's n requests of the same
    minute (Hazen's plotting positions): the order within the minute is kept, the queueing is not.

    Returns:
        float64 (n,) and a sentence for every route that had to take busier minutes.
    """
    assert trace.latency_s is not None
    latency_s = trace.latency_s
    minute = (trace.at_s // 60).astype(np.int64)
    answered = np.ones(len(trace), bool)
    if trace.status is not None:
        answered = (trace.status < 500) & (trace.status != 408) & (trace.status != 499)
    rank_of_minute = _quietness(minute)
    n_minutes = int(rank_of_minute.max()) + 1
    work_s = latency_s.copy()
    notes = []
    order = np.argsort(trace.route_codes, kind="stable")
    bounds = np.searchsorted(trace.route_codes[order], np.arange(len(trace.routes) + 1))
    for code, route in enumerate(trace.routes):
        rows = order[bounds[code] : bounds[code + 1]]
        quiet = np.zeros(len(rows), bool)
        for share in _QUIET_SHARES:
            quiet = rank_of_minute[minute[rows]] < np.ceil(share * n_minutes - 1e-9)
            if np.count_nonzero(quiet & answered[rows]) >= _ENOUGH_SAMPLES:
                break
        if share > _QUIET_SHARES[0] and len(rows):
            which = "half of the minutes" if share < 1 else "all minutes"
            notes.append(
                f"route {route!r} has fewer than {_ENOUGH_SAMPLES} answers in quiet minutes: "
                f"its work is taken from {which}"
            )
        samples = np.sort(latency_s[rows[quiet & answered[rows]]])
        busy = rows[~quiet]
        if samples.size and busy.size:
            work_s[busy] = np.interp(
                _rank_in_minute(minute[busy], latency_s[busy]) * (samples.size - 1),
                np.arange(samples.size),
                samples,
            )
    return work_s, notes


def _quietness(minute: np.ndarray) -> np.ndarray:
    """For each minute of the trace its rank by arrivals, fewest first, earliest first among equals.

    Minutes without traffic have no rank, and get the greatest number.
    """
    arrivals = np.bincount(minute)
    with_traffic = np.flatnonzero(arrivals)
    rank = np.full(len(arrivals), len(with_traffic) - 1)
    rank[with_traffic[np.argsort(arrivals[with_traffic], kind="stable")]] = np.arange(len(with_traffic))
    return rank


def _rank_in_minute(minute: np.ndarray, latency_s: np.ndarray) -> np.ndarray:
    """(r - 0.5) / n for each request, r its rank by latency among the n of its minute."""
    order = np.lexsort((latency_s, minute))
    first = np.searchsorted(minute[order], minute[order], side="left")
    count = np.searchsorted(minute[order], minute[order], side="right") - first
    position = np.empty(len(minute))
    position[order] = (np.arange(len(minute)) - first + 0.5) / count
    return position
