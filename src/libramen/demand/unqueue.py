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

from dataclasses import dataclass
from typing import TYPE_CHECKING, Final, NamedTuple

import numpy as np

from libramen import units
from libramen.demand.recorded import Backwards, Recorded
from libramen.errors import TraceError
from libramen.streams import stream
from libramen.trace.demand import shares_of
from libramen.trace.trace import RouteDemand

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping

    from libramen.engine.control import DataPlaneName
    from libramen.study.plan import Plan
    from libramen.study.service import Service
    from libramen.trace.trace import Trace

_REFUSED: Final = (429, 502, 503, 504)
_GAVE_UP: Final = (408, 499)
_SAMPLE: Final = 100_000
"""Requests that the iteration looks at; more are replayed once at its end."""
_BLOCKS: Final = 4
_SHARING_PASSES: Final = 4
_TURNS: Final = 8
_FEWER_TURNS: Final = 6
_KEPT_TURNS: Final = 4
_LENGTHS: Final = (1, 50, 300, 300, 1500, 1500)
_STRATA: Final = 6
_FEW: Final = 120
_TOLERANCE: Final = 0.05
_EXACT: Final = 0.03
_WELL: Final = 0.03
_UNDISTURBED: Final = 0.98
_NEARBY: Final = 300
_LATE: Final = 0.02
_EVEN_ABOVE: Final = 0.02
_LOST: Final = 0.2
_MOST_LATE: Final = 0.3
_MOST_ERROR: Final = 0.4
_MOST_DRAWN_ERROR: Final = 1.0  # what a balancer draws moves the tail of a busy fleet by that much
_QUANTILES: Final = np.array([0.5, 0.95, 0.99])
_MILLISECOND: Final = 1e-3


class Logged(NamedTuple):
    """What the log says of the requests that took a slot, in order of `at_s`."""

    at_s: np.ndarray  # as they are run backwards
    free_s: np.ndarray  # as they are replayed: the same where stamps are fine, else anywhere in their second
    latency_s: np.ndarray
    share: np.ndarray  # of the work that is CPU work
    route: np.ndarray  # int, with the rare ones together
    rough: np.ndarray  # bool, its whole-second stamp was spread evenly, not drawn
    server: np.ndarray | None

    def rows(self, rows: np.ndarray) -> Logged:
        """Some of them."""
        return Logged(*(None if column is None else column[rows] for column in self))  # type: ignore[arg-type]


@dataclass(frozen=True)
class Fit:
    """How far the work that was found explains the log on the recorded plan.

    Attributes:
        each: whether each request has its own work; else it is its own only as a sample of its route.
        late: share of the requests that cannot have left when the log says, on this plan.
        waited: share of the requests that waited for a slot longer than they worked.
        error: greatest relative difference of p50, p95 and p99, replayed against logged.
        evenly: share of the requests whose whole-second stamps were spread evenly, because drawn ones left no time.
    """

    each: bool
    late: float
    waited: float
    error: float
    evenly: float


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
        the trace with `cpu_s` and `wait_s`. Where whole-second stamps had to be spread anew its arrivals differ by
        less than a second.

    Raises:
        TraceError: there are no latencies, or the plan cannot have served this log.

    Example:
        >>> trace = unqueue(read_trace("today.log", demand="observed"), service, plan)  # doctest: +SKIP
    """
    if trace.latency_s is None:
        raise TraceError("demand = 'unqueued' needs observed latencies (latency_s), and this trace has none")
    recorded = Recorded(trace, service, plan, data_plane)
    share = shares_of(trace, cpu_share)
    known_s = np.minimum(trace.wait_s, trace.latency_s)
    share = share * (1 - known_s / np.maximum(trace.latency_s, 1e-12))
    status = np.zeros(len(trace), np.int16) if trace.status is None else trace.status
    served, gave_up = ~np.isin(status, _REFUSED), np.isin(status, _GAVE_UP)
    if server is not None:  # then the log says which took no slot
        served = (server >= 0) & (status != _REFUSED[0])
    if np.count_nonzero(served & ~gave_up) < _FEW:
        raise TraceError(
            f"demand = 'unqueued' needs {_FEW} requests that were answered, and this log has "
            f"{np.count_nonzero(served & ~gave_up)}; allowed: a longer log, or demand = 'quiet'"
        )
    rough = np.zeros(len(trace), bool)
    if trace.source.whole_seconds:
        rough = _rough_minutes(trace, served, _backwards(trace, recorded, share, served, server, seed, 1).late)
        if rough.any():
            order, at_s = _evened(trace, rough, server)
            trace, rough = trace.take(order, at_s=at_s[order]), rough[order]
            share, served, gave_up = share[order], served[order], gave_up[order]
            server = None if server is None else server[order]
    evenly = float(np.count_nonzero(rough)) / len(trace)
    free_s = _anywhere(trace, seed) if trace.source.whole_seconds else trace.at_s
    assert trace.latency_s is not None
    rows = np.flatnonzero(served)
    recorded.settle(trace.at_s[rows], trace.latency_s[rows], share[rows], seed)
    found = _backwards(trace, recorded, share, served, server, seed)
    logged = Logged(
        trace.at_s[rows],
        free_s[rows],
        trace.latency_s[rows],
        share[rows],
        _common_routes(trace.route_codes[rows]),
        rough[rows],
        None if server is None else server[rows],
    )
    late = float(found.late.mean())
    waited = float(np.mean(found.slot_at_s - logged.at_s > np.maximum(found.work_s, _MILLISECOND)))
    work_s, error = found.work_s, np.inf
    if late <= _LATE and not evenly and server is not None:  # nothing is left open
        error = 0.0
    elif late <= _LATE and not evenly:
        error = _error(recorded.forwards(logged.at_s, work_s, logged.share, seed)[0], logged.latency_s)
    explained = error <= _EXACT or roughly
    # Stamps of whole seconds put together who was not: in a clump that never was, work comes out too short, and a
    # replay elsewhere would find that clump again. Where nobody slowed anybody down they do not matter.
    undisturbed = float(work_s.sum()) > _UNDISTURBED * float((logged.latency_s - plan.tier.overhead).sum())
    each = explained and (undisturbed or not trace.source.whole_seconds)
    if not explained:
        exchange = _Exchange(
            recorded,
            logged,
            work_s,
            seed,
            whole_seconds=trace.source.whole_seconds,
            by_load=server is None and late > _LOST,
        )
        work_s, replayed_s = exchange.run()
        error = _error(replayed_s, exchange.sampled_s)
    elif not each:
        work_s = shuffled_nearby(work_s, logged.route, _NEARBY, stream(seed, "unqueue", 1))
    if not roughly:
        _can_be(recorded, logged, late, error)
    work_s = _with_censored(work_s, found.work_s, gave_up[rows], logged.route, seed)
    fit = Fit(each, late, waited, error, evenly)
    whole_s = _for_all(trace, work_s, served, seed)
    cpu_s = share * whole_s * plan.size.speed
    if each:  # its own work belongs to its own arrival
        free_s = trace.at_s
    order = np.argsort(free_s, kind="stable")
    unqueued = trace.take(order, at_s=free_s[order])
    return unqueued.with_demand(
        cpu_s[order],
        ((1 - share) * whole_s)[order],
        demand="unqueued",
        notes=tuple(_notes(fit, served, gave_up, plan)),
        routes=tuple(_routes(trace, whole_s, served)),
    )


# -- before the iteration --------------------------------------------------------------------------


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
    passes = passes or (2 * _SHARING_PASSES if len(rows) <= _SAMPLE else _SHARING_PASSES)
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


def in_system(at_s: np.ndarray, latency_s: np.ndarray) -> np.ndarray:
    """How many requests each found in the system when it arrived: float64 (n,); the arrivals in any order [s]."""
    before = np.searchsorted(np.sort(at_s), at_s, side="left")
    gone = np.searchsorted(np.sort(at_s + latency_s), at_s, side="right")
    return np.asarray(before - gone, np.float64)


def _anywhere(trace: Trace, seed: int) -> np.ndarray:
    """Arrivals as those of many visitors are: anywhere in their second, which is all that is known."""
    drawn_s = np.floor(trace.at_s) + stream(seed, "unqueue", 22).random(len(trace))
    within_s: np.ndarray = np.minimum(drawn_s, trace.span_s)
    return within_s


def _drawn_in_order(leaves_s: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    """Instants drawn anew within their second, in their order, as a reader draws them: float64 (n,) [s]."""
    order = np.argsort(leaves_s, kind="stable")
    drawn_s = np.empty(len(leaves_s))
    drawn_s[order] = np.sort(np.floor(leaves_s[order] + 1e-9) + rng.random(len(leaves_s)))
    return drawn_s


def evened(leaves_s: np.ndarray, server: np.ndarray | None = None) -> np.ndarray:
    """Instants in the middle of equal parts of their second, in order: float64 (n,) [s]; each server by itself."""
    spread = np.empty(len(leaves_s))
    for rows in [np.arange(len(leaves_s))] if server is None else _rows_by_route(server):
        order = rows[np.argsort(leaves_s[rows], kind="stable")]
        second = np.floor(leaves_s[order] + 1e-9)
        first = np.searchsorted(second, second, side="left")
        count = np.searchsorted(second, second, side="right") - first
        spread[order] = second + (np.arange(len(second)) - first + 0.5) / count
    return spread


def _common_routes(codes: np.ndarray) -> np.ndarray:
    """Codes of the routes, those of fewer than a hundred requests or so together: their work is looked at as one."""
    counts = np.bincount(codes)
    number = np.cumsum(counts >= _FEW)
    common: np.ndarray = np.where(counts >= _FEW, number, 0)[codes]
    return common


def _can_be(recorded: Recorded, logged: Logged, late: float, error: float) -> None:
    """Refuse what no work explains.

    Raises:
        TraceError: many requests left before the plan can have had a slot for them, and its replay is not the log.
    """
    if late <= _MOST_LATE or error <= (_MOST_DRAWN_ERROR if recorded.draws else _MOST_ERROR):
        return
    latency_s = np.sort(logged.latency_s)
    longest = latency_s[-max(1, len(latency_s) // 100) :]
    held, limit_s = float(longest.sum() / latency_s.sum()), float(longest[0])
    progress = float(latency_s.sum()) / float(logged.at_s[-1] - logged.at_s[0] + latency_s[-1])
    sentence = (
        f"the plan {recorded.plan.name!r} cannot have served this log: {units.show_share(late)} of its requests left "
        "before they could have had a slot"
    )
    if held > 0.5:
        raise TraceError(
            f"{sentence}. One request in a hundred took longer than {units.show_duration(limit_s)}, and they take up "
            f"{units.show_share(held)} of all time in progress: slow lines of clients, uploads or downloads? allowed: "
            f'leave_out = [{{ longer = "{units.show_duration(limit_s)}" }}], or a log of the time in the service itself'
        )
    raise TraceError(
        f"{sentence}. It has {recorded.slots} slots, and the log has {progress:.3g} requests in progress on average; "
        "allowed: the replicas, slots and threads that there were, in the plan or in [plans.NAME.service]"
    )


# -- the iteration ---------------------------------------------------------------------------------


class _Exchange:
    """Exchanges the work of requests until the replay of the recorded plan, written down as the log is, looks like it.

    Args:
        recorded: the fleet.
        logged: the requests.
        said_s: float64 (n,), their work as running backwards has it [s].
        seed: random seed.
        whole_seconds: how coarsely the log is written.
        by_load: whether what is said of a request is how long it took with so many others in the system.
    """

    def __init__(
        self, recorded: Recorded, logged: Logged, said_s: np.ndarray, seed: int, *, whole_seconds: bool, by_load: bool
    ) -> None:
        self._recorded, self._whole_seconds, self._seed = recorded, whole_seconds, seed
        # Where a balancer drew replicas, or took turns that whole seconds have shuffled, running backwards sends too
        # many requests to wrong ones. What is said of a request is then how long it took, among those that found as
        # many in the system.
        self._by_load = by_load
        self._all, self._all_said_s = logged, logged.latency_s if by_load else said_s
        self._all_stratum = in_system(logged.at_s, logged.latency_s) if by_load else logged.latency_s
        rows = self._sample(logged.at_s)
        self._logged, self._said_s, self._guess_s = logged.rows(rows), self._all_said_s[rows], said_s[rows]
        self._rng = stream(seed, "unqueue")
        latency_s = self._logged.latency_s
        self._middle_s = max(float(np.median(latency_s)), 1e-6)
        self._level = self._level_of(latency_s)
        # Else in strata of their latency, so that what was said is compared among requests that took about as long.
        self._stratum = self._all_stratum[rows]
        self._edges = np.unique(np.quantile(self._stratum, np.linspace(0, 1, _STRATA + 1)[1:-1]))

    @property
    def sampled_s(self) -> np.ndarray:
        """The logged latencies of the requests that are looked at: float64 (m,) [s]."""
        return self._logged.latency_s

    def _sample(self, at_s: np.ndarray) -> np.ndarray:
        """The rows that are looked at: all, or a few long stretches, one of them the busiest."""
        n = len(at_s)
        if n <= _SAMPLE:
            return np.arange(n)
        size = _SAMPLE // _BLOCKS
        begins = np.arange(0, n - size + 1, max(1, size // 4))
        busiest = int(begins[np.argmin(at_s[begins + size - 1] - at_s[begins])])
        starts = [*np.linspace(0, n - size, _BLOCKS - 1).astype(int).tolist(), busiest]
        return np.unique(np.concatenate([np.arange(start, start + size) for start in starts]))

    def _level_of(self, latency_s: np.ndarray) -> float:
        """How long requests take on the whole: a mean in which neither the quickest nor the slowest count for much."""
        return float(np.log(latency_s + self._middle_s).mean())

    def run(self) -> tuple[np.ndarray, np.ndarray]:
        """The work of all requests [s]: float64 (n,); and the latencies that the sample then has in a replay [s]."""
        logged, n = self._logged, len(self._logged.at_s)
        # What is said of requests that seem to have had no time at all is not worth more than a guess.
        guess_s = np.minimum(logged.latency_s, float(np.mean(self._guess_s))) * 2 * self._rng.random(n)
        work_s = np.where(self._guess_s < 0.1 * logged.latency_s, guess_s, self._guess_s)
        pools: list[np.ndarray] = []
        turns = _TURNS if n <= _SAMPLE // 2 else _FEWER_TURNS
        for turn in range(turns):
            given_s, latency_s, replica = self._replayed(self._shuffled(work_s, logged.route))
            stratum, said_s = self._said_of(latency_s, replica)
            work_s = self._exchanged(logged, self._stratum, self._said_s, stratum, said_s, given_s)
            if turn >= turns - _KEPT_TURNS:
                pools.append(_sorted_by_route(work_s, logged.route))
        everybody = self._all
        whole_s = self._exchanged(everybody, self._all_stratum, self._all_said_s, stratum, said_s, given_s)
        # The last turns differ by chance: their mean is what a route has.
        whole_s = _with_quantiles(whole_s, everybody.route, np.mean(pools, axis=0), logged.route)
        return self._assigned(whole_s)

    def _shuffled(self, work_s: np.ndarray, route: np.ndarray) -> np.ndarray:
        """The same work of each route, on other requests of it."""
        shuffled = work_s.copy()
        for rows in _rows_by_route(route):
            shuffled[rows] = work_s[self._rng.permutation(rows)]
        return shuffled

    def _replayed(self, work_s: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """The work, all of it longer or shorter so that requests take as long as in the log; latencies; replicas.

        A busy fleet answers to a percent more of work with many percent of latency, and one that drowns tells nothing.
        """
        low, high = 0.0, np.inf
        factor, step, best, found = 1.0, 0.02, np.inf, None
        # Another seed than that with which the log is run backwards: what a balancer drew is not known.
        seed = self._seed + 1 if self._recorded.draws else self._seed
        for _ in range(_TURNS):
            latency_s, replica = self._forwards(factor * work_s, seed)
            short = self._level - self._level_of(latency_s)
            if abs(short) < best:
                best, found = abs(short), (factor * work_s, latency_s, replica)
            if abs(short) < _TOLERANCE:
                break
            low, high = (factor, high) if short > 0 else (low, factor)
            if low > 0 and np.isfinite(high):
                factor = float(np.sqrt(low * high))
            else:
                factor *= float(np.exp(np.sign(short) * min(abs(short) / 2, step)))
                step *= 2
        assert found is not None
        return found

    def _said_of(self, latency_s: np.ndarray, replica: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """What is said of replayed requests that are written down as the log is: strata and work (n,) [s]."""
        logged = self._logged
        leaves_s = logged.free_s + latency_s
        server = None if logged.server is None else replica
        if self._whole_seconds:
            drawn_s = _drawn_in_order(leaves_s, self._rng)
            leaves_s = np.where(logged.rough, evened(leaves_s, server), drawn_s)
        else:
            leaves_s = _MILLISECOND * np.floor(leaves_s / _MILLISECOND)
        written_s = _MILLISECOND * np.round(latency_s / _MILLISECOND)
        at_s = np.maximum(0.0, leaves_s - written_s)
        if self._by_load:
            return in_system(at_s, written_s), written_s
        order = np.argsort(at_s, kind="stable")
        server = None if server is None else server[order]
        passes = _SHARING_PASSES if len(order) > _SAMPLE // 2 else 2 * _SHARING_PASSES
        found = self._recorded.backwards(at_s[order], written_s[order], logged.share[order], self._seed, server, passes)
        said_s = np.empty(len(order))
        said_s[order] = found.work_s
        return latency_s, said_s

    def _exchanged(
        self,
        logged: Logged,
        wanted_stratum: np.ndarray,
        wanted_s: np.ndarray,
        stratum: np.ndarray,
        said_s: np.ndarray,
        given_s: np.ndarray,
    ) -> np.ndarray:
        """For each logged request the work of a replayed one of its route and stratum of which the same is said.

        Args:
            logged: the requests.
            wanted_stratum: their strata.
            wanted_s: what is said of them [s].
            stratum: of the replayed sample.
            said_s: what is said of it [s].
            given_s: the work that it had [s].
        """
        work_s = np.minimum(wanted_s, logged.latency_s)
        mine, theirs = (np.searchsorted(self._edges, values) for values in (wanted_stratum, stratum))
        by_route = dict(_by_route(self._logged.route))
        for route, rows in _by_route(logged.route):
            pool = by_route.get(route)
            if pool is None:
                continue
            for number in range(len(self._edges) + 1):
                some = rows[mine[rows] == number]
                others = pool[theirs[pool] == number]
                if len(others) < _FEW // 4:
                    others = pool
                if len(some):
                    drawn_s = self._drawn(wanted_s[some], said_s[others], given_s[others])
                    work_s[some] = np.minimum(drawn_s, logged.latency_s[some])
        exchanged_s: np.ndarray = work_s
        return exchanged_s

    def _drawn(self, wanted_s: np.ndarray, said_s: np.ndarray, given_s: np.ndarray) -> np.ndarray:
        """The work of others of whom the nearest was said, one of the nearest each."""
        order = np.argsort(said_s, kind="stable")
        said_s, given_s = said_s[order], given_s[order]
        near = max(1, len(order) // 250)
        # Of many of whom the same is said, any.
        first, last = (np.searchsorted(said_s, wanted_s, side=side) for side in ("left", "right"))
        place = first + (self._rng.random(len(wanted_s)) * np.maximum(1, last - first)).astype(np.int64)
        place = np.clip(place + self._rng.integers(-near, near + 1, len(wanted_s)), 0, len(order) - 1)
        beyond_s = wanted_s - np.clip(wanted_s, said_s[0], said_s[-1])
        drawn_s: np.ndarray = np.maximum(0.0, given_s[place] + beyond_s)
        return drawn_s

    def _assigned(self, work_s: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Which request has which work: its own, or any of its route, near in time or wherever.

        What is exchanged by how long a request took goes with how busy the fleet was; requests themselves do not. How
        far that matters depends on the log, so the way is taken whose replay is nearest to it.
        """
        rows = self._sample(self._all.at_s)
        some_s, best, way, found, latency_s = work_s[rows], np.inf, (1, 1), work_s[rows], self._logged.latency_s
        lengths = (*_LENGTHS, len(rows), len(rows), len(rows))
        for number, length in enumerate(lengths, start=1):
            rng = stream(self._seed, "unqueue", number)
            candidate_s = shuffled_nearby(some_s, self._logged.route, length, rng)
            replayed_s, _ = self._forwards(candidate_s, self._seed)
            error = _error(replayed_s, self._logged.latency_s)
            if error < best:
                best, way, found, latency_s = error, (number, length), candidate_s, replayed_s
        factor = 1.0
        # A busy fleet's latencies depend on who came together by chance. Where that has put them off, all work is made
        # a little longer or shorter; where they are near enough, it is left as it was found.
        for step in (0.02, 0.01, 0.005, 0.0025) if best > _WELL else ():
            for trial in (factor * (1 + step), factor * (1 - step)):
                replayed_s, _ = self._forwards(trial * found, self._seed)
                error = _error(replayed_s, self._logged.latency_s)
                if abs(trial - 1) < 0.03 and error < best:
                    best, factor, latency_s = error, trial, replayed_s
        if len(rows) < len(work_s):
            number, length = way
            length = length if length < len(rows) else len(work_s)
            found = shuffled_nearby(work_s, self._all.route, length, stream(self._seed, "unqueue", number))
        return factor * found, latency_s

    def _forwards(self, work_s: np.ndarray, seed: int) -> tuple[np.ndarray, np.ndarray]:
        """Latencies [s] of the sample with this work, and the replicas that served it."""
        logged = self._logged
        order = np.argsort(logged.free_s, kind="stable")
        latency_s, replica = np.empty(len(order)), np.empty(len(order), np.int64)
        latency_s[order], replica[order] = self._recorded.forwards(
            logged.free_s[order], work_s[order], logged.share[order], seed
        )
        return latency_s, replica


def _error(replayed_s: np.ndarray, logged_s: np.ndarray) -> float:
    """The greatest relative difference of p50, p95 and p99 of two samples; a millisecond is none."""
    found, wanted = (np.quantile(taken_s, _QUANTILES) for taken_s in (replayed_s, logged_s))
    off = np.maximum(0.0, np.abs(found - wanted) - _MILLISECOND) / np.maximum(wanted, _MILLISECOND)
    return float(off.max())


def _by_route(route: np.ndarray) -> Iterator[tuple[int, np.ndarray]]:
    """Each route and its rows, in their order."""
    order = np.argsort(route, kind="stable")
    bounds = np.searchsorted(route[order], np.arange(int(route.max()) + 2))
    for code in range(len(bounds) - 1):
        if bounds[code] < bounds[code + 1]:
            yield code, order[bounds[code] : bounds[code + 1]]


def _rows_by_route(route: np.ndarray) -> Iterator[np.ndarray]:
    for _, rows in _by_route(route):
        yield rows


def _sorted_by_route(values: np.ndarray, route: np.ndarray) -> np.ndarray:
    """The values of each route ascending, on its rows in their order."""
    ascending = np.empty(len(values))
    for rows in _rows_by_route(route):
        ascending[rows] = np.sort(values[rows])
    return ascending


def _with_quantiles(
    work_s: np.ndarray, route: np.ndarray, wanted_s: np.ndarray, wanted_route: np.ndarray
) -> np.ndarray:
    """The work in its order, with the distribution that each route has among the wanted ones."""
    changed_s, pools = work_s.copy(), {code: np.sort(wanted_s[rows]) for code, rows in _by_route(wanted_route)}
    for code, rows in _by_route(route):
        if code in pools:
            rank = np.empty(len(rows))
            rank[np.argsort(work_s[rows], kind="stable")] = (np.arange(len(rows)) + 0.5) / len(rows)
            pool = pools[code]
            changed_s[rows] = np.interp(rank, (np.arange(len(pool)) + 0.5) / len(pool), pool)
    return changed_s


def shuffled_nearby(work_s: np.ndarray, route: np.ndarray, length: int, rng: np.random.Generator) -> np.ndarray:
    """The work of each route (or whatever requests have), exchanged among so many of its requests in a row."""
    if length == 1:
        return work_s
    shuffled = work_s.copy()
    for rows in _rows_by_route(route):
        block = np.arange(len(rows)) // length
        shuffled[rows] = work_s[rows[np.lexsort((rng.random(len(rows)), block))]]
    return shuffled


# -- after the iteration ---------------------------------------------------------------------------


def _with_censored(
    work_s: np.ndarray, got_s: np.ndarray, gave_up: np.ndarray, route: np.ndarray, seed: int
) -> np.ndarray:
    """Requests whose client gave up have at least the work that they got: that of another one with more."""
    if not gave_up.any():
        return work_s
    completed_s, drawn = work_s.copy(), stream(seed, "unqueue", 20).random(len(work_s))
    for rows in _rows_by_route(route):
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
    for rows in _rows_by_route(trace.route_codes):
        pool = whole_s[rows[served[rows]]]
        some = rows[~served[rows]]
        pool = pool if len(pool) else work_s
        whole_s[some] = pool[(drawn[some] * len(pool)).astype(np.int64)]
    return whole_s


def _notes(fit: Fit, served: np.ndarray, gave_up: np.ndarray, plan: Plan) -> list[str]:
    said = (
        f"the queueing of plan {plan.name!r} is taken out of the latencies (unqueued): replayed there, p50, p95 and "
        f"p99 are within {units.show_share(max(0.001, fit.error))} of the log's"
    )
    if not fit.each:
        said += "; which request had which work is drawn, since time stamps or the balancer do not tell"
    notes = [said]
    if fit.evenly:
        notes.append(
            f"whole-second time stamps of {units.show_share(fit.evenly)} of the requests are spread evenly within "
            "their second: drawn ones left requests no time to be served in"
        )
    refused, gone = int(np.count_nonzero(~served)), int(np.count_nonzero(gave_up))
    if refused:
        notes.append(
            f"{refused:,} requests took no slot in the log (429, 502 to 504, or no server answered): each has the work "
            "of another request of its route"
        )
    if gone:
        notes.append(f"in {gone:,} requests the client gave up (408, 499): each has at least the work it got by then")
    if fit.waited > 0.9:
        notes.append(
            f"the log is overloaded throughout: {units.show_share(fit.waited)} of its requests waited longer than they "
            "worked, so it tells little of the work of each; a log of a quieter time tells more"
        )
    if fit.error > 0.1:
        notes.append(
            f"the recorded plan does not quite explain the log (its p50, p95 or p99 is off by "
            f"{units.show_share(fit.error)}): are its replicas, slots, threads and balancer those that there were? "
            "`libramen backtest` shows where it differs"
        )
    if fit.waited < 0.001:
        notes.append(
            f"hardly a request of the log waited, so it tells nothing of how many slots the plan {plan.name!r} has"
        )
    return notes


def _routes(trace: Trace, work_s: np.ndarray, served: np.ndarray) -> Iterator[RouteDemand]:
    assert trace.latency_s is not None
    for code, rows in _by_route(trace.route_codes):
        mean_s = float(trace.latency_s[rows].mean())
        yield RouteDemand(
            trace.routes[code],
            len(rows),
            int(np.count_nonzero(served[rows])),
            "all",
            mean_s,
            float(work_s[rows].mean()),
        )
