"""Demand: how much work each request of a log was, when the log knows only how long it took."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Final

import numpy as np

from libramen.base.errors import TraceError
from libramen.base.fields import nearest
from libramen.base.streams import stream
from libramen.trace.growing import Growing, blocks, counted
from libramen.trace.implausible import implausible, quiet_doubts
from libramen.trace.source import RouteDemand
from libramen.trace.statuses import is_answer
from libramen.trace.trace import Trace

_ENOUGH_SAMPLES: Final = 30
_QUIET_SHARES: Final = ((0.25, "a quarter"), (0.5, "half"), (1.0, "all"))

CPU_SHARE: Final = 0.4
"""Share of the work that is CPU work, where it is not said."""


def with_demand(
    trace: Trace,
    kind: str | None,
    *,
    cpu_share: float | Mapping[str, float] | None = None,
    recorded_speed: float | None = None,
    has_cpu: bool,
    seed: int = 0,
) -> Trace:
    """The trace with `cpu_s` and `wait_s` as a study asks for them.

    Waiting that is known already (from spans) is kept; the rest of a request's time is its work. Waits that a table
    brings from an earlier estimate are not known: that estimate is made anew, from the latencies.

    Args:
        trace: the requests; `latency_s` is needed for all kinds but `"given"`.
        kind: `"given"`, `"quiet"` or `"observed"`; None: given if there is a `cpu_s`, else quiet.
        cpu_share: share of the work that is CPU work, for all or by route; `"*"`: all other routes. Default: 0.4.
        recorded_speed: speed of the core on which the log was recorded. Default: 1.
        has_cpu: whether `cpu_s` came with the trace.
        seed: of the draws among quiet samples.

    Raises:
        TraceError: the trace lacks what the kind needs, a share is of no route, or an argument would have no effect.
    """
    kind = kind or ("given" if has_cpu else "quiet")
    if kind == "unqueued":
        raise TraceError(
            "demand = 'unqueued' needs the plan on which the log was recorded; allowed: recorded_on in the [trace] of "
            "a study, or libramen.unqueue(trace, service, plan)"
        )
    if kind not in {"given", "quiet", "observed"}:
        raise TraceError(f"demand: found {kind!r}; allowed: given, quiet or observed")
    if kind == "given":
        if not has_cpu:
            raise TraceError(
                "demand = 'given' needs a column cpu_s, and this trace has none; allowed: quiet or observed"
            )
        for name, value in (("cpu_share", cpu_share), ("recorded_speed", recorded_speed)):
            if value is not None:
                raise TraceError(
                    f"{name} has no effect: the trace itself says cpu_s and wait_s (demand = 'given'); allowed: to "
                    "leave it out, or demand = 'quiet' or 'observed', which estimate them anew"
                )
        return trace
    latency_s = latencies_of(trace, f"demand = {kind!r}")
    waits_s, before = trace.wait_s, trace.source.made
    if before.estimate:
        if before.waits_are_known:
            raise TraceError(
                f"demand = {kind!r} cannot be estimated again: the table's wait_s mixes waits that spans showed with "
                f"waits that were estimated (demand = {before.demand!r}); allowed: demand = 'given', or the spans"
            )
        waits_s = np.zeros(len(trace))
    share = _shares_by_route(trace, cpu_share)
    work_s = np.empty(len(trace))
    for rows in blocks(len(trace)):
        work_s[rows] = np.maximum(0.0, latency_s[rows] - waits_s[rows])
    routes: tuple[RouteDemand, ...] = ()
    doubts = quiet_doubts(trace)
    if kind == "observed":
        notes = ["demand = observed: time spent queueing in the log counts as work, so it is counted twice"]
    else:
        notes, routes = quiet_work(trace, work_s, seed)
        doubts += implausible(trace, work_s)
    speed, cpu_s = 1.0 if recorded_speed is None else recorded_speed, np.empty(len(trace))
    for rows in blocks(len(trace)):
        some = share[trace.route_codes[rows]]
        cpu_s[rows] = some * work_s[rows] * speed
        work_s[rows] = waits_s[rows] + (1 - some) * work_s[rows]
    return trace.with_demand(cpu_s, work_s, demand=kind, notes=tuple(notes), routes=routes, doubts=doubts)


def latencies_of(trace: Trace, who: str) -> np.ndarray:
    """What a log observed, float64 (n,) [s], for somebody who cannot do without.

    Raises:
        TraceError: it has none. Where a column of another name may have been meant, it says so.
    """
    if trace.latency_s is None:
        meant = [f"; {note}" for note in trace.source.notes if note.endswith("did you mean 'latency_s'?")]
        raise TraceError(
            f"{who} needs observed latencies (latency_s), and this trace has none"
            + (
                "".join(meant)
                or '; allowed: work, such as { p50 = "80ms", p95 = "400ms" }, which says what a request takes'
            )
        )
    return trace.latency_s


def with_told_work(
    trace: Trace, cpu_share: float | Mapping[str, float] | None = None, recorded_speed: float | None = None
) -> Trace:
    """The trace with its `latency_s` taken as the work that the user says requests are, not as what a log observed."""
    assert trace.latency_s is not None
    share = shares_of(trace, cpu_share)
    cpu_s = share * trace.latency_s * (1.0 if recorded_speed is None else recorded_speed)
    told = trace.with_demand(cpu_s, (1 - share) * trace.latency_s, demand="given", notes=())
    return replace(told, latency_s=None)


def shares_of(trace: Trace, cpu_share: float | Mapping[str, float] | None = None) -> np.ndarray:
    """The CPU share of each request, float64 (n,); where it is not said 0.4.

    Raises:
        TraceError: a share is not allowed, or of no route.
    """
    share_of_each: np.ndarray = _shares_by_route(trace, cpu_share)[trace.route_codes]
    return share_of_each


def _shares_by_route(trace: Trace, cpu_share: float | Mapping[str, float] | None) -> np.ndarray:
    cpu_share = CPU_SHARE if cpu_share is None else cpu_share
    by_route = cpu_share if isinstance(cpu_share, Mapping) else {"*": cpu_share}
    for route, share in by_route.items():
        if not 0 <= share <= 1:
            raise TraceError(f"cpu_share: found {share!r}; allowed: 0 to 1")
        if route != "*" and route not in trace.routes:
            raise TraceError(f"cpu_share: there is no route {route!r}; {nearest(route, trace.routes)}")
    return np.array([by_route.get(route, by_route.get("*", CPU_SHARE)) for route in trace.routes])


def quiet_work(trace: Trace, work_s: np.ndarray, seed: int = 0) -> tuple[list[str], tuple[RouteDemand, ...]]:
    """Work without queueing [s], estimated from the minutes with the fewest arrivals.

    A request in a quiet minute keeps its own time. Any other takes a quiet sample of its route, drawn uniformly from
    a stream of its own: whoever queued longest is not whoever had most work, so its own latency tells nothing of it.

    Args:
        trace: the requests.
        work_s: float64 (n,), how long each took, less its known waits [s]; overwritten with its work.
        seed: of the draws; the n-th request has the n-th number.

    Returns:
        a sentence for every route that had to take busier minutes; and what each route's estimate rests on.
    """
    rank_of_minute = _quietness(counted(trace.at_s, 60.0))
    n_minutes, n_routes = int(rank_of_minute.max()) + 1, len(trace.routes)
    limits = [int(np.ceil(share * n_minutes - 1e-9)) for share, _ in _QUIET_SHARES]
    requests = np.zeros(n_routes, np.int64)
    answers = np.zeros((len(limits), n_routes), np.int64)  # in so many of the quietest minutes
    sums = np.zeros(n_routes)
    for rows in blocks(len(trace)):
        codes, rank, answered = _block(trace, rows, rank_of_minute)
        requests += np.bincount(codes, minlength=n_routes)
        sums += np.bincount(codes, work_s[rows], minlength=n_routes)
        for k, limit in enumerate(limits):
            answers[k] += np.bincount(codes[answered & (rank < limit)], minlength=n_routes)
    # Of each route the fewest minutes that have samples enough, or all.
    chosen = np.where((answers >= _ENOUGH_SAMPLES).any(axis=0), (answers >= _ENOUGH_SAMPLES).argmax(axis=0), 2)
    limit_of = np.array(limits)[chosen]
    samples = [Growing(np.float64) for _ in trace.routes]
    for rows in blocks(len(trace)):
        codes, rank, answered = _block(trace, rows, rank_of_minute)
        is_sample = answered & (rank < limit_of[codes])
        for code in np.unique(codes[is_sample]).tolist():
            samples[code].add(work_s[rows][is_sample & (codes == code)])
    sorted_s = [some.take() for some in samples]
    for some in sorted_s:
        some.sort()
    draws, means = stream(seed, "demand"), np.zeros(n_routes)
    for rows in blocks(len(trace)):
        codes, rank, _ = _block(trace, rows, rank_of_minute)
        drawn, is_busy = draws.random(len(codes)), rank >= limit_of[codes]
        for code in np.unique(codes[is_busy]).tolist():
            here = np.flatnonzero(is_busy & (codes == code))
            if len(sorted_s[code]):
                work_s[rows.start + here] = sorted_s[code][(drawn[here] * len(sorted_s[code])).astype(np.int64)]
        means += np.bincount(codes, work_s[rows], minlength=n_routes)
    notes, routes = [], []
    for code, route in enumerate(trace.routes):
        if not requests[code]:
            continue
        share, minutes = _QUIET_SHARES[chosen[code]]
        if share > _QUIET_SHARES[0][0]:
            which = "half of the minutes" if share < 1 else "all minutes"
            notes.append(
                f"route {route!r} has fewer than {_ENOUGH_SAMPLES} answers in quiet minutes: "
                f"its work is taken from {which}"
            )
        n = int(requests[code])
        routes.append(
            RouteDemand(route, n, len(sorted_s[code]), minutes, float(sums[code] / n), float(means[code] / n))
        )
    return notes, tuple(routes)


def _block(trace: Trace, rows: slice, rank_of_minute: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Of some requests the route, the rank of their minute, and whether they were answered."""
    rank = rank_of_minute[(trace.at_s[rows] // 60).astype(np.int64)]
    if trace.status is None:
        return trace.route_codes[rows], rank, np.ones(len(rank), bool)
    status = trace.status[rows]
    return trace.route_codes[rows], rank, is_answer(status)


def _quietness(arrivals: np.ndarray) -> np.ndarray:
    """For each minute of the trace its rank by arrivals, fewest first, earliest first among equals.

    Minutes without traffic have no rank, and get the greatest number.
    """
    with_traffic = np.flatnonzero(arrivals)
    rank = np.full(len(arrivals), len(with_traffic) - 1)
    rank[with_traffic[np.argsort(arrivals[with_traffic], kind="stable")]] = np.arange(len(with_traffic))
    return rank
