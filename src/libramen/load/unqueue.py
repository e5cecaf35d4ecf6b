"""Unqueueing: the work that, replayed on the fleet on which a log was recorded, gives the latencies of the log.

First the log is run backwards (`recorded`). Where stamps are fine and the balancer draws nothing, that is all: the
work of every request comes out as it was. Stamps of whole seconds and draws that nobody wrote down leave errors in
the work of each request, of a kind that can be made again: requests with known work are replayed, the replay is
written down as coarsely as the log, and run backwards the same way. Where that says of a replayed request what it says
of a logged one, the logged one may have had the replayed one's work. So the work is exchanged, until what is said of
both is the same.

Sources: the idea, to correct an estimate by simulating what distorts it, is indirect inference (Gourieroux, Monfort
and Renault, Journal of Applied Econometrics 8, 1993); to exchange the work by what is observed of it is the iteration
of Richardson (1972) and Lucy (1974), which is expectation-maximisation for a distribution seen through a known blur
(Vardi and Lee, Journal of the Royal Statistical Society B 55, 1993).
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Final

import numpy as np

from libramen.base.errors import TraceError
from libramen.base.streams import stream
from libramen.engine.simulation import DataPlaneName
from libramen.load.bottleneck import Estimate, find_bottleneck
from libramen.load.exchange import (
    FEW,
    MILLISECOND,
    SAMPLE,
    SHARING_PASSES,
    Exchange,
    Logged,
    error_of,
    forwards,
    shuffled_nearby,
    written_down,
)
from libramen.load.instants import evened, in_system, rows_by_route
from libramen.load.recorded import Backwards, Recorded
from libramen.load.totals import stretches_of, with_totals
from libramen.load.unqueue_notes import Fit, _cannot_be, _notes, _routes
from libramen.study.hosting import Hosting
from libramen.study.plan import Plan
from libramen.study.service import Service
from libramen.study.system import System
from libramen.trace.demand import latencies_of, shares_of
from libramen.trace.statuses import GAVE_UP, REFUSED, TOO_MANY
from libramen.trace.trace import Trace

_EXACT: Final = 0.03
_UNDISTURBED: Final = 0.98
_NEARBY: Final = 300
_LATE: Final = 0.02
_EVEN_ABOVE: Final = 0.02
_CUT_OFF: Final = 0.05
_LOST: Final = 0.2
_BUSY: Final = 0.95
_CROWDED: Final = 6.0
_MOST_LATE: Final = 0.3
_MORE_LATE: Final = 0.1
"""Than in a replay: what stamps and draws of a balancer leave in doubt, they do there as well."""
_MOST_ERROR: Final = 1.0


def unqueue(
    trace: Trace,
    service: Service,
    plan: Plan,
    *,
    cpu_share: float | Mapping[str, float] | None = None,
    seed: int = 0,
    server: np.ndarray | None = None,
    data_plane: DataPlaneName = "compiled",
    roughly: bool = False,
) -> Trace:
    """Give a logged trace the work that, replayed on the plan on which it was recorded, gives its latencies.

    Requests that were refused (429, and 502 to 504) took no slot, and get the work of another request of their route.
    Of requests whose client gave up (408, 499) it is known that their work is at least what they got.

    Args:
        trace: the log; `latency_s` is needed. Its `wait_s` counts as known waits, as spans show them.
        service: how a replica of the recorded fleet works; its limits and its client are left out of account.
        plan: the plan on which the log was recorded.
        cpu_share: share of the work that is CPU work, for all or by route. Default: 0.4.
        seed: random seed.
        server: int (n,), which server answered each request, -1: none; where the log says so.
        data_plane: as in `replay`.
        roughly: whether what running the log backwards says is enough, also where stamps or a balancer leave errors in
            it; that is quicker.

    Returns:
        the trace with `cpu_s` and `wait_s`; `demand.bottleneck` says what the log shows to slow requests down and the
        plan does not have. Where whole-second stamps had to be spread anew its arrivals differ by
        less than a second.

    Raises:
        TraceError: there are no latencies, or the plan cannot have served this log.

    Example:
        >>> trace = unqueue(read_trace("today.log", demand="observed"), service, plan)  # doctest: +SKIP
    """
    found = estimate(
        trace, service, plan.only, cpu_share=cpu_share, seed=seed, server=server, data_plane=data_plane, roughly=roughly
    )
    if roughly:
        return found.trace
    system = System.of(found.recorded.service, found.recorded.hosting)
    return found.trace.knowing(bottleneck=find_bottleneck([found], [found.at], found.trace, system, seed))


def estimate(
    trace: Trace,
    service: Service,
    hosting: Hosting,
    *,
    cpu_share: float | Mapping[str, float] | None = None,
    seed: int = 0,
    server: np.ndarray | None = None,
    data_plane: DataPlaneName = "compiled",
    roughly: bool = False,
) -> Estimate:
    """What `unqueue` gives, and what it rests on."""
    latency_s = latencies_of(trace, "demand = 'unqueued'")
    recorded = Recorded(trace, service, hosting, data_plane)
    share = shares_of(trace, cpu_share)
    known_s = np.minimum(trace.wait_s, latency_s)
    share = share * (1 - known_s / np.maximum(latency_s, 1e-12))
    served, gave_up = _had_a_slot(trace, server)
    rough, whole_seconds = np.zeros(len(trace), bool), trace.source.whole_seconds
    if whole_seconds:
        rough = _rough_minutes(trace, served, _backwards(trace, recorded, share, served, server, seed, 1).late)
        if rough.any():
            order, at_s = _evened(trace, rough, server)
            trace, rough = trace.take(order, at_s=at_s[order]), rough[order]
            share, served, gave_up = share[order], served[order], gave_up[order]
            server = None if server is None else server[order]
    evenly = float(np.count_nonzero(rough)) / len(trace)
    free_s = _anywhere(trace, seed) if whole_seconds else trace.at_s
    assert trace.latency_s is not None
    rows = np.flatnonzero(served)
    recorded.settle(trace.at_s[rows], trace.latency_s[rows], share[rows], seed)
    found = _backwards(trace, recorded, share, served, server, seed)
    of_routes, by = _common_routes(trace.route_codes[rows]), None if server is None else server[rows]
    logged = Logged(trace.at_s[rows], free_s[rows], trace.latency_s[rows], share[rows], of_routes, rough[rows], by)
    late, work_s, error = float(found.late.mean()), found.work_s, np.inf
    waited = float(np.mean(found.slot_at_s - logged.at_s > np.maximum(work_s, MILLISECOND)))
    if late <= _LATE and not evenly:
        error = _error_forwards(recorded, logged, work_s, seed)
    explained = error <= _EXACT or roughly
    # Stamps of whole seconds put together who was not: in a clump that never was, work comes out too short, and a
    # replay elsewhere would find that clump again. Where nobody slowed anybody down they do not matter.
    undisturbed = float(work_s.sum()) > _UNDISTURBED * float((logged.latency_s - hosting.tier.overhead).sum())
    each, unsure = explained and (undisturbed or not whole_seconds), 0.0
    if not each:
        exchanged_late = None if explained else late
        work_s, error, unsure = _of_stretches(
            recorded, logged, work_s, gave_up[rows], exchanged_late, seed, whole_seconds=whole_seconds
        )
    if not roughly and late > _MOST_LATE:
        more_late = late - _late_in_a_replay(recorded, logged, work_s, seed, whole_seconds=whole_seconds)
        if more_late > _MORE_LATE or error > _MOST_ERROR:
            raise TraceError(_cannot_be(recorded, logged, late))
    work_s = _with_censored(work_s, found.work_s, gave_up[rows], logged.route, seed)
    fit = Fit(each, late, waited, error, unsure, evenly)
    whole_s = _for_all(trace, work_s, served, seed)
    free_s = trace.at_s if each else free_s  # its own work belongs to its own arrival
    order = np.argsort(free_s, kind="stable")
    work = [work[order] for work in (share * whole_s * hosting.size.speed, (1 - share) * whole_s)]
    said = tuple(_notes(fit, served, gave_up, hosting))
    routes = tuple(_routes(trace, whole_s, served))
    unqueued = trace.take(order, at_s=free_s[order]).with_demand(*work, demand="unqueued", notes=said, routes=routes)
    return Estimate(unqueued, logged, np.argsort(order, kind="stable")[rows], recorded, whole_seconds)


# -- before the iteration --------------------------------------------------------------------------


def _error_forwards(recorded: Recorded, logged: Logged, work_s: np.ndarray, seed: int) -> float:
    """How far a replay of the work is from the log; where servers are known nothing is left open."""
    if logged.server is not None:
        return 0.0
    return error_of(recorded.forwards(logged.at_s, work_s, logged.share, seed)[0], logged.latency_s)


def _had_a_slot(trace: Trace, server: np.ndarray | None) -> tuple[np.ndarray, np.ndarray]:
    """Which requests took a slot, and which were given up by their clients: bool (n,) each.

    Raises:
        TraceError: too few were answered.
    """
    status = np.zeros(len(trace), np.int16) if trace.status is None else trace.status
    # Where the log says which server answered, it says which request took no slot.
    served = ~np.isin(status, REFUSED) if server is None else (server >= 0) & (status != TOO_MANY)
    gave_up = np.isin(status, GAVE_UP)
    if (n := np.count_nonzero(served & ~gave_up)) < FEW:
        raise TraceError(
            f"demand = 'unqueued' needs {FEW} requests that were answered, and this log has {n}; allowed: a longer "
            "log, or demand = 'quiet'"
        )
    return served, gave_up


def _backwards(
    trace: Trace,
    recorded: Recorded,
    share: np.ndarray,
    served: np.ndarray,
    server: np.ndarray | None,
    seed: int,
    passes: int | None = None,
) -> Backwards:
    """The requests that took a slot, run backwards."""
    assert trace.latency_s is not None
    rows = np.flatnonzero(served)
    who = None if server is None else server[rows]
    passes = passes or (2 * SHARING_PASSES if len(rows) <= SAMPLE else SHARING_PASSES)
    return recorded.backwards(trace.at_s[rows], trace.latency_s[rows], share[rows], seed, who, passes)


def _rough_minutes(trace: Trace, served: np.ndarray, late: np.ndarray) -> np.ndarray:
    """The requests of those minutes in which drawn parts of a second leave too many requests no time: bool (n,)."""
    minute = (trace.at_s // 60).astype(np.int64)
    arrivals = np.bincount(minute[served])
    rough = np.bincount(minute[served], late) > _EVEN_ABOVE * arrivals
    marked: np.ndarray = rough[np.minimum(minute, len(rough) - 1)]
    return marked


def _evened(trace: Trace, rough: np.ndarray, server: np.ndarray | None) -> tuple[np.ndarray, np.ndarray]:
    """The order of these arrivals, and the arrivals when the lines of a second stand evenly in it: (n,), (n,) [s].

    Departures of a busy server are paced by the work that it does; independent draws would make them burstier than they
    were.
    """
    assert trace.latency_s is not None
    leaves_s = evened(trace.at_s + trace.latency_s, server)
    at_s = np.where(rough, np.clip(leaves_s - trace.latency_s, 0.0, trace.span_s), trace.at_s)
    return np.argsort(at_s, kind="stable"), at_s


def _anywhere(trace: Trace, seed: int) -> np.ndarray:
    """Arrivals as those of many visitors are: anywhere in their second, which is all that is known."""
    drawn_s = np.floor(trace.at_s) + stream(seed, "unqueue", 22).random(len(trace))
    within_s: np.ndarray = np.minimum(drawn_s, trace.span_s)
    return within_s


def _common_routes(codes: np.ndarray) -> np.ndarray:
    """Codes of the routes, those of fewer than a hundred requests or so together: their work is looked at as one."""
    counts = np.bincount(codes)
    number = np.cumsum(counts >= FEW)
    common: np.ndarray = np.where(counts >= FEW, number, 0)[codes]
    return common


def _of_stretches(
    recorded: Recorded,
    logged: Logged,
    work_s: np.ndarray,
    gave_up: np.ndarray,
    late: float | None,
    seed: int,
    *,
    whole_seconds: bool,
) -> tuple[np.ndarray, float, float]:
    """Work that belongs to its stretch, not to its request: it, how far a replay is off, and the share that is unsure.

    Args:
        recorded: the recorded fleet.
        logged: what the log says.
        work_s: what running it backwards has found [s].
        gave_up: whose client gave up.
        late: the share that cannot have left when the log says; None: the work explains the log.
        seed: random seed.
        whole_seconds: whether stamps are.
    """
    stretch = stretches_of(logged.at_s, logged.latency_s)
    if late is None:
        work_s = shuffled_nearby(work_s, logged.route, stretch, _NEARBY, stream(seed, "unqueue", 1))
    else:
        work_s = _exchanged(recorded, logged, work_s, stretch, late, seed, whole_seconds=whole_seconds)
    cut_off = np.bincount(stretch, gave_up) > _CUT_OFF * np.bincount(stretch)
    work_s, replayed_s = with_totals(
        work_s, logged.latency_s, stretch, cut_off, lambda some_s: forwards(recorded, logged, some_s, seed)[0]
    )
    return work_s, error_of(replayed_s, logged.latency_s), float(np.mean(cut_off[stretch]))


def _exchanged(
    recorded: Recorded,
    logged: Logged,
    work_s: np.ndarray,
    stretch: np.ndarray,
    late: float,
    seed: int,
    *,
    whole_seconds: bool,
) -> np.ndarray:
    """The work, exchanged until a log of a replay says of it what this log says."""
    # In an overload how long a request took says when it came, and nothing of its work.
    crowd = float(np.quantile(in_system(logged.at_s, logged.latency_s), _BUSY)) / recorded.slots
    by_load = logged.server is None and late > _LOST and crowd < _CROWDED
    exchange = Exchange(recorded, logged, work_s, stretch, seed, whole_seconds=whole_seconds, by_load=by_load)
    return exchange.run()


def _late_in_a_replay(
    recorded: Recorded, logged: Logged, work_s: np.ndarray, seed: int, *, whole_seconds: bool
) -> float:
    """The share of requests that seem to have had no time, in a log of a replay in which all had it."""
    latency_s, replica = forwards(recorded, logged, work_s, seed + 1)
    server = None if logged.server is None else replica
    at_s, written_s = written_down(logged, latency_s, server, stream(seed, "unqueue", 23), whole_seconds=whole_seconds)
    order = np.argsort(at_s, kind="stable")
    who = None if server is None else server[order]
    said = recorded.backwards(at_s[order], written_s[order], logged.share[order], seed, who, SHARING_PASSES)
    return float(said.late.mean())


# -- after the iteration ---------------------------------------------------------------------------


def _with_censored(
    work_s: np.ndarray, got_s: np.ndarray, gave_up: np.ndarray, route: np.ndarray, seed: int
) -> np.ndarray:
    """Requests whose client gave up have at least the work that they got: that of another one with more."""
    if not gave_up.any():
        return work_s
    completed_s, drawn = work_s.copy(), stream(seed, "unqueue", 20).random(len(work_s))
    for rows in rows_by_route(route):
        pool = np.sort(work_s[rows[~gave_up[rows]]])
        some = rows[gave_up[rows]]
        if len(pool) and len(some):
            first = np.searchsorted(pool, got_s[some])
            place = first + (drawn[some] * (len(pool) - first)).astype(np.int64)
            completed_s[some] = np.where(first < len(pool), pool[np.minimum(place, len(pool) - 1)], got_s[some])
    return completed_s


def _for_all(trace: Trace, work_s: np.ndarray, served: np.ndarray, seed: int) -> np.ndarray:
    """The work of all requests: those that were refused have that of another one of their route."""
    if served.all():
        return work_s
    whole_s = np.zeros(len(trace))
    whole_s[served] = work_s
    drawn = stream(seed, "unqueue", 21).random(len(trace))
    for rows in rows_by_route(trace.route_codes):
        pool = whole_s[rows[served[rows]]]
        some = rows[~served[rows]]
        pool = pool if len(pool) else work_s
        whole_s[some] = pool[(drawn[some] * len(pool)).astype(np.int64)]
    return whole_s
