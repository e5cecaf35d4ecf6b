"""The iteration of unqueueing: work is exchanged until what is said of replayed and of logged requests is the same.

`unqueue` says what it is for, and where it comes from.
"""

from __future__ import annotations

from typing import Final, NamedTuple

import numpy as np

from libramen.base.streams import stream
from libramen.load.instants import by_route, drawn_in_order, evened, in_system, rows_by_route
from libramen.load.recorded import Recorded

SAMPLE: Final = 100_000
"""Requests that the iteration looks at; more are replayed once at its end."""
_BLOCKS: Final = 4
SHARING_PASSES: Final = 4
_TURNS: Final = 8
_FEWER_TURNS: Final = 6
_KEPT_TURNS: Final = 4
_LENGTHS: Final = (1, 50, 300, 300, 1500, 1500)
_STRATA: Final = 6
FEW: Final = 120
_TOLERANCE: Final = 0.05
_QUANTILES: Final = np.array([0.5, 0.95, 0.99])
MILLISECOND: Final = 1e-3


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


def written_down(
    logged: Logged, latency_s: np.ndarray, server: np.ndarray | None, rng: np.random.Generator, *, whole_seconds: bool
) -> tuple[np.ndarray, np.ndarray]:
    """Arrivals and latencies of replayed requests, as a log like this one says them: (n,), (n,) [s].

    Args:
        logged: the requests; they arrive at `free_s`.
        latency_s: how long they took in the replay.
        server: which replica served each, where the log says so.
        rng: of the parts of a second that a reader draws.
        whole_seconds: how coarsely the log is written.
    """
    leaves_s = logged.free_s + latency_s
    if whole_seconds:
        drawn_s = drawn_in_order(leaves_s, rng)
        leaves_s = np.where(logged.rough, evened(leaves_s, server), drawn_s)
    else:
        leaves_s = MILLISECOND * np.floor(leaves_s / MILLISECOND)
    written_s = MILLISECOND * np.round(latency_s / MILLISECOND)
    return np.maximum(0.0, leaves_s - written_s), written_s


class Exchange:
    """Exchanges the work of requests until the replay of the recorded plan, written down as the log is, looks like it.

    Args:
        recorded: the fleet.
        logged: the requests.
        said_s: float64 (n,), their work as running backwards has it [s].
        seed: random seed.
        stretch: int (n,), the stretch of each, in which its work stays.
        whole_seconds: how coarsely the log is written.
        by_load: whether what is said of a request is how long it took with so many others in the system.
    """

    def __init__(
        self,
        recorded: Recorded,
        logged: Logged,
        said_s: np.ndarray,
        stretch: np.ndarray,
        seed: int,
        *,
        whole_seconds: bool,
        by_load: bool,
    ) -> None:
        self._recorded, self._whole_seconds, self._seed = recorded, whole_seconds, seed
        self._stretch = stretch
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

    def _sample(self, at_s: np.ndarray) -> np.ndarray:
        """The rows that are looked at: all, or a few long stretches, one of them the busiest."""
        n = len(at_s)
        if n <= SAMPLE:
            return np.arange(n)
        size = SAMPLE // _BLOCKS
        begins = np.arange(0, n - size + 1, max(1, size // 4))
        busiest = int(begins[np.argmin(at_s[begins + size - 1] - at_s[begins])])
        starts = [*np.linspace(0, n - size, _BLOCKS - 1).astype(int).tolist(), busiest]
        return np.unique(np.concatenate([np.arange(start, start + size) for start in starts]))

    def _level_of(self, latency_s: np.ndarray) -> float:
        """How long requests take on the whole: a mean in which neither the quickest nor the slowest count for much."""
        return float(np.log(latency_s + self._middle_s).mean())

    def run(self) -> np.ndarray:
        """The work of all requests [s]: float64 (n,)."""
        logged, n = self._logged, len(self._logged.at_s)
        # What is said of requests that seem to have had no time at all is not worth more than a guess.
        guess_s = np.minimum(logged.latency_s, float(np.mean(self._guess_s))) * 2 * self._rng.random(n)
        work_s = np.where(self._guess_s < 0.1 * logged.latency_s, guess_s, self._guess_s)
        pools: list[np.ndarray] = []
        turns = _TURNS if n <= SAMPLE // 2 else _FEWER_TURNS
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
        for rows in rows_by_route(route):
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
        server = None if logged.server is None else replica
        at_s, written_s = written_down(logged, latency_s, server, self._rng, whole_seconds=self._whole_seconds)
        if self._by_load:
            return in_system(at_s, written_s), written_s
        order = np.argsort(at_s, kind="stable")
        server = None if server is None else server[order]
        passes = SHARING_PASSES if len(order) > SAMPLE // 2 else 2 * SHARING_PASSES
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
        pools = dict(by_route(self._logged.route))
        for route, rows in by_route(logged.route):
            pool = pools.get(route)
            if pool is None:
                continue
            for number in range(len(self._edges) + 1):
                some = rows[mine[rows] == number]
                others = pool[theirs[pool] == number]
                if len(others) < FEW // 4:
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

    def _assigned(self, work_s: np.ndarray) -> np.ndarray:
        """Which request has which work: its own, or any of its route, near in time or in its stretch.

        What is exchanged by how long a request took goes with how busy the fleet was; requests themselves do not. How
        far that matters depends on the log, so the way is taken whose replay is nearest to it.
        """
        rows = self._sample(self._all.at_s)
        some_s, some_stretch, best, way = work_s[rows], self._stretch[rows], np.inf, (1, 1)
        lengths = (*_LENGTHS, len(rows), len(rows), len(rows))
        for number, length in enumerate(lengths, start=1):
            rng = stream(self._seed, "unqueue", number)
            candidate_s = shuffled_nearby(some_s, self._logged.route, some_stretch, length, rng)
            replayed_s, _ = self._forwards(candidate_s, self._seed)
            error = error_of(replayed_s, self._logged.latency_s)
            if error < best:
                best, way = error, (number, length)
        number, length = way
        length = length if length < len(rows) else len(work_s)
        rng = stream(self._seed, "unqueue", number)
        return shuffled_nearby(work_s, self._all.route, self._stretch, length, rng)

    def _forwards(self, work_s: np.ndarray, seed: int) -> tuple[np.ndarray, np.ndarray]:
        return forwards(self._recorded, self._logged, work_s, seed)


def forwards(recorded: Recorded, logged: Logged, work_s: np.ndarray, seed: int) -> tuple[np.ndarray, np.ndarray]:
    """Latencies of logged requests with this work [s], and the replicas that served them: (n,), (n,)."""
    order = np.argsort(logged.free_s, kind="stable")
    latency_s, replica = np.empty(len(order)), np.empty(len(order), np.int64)
    latency_s[order], replica[order] = recorded.forwards(logged.free_s[order], work_s[order], logged.share[order], seed)
    return latency_s, replica


def error_of(replayed_s: np.ndarray, logged_s: np.ndarray) -> float:
    """The greatest relative difference of p50, p95 and p99 of two samples; a millisecond is none."""
    found, wanted = (np.quantile(taken_s, _QUANTILES) for taken_s in (replayed_s, logged_s))
    off = np.maximum(0.0, np.abs(found - wanted) - MILLISECOND) / np.maximum(wanted, MILLISECOND)
    return float(off.max())


def _sorted_by_route(values: np.ndarray, route: np.ndarray) -> np.ndarray:
    """The values of each route ascending, on its rows in their order."""
    ascending = np.empty(len(values))
    for rows in rows_by_route(route):
        ascending[rows] = np.sort(values[rows])
    return ascending


def _with_quantiles(
    work_s: np.ndarray, route: np.ndarray, wanted_s: np.ndarray, wanted_route: np.ndarray
) -> np.ndarray:
    """The work in its order, with the distribution that each route has among the wanted ones."""
    changed_s, pools = work_s.copy(), {code: np.sort(wanted_s[rows]) for code, rows in by_route(wanted_route)}
    for code, rows in by_route(route):
        if code in pools:
            rank = np.empty(len(rows))
            rank[np.argsort(work_s[rows], kind="stable")] = (np.arange(len(rows)) + 0.5) / len(rows)
            pool = pools[code]
            changed_s[rows] = np.interp(rank, (np.arange(len(pool)) + 0.5) / len(pool), pool)
    return changed_s


def shuffled_nearby(
    work_s: np.ndarray, route: np.ndarray, stretch: np.ndarray | None, length: int, rng: np.random.Generator
) -> np.ndarray:
    """The work of each route (or whatever requests have), exchanged among so many of its requests in a row.

    Args:
        work_s: (n,).
        route: int (n,).
        stretch: int (n,), in which it stays; None: anywhere.
        length: so many.
        rng: of the draws.
    """
    if length == 1:
        return work_s
    shuffled = work_s.copy()
    for rows in rows_by_route(route):
        block = np.arange(len(rows)) // length
        keys = (rng.random(len(rows)), block) if stretch is None else (rng.random(len(rows)), block, stretch[rows])
        shuffled[rows] = work_s[rows[np.lexsort(keys)]]
    return shuffled
