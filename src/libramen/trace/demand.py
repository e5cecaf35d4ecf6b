"""Demand: how much work each request of a log was, when the log knows only how long it took."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Final

import numpy as np

from libramen.errors import TraceError
from libramen.fields import nearest
from libramen.trace.trace import RouteDemand

if TYPE_CHECKING:
    from libramen.trace.trace import Trace

_ENOUGH_SAMPLES: Final = 30
_QUIET_SHARES: Final = ((0.25, "a quarter"), (0.5, "half"), (1.0, "all"))


def with_demand(
    trace: Trace, kind: str | None, *, cpu_share: float | Mapping[str, float], recorded_speed: float, has_cpu: bool
) -> Trace:
    """The trace with `cpu_s` and `wait_s` as a study asks for them.

    Waiting that is known already (from spans) is kept; the rest of a request's time is its work.

    Args:
        trace: the requests; `latency_s` is needed for all kinds but `"given"`.
        kind: `"given"`, `"quiet"` or `"observed"`; None: given if there is a `cpu_s`, else quiet.
        cpu_share: share of the work that is CPU work, for all or by route; `"*"`: all other routes.
        recorded_speed: speed of the core on which the log was recorded.
        has_cpu: whether `cpu_s` came with the trace.

    Raises:
        TraceError: the trace lacks what the kind needs, or a share is of no route.
    """
    kind = kind or ("given" if has_cpu else "quiet")
    if kind not in {"given", "quiet", "observed"}:
        raise TraceError(f"demand: found {kind!r}; allowed: given, quiet or observed")
    if kind == "given":
        if not has_cpu:
            raise TraceError(
                "demand = 'given' needs a column cpu_s, and this trace has none; allowed: quiet or observed"
            )
        return trace
    if trace.latency_s is None:
        raise TraceError(f"demand = {kind!r} needs observed latencies (latency_s), and this trace has none")
    share = _shares(trace, cpu_share)
    observed_s = np.maximum(0.0, trace.latency_s - trace.wait_s)
    routes: tuple[RouteDemand, ...] = ()
    if kind == "observed":
        work_s = observed_s
        notes = ["demand = observed: time spent queueing in the log counts as work, so it is counted twice"]
    else:
        work_s, notes, routes = quiet_work(trace, observed_s)
    return trace.with_demand(
        share * work_s * recorded_speed,
        trace.wait_s + (1 - share) * work_s,
        demand=kind,
        notes=tuple(notes),
        routes=routes,
    )


def _shares(trace: Trace, cpu_share: float | Mapping[str, float]) -> np.ndarray:
    """The CPU share of each request, float64 (n,)."""
    by_route = cpu_share if isinstance(cpu_share, Mapping) else {"*": cpu_share}
    for route, share in by_route.items():
        if not 0 <= share <= 1:
            raise TraceError(f"cpu_share: found {share!r}; allowed: 0 to 1")
        if route != "*" and route not in trace.routes:
            raise TraceError(f"cpu_share: there is no route {route!r}; {nearest(route, trace.routes)}")
    per_route = np.array([by_route.get(route, by_route.get("*", 0.4)) for route in trace.routes])
    share_of_each: np.ndarray = per_route[trace.route_codes]
    return share_of_each


def quiet_work(trace: Trace, observed_s: np.ndarray) -> tuple[np.ndarray, list[str], tuple[RouteDemand, ...]]:
    """Work without queueing [s], estimated from the minutes with the fewest arrivals.

    A request in a quiet minute keeps its own time. Any other takes the quantile of its route's
    quiet times at (r - 0.5) / n, r its rank among its route's n requests of the same minute (Hazen's
    plotting positions): the order within the minute is kept, the queueing is not.

    Args:
        trace: the requests.
        observed_s: float64 (n,), how long each took, less its known waits [s].

    Returns:
        float64 (n,); a sentence for every route that had to take busier minutes; and what each
        route's estimate rests on.
    """
    minute = (trace.at_s // 60).astype(np.int64)
    answered = np.ones(len(trace), bool)
    if trace.status is not None:
        answered = (trace.status < 500) & (trace.status != 408) & (trace.status != 499)
    rank_of_minute = _quietness(minute)
    n_minutes = int(rank_of_minute.max()) + 1
    work_s = observed_s.copy()
    notes, routes = [], []
    order = np.argsort(trace.route_codes, kind="stable")
    bounds = np.searchsorted(trace.route_codes[order], np.arange(len(trace.routes) + 1))
    for code, route in enumerate(trace.routes):
        rows = order[bounds[code] : bounds[code + 1]]
        if not len(rows):
            continue
        for share, minutes in _QUIET_SHARES:  # noqa: B007  (the last ones are used below)
            quiet = rank_of_minute[minute[rows]] < np.ceil(share * n_minutes - 1e-9)
            if np.count_nonzero(quiet & answered[rows]) >= _ENOUGH_SAMPLES:
                break
        if share > _QUIET_SHARES[0][0]:
            which = "half of the minutes" if share < 1 else "all minutes"
            notes.append(
                f"route {route!r} has fewer than {_ENOUGH_SAMPLES} answers in quiet minutes: "
                f"its work is taken from {which}"
            )
        samples = np.sort(observed_s[rows[quiet & answered[rows]]])
        busy = rows[~quiet]
        if samples.size and busy.size:
            work_s[busy] = np.interp(
                _rank_in_minute(minute[busy], observed_s[busy]) * (samples.size - 1), np.arange(samples.size), samples
            )
        means = float(observed_s[rows].mean()), float(work_s[rows].mean())
        routes.append(RouteDemand(route, len(rows), samples.size, minutes, *means))
    return work_s, notes, tuple(routes)


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
