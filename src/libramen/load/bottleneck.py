"""A bottleneck that is not in the study: does work that is left after unqueueing depend on who else was there?

What queued on the recorded plan is taken out of a log by running it backwards. What is left is work, and work does not
depend on how many others came at about the same time. Where it does, requests waited for something that the study does
not have: a database behind this service, a lock, a pool.

Running backwards leaves errors that depend on the others as well: of whole-second stamps, of draws of a balancer, of
work that varies over the day. So it is compared with what is left in replays where nothing is missing: the same
arrivals, with the work that was found turned round within its stretch by a lag that is drawn anew, on the recorded
plan, written down as the log is and run backwards in the same way. This is a parametric bootstrap (Efron and
Tibshirani, An Introduction to the Bootstrap, 1993, ch. 6); work is turned round and not shuffled so that work which is
like the work before it stays so (the circular block bootstrap of Politis and Romano, 1992, with one block a stretch).
How sure the log itself is of what it shows is added by the jackknife (Efron and Tibshirani, ch. 11).

How many others there were is counted among arrivals, since departures depend on the work itself: requests with long
work make many be present, without anybody slowing anybody down.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from typing import Final, NamedTuple

import numpy as np

from libramen.base.streams import stream
from libramen.engine import simulation
from libramen.load.exchange import SHARING_PASSES, Logged, written_down
from libramen.load.instants import by_route
from libramen.load.recorded import Recorded
from libramen.study.system import System
from libramen.trace.source import Bottleneck
from libramen.trace.trace import Trace

_MOST: Final = 30_000
"""Requests that are looked at: the stretch of so many that took the least time to come."""
_LEAD: Final = 3_000
"""So many before them are replayed, too, so that the fleet is as busy as it was."""
_REPLAYS: Final = 20
_FEW: Final = 500
"""Of a route with fewer requests nothing is said."""
_STRETCH: Final = 400
"""So many requests of a route in a row are one stretch: what varies more slowly is no sign."""
_SPANS: Final = (1.0, 4.0)
"""How long before a request the others are counted, in mean latencies."""
_FIFTH: Final = 0.2
_MORE: Final = 0.10
"""More work than that is reported."""
_NEAR: Final = 0.05
"""Where the first few replays show that there is not even so much more, the rest is not made."""
_FIRST: Final = 5
_SIGMAS: Final = 3.0
_ALL: Final = -1
"""In place of the code of a route: all of them."""
_BLOCKS: Final = 20
"""Parts of a log that the jackknife leaves out, one after the other."""


class Estimate(NamedTuple):
    """The requests of one service with the work that was found for them.

    Attributes:
        trace: all requests, with their work.
        logged: those that took a slot, as the log has them.
        at: int (m,), where each of these is in the trace.
        recorded: the fleet.
        whole_seconds: how coarsely the log is written.
    """

    trace: Trace
    logged: Logged
    at: np.ndarray
    recorded: Recorded
    whole_seconds: bool


class _Seen(NamedTuple):
    """What is left of the requests of one route, as a log shows it."""

    ratio: float  # mean work in the fifth with most others over that in the fifth with fewest
    trend: float  # correlation of the ranks of work and of the number of others
    ratio_error: float  # standard errors, by the jackknife: the log of a day is one sample of what might have come
    trend_error: float


class _Part(NamedTuple):
    """The requests of one service that are looked at, and those just before them."""

    logged: Logged
    at: np.ndarray  # where they are in the trace
    recorded: Recorded
    whole_seconds: bool


def find_bottleneck(
    estimates: Sequence[Estimate], at: Sequence[np.ndarray], whole: Trace, system: System, seed: int
) -> Bottleneck | None:
    """What slows requests down and is not in the study; None: nothing that the log shows.

    Args:
        estimates: one per service at which requests arrive.
        at: of each estimate int (m,), where its logged requests are in `whole`.
        whole: all requests, with the work that is replayed.
        system: on what they are replayed; it refuses nobody.
        seed: random seed.
    """
    look = _Look(estimates, at, whole, system, seed)
    logged = look.of_log()
    usual: list[dict[tuple[int, int], _Seen]] = []
    for number in range(_REPLAYS if logged else 0):
        usual.append(look.of_replay(number))
        if number + 1 == _FIRST and not any(more >= _NEAR for more, _ in _compared(logged, usual).values()):
            return None
    clear: dict[int, float] = {}
    for (code, _), (more, sigmas) in _compared(logged, usual).items():
        if more >= _MORE and sigmas >= _SIGMAS:
            clear[code] = max(more, clear.get(code, 0.0))
    if not clear:
        return None
    worst_first = sorted(clear.keys() - {_ALL}, key=lambda code: -clear[code])
    everywhere = not worst_first or len(worst_first) == len({code for code, _ in logged} - {_ALL})
    return Bottleneck(tuple(whole.routes[code] for code in worst_first), max(clear.values()), everywhere)


def _compared(
    logged: dict[tuple[int, int], _Seen], usual: list[dict[tuple[int, int], _Seen]]
) -> dict[tuple[int, int], tuple[float, float]]:
    """How much more work the log shows than is usual, and by how many standard deviations at least."""
    found = {}
    for key, seen in logged.items():
        some = np.array([one[key] for one in usual if key in one])
        if len(some) < len(usual) or len(some) < 2 or some[:, 0].mean() <= 0:  # no work at all
            continue
        mean, variance = some[:, :2].mean(axis=0), some[:, :2].var(axis=0, ddof=1)
        sigma = np.sqrt(np.maximum(variance + np.square(seen[2:]), 1e-18))
        found[key] = seen.ratio / float(mean[0]) - 1, float(((np.array(seen[:2]) - mean) / sigma).min())
    return found


class _Look:
    """What the log shows, and what replays of it show."""

    def __init__(
        self, estimates: Sequence[Estimate], at: Sequence[np.ndarray], whole: Trace, system: System, seed: int
    ) -> None:
        self._system, self._seed = system, seed
        arrivals_s = np.sort(np.concatenate([one.logged.at_s for one in estimates]))
        first = 0
        if len(arrivals_s) > _MOST:
            first = int(np.argmin(arrivals_s[_MOST - 1 :] - arrivals_s[: len(arrivals_s) - _MOST + 1]))
        self._from_s = float(arrivals_s[first])
        lead_s, to_s = (
            float(arrivals_s[max(0, first - _LEAD)]),
            float(arrivals_s[min(first + _MOST, len(arrivals_s)) - 1]),
        )
        self._parts = []
        for one, mine in zip(estimates, at, strict=True):
            rows = np.flatnonzero((one.logged.at_s >= lead_s) & (one.logged.at_s <= to_s))
            if len(rows):
                part = _Part(one.logged.rows(rows), mine[rows], one.recorded, one.whole_seconds)
                self._parts.append(part._replace(logged=part.logged._replace(route=whole.route_codes[part.at])))
        self._at = np.sort(np.concatenate([part.at for part in self._parts]))
        self._trace = whole.take(self._at)
        self._place = [np.searchsorted(self._at, part.at) for part in self._parts]
        self._spans_s = [span * float(np.mean(whole.latency_s)) for span in _SPANS]  # type: ignore[arg-type]
        said_s = [
            part.recorded.backwards(
                part.logged.at_s, part.logged.latency_s, part.logged.share, seed, part.logged.server, SHARING_PASSES
            ).work_s
            for part in self._parts
        ]
        self._said_s = said_s
        self._order = self._as_said(said_s)

    def _as_said(self, said_s: list[np.ndarray]) -> np.ndarray:
        """Whose work each request of a replay has: the longest work goes to whom most was said of, route by route.

        Which request has which work was perhaps drawn when it was found; so work that is like that of the request
        before it is so in the replays.
        """
        work_s, order = self._trace.cpu_s + self._trace.wait_s, np.arange(len(self._trace))
        for part, place, some_s in zip(self._parts, self._place, said_s, strict=True):
            for _, rows in by_route(part.logged.route):
                mine = place[rows]
                order[mine[np.argsort(some_s[rows], kind="stable")]] = mine[np.argsort(work_s[mine], kind="stable")]
        return order

    def of_log(self) -> dict[tuple[int, int], _Seen]:
        """What the log shows, by route and way of counting others."""
        at_s, route = (
            np.concatenate([getattr(part.logged, name) for part in self._parts]) for name in ("at_s", "route")
        )
        return self._seen(at_s, route, np.concatenate(self._said_s))

    def of_replay(self, number: int) -> dict[tuple[int, int], _Seen]:
        """What a log of a replay shows, in which nothing is missing."""
        trace, rng = self._trace, stream(self._seed, "bottleneck", number)
        taken = self._turned(rng)
        replayed = trace.with_demand(trace.cpu_s[taken], trace.wait_s[taken], demand="given", notes=())
        # A balancer that draws does so anew: what it drew when the log was recorded is not known.
        seed = self._seed + 1 + number
        results = simulation.run(replayed, self._system, seed=seed, window_s=max(60.0, trace.span_s)).kept
        at_s, work_s = [], []
        for part, place in zip(self._parts, self._place, strict=True):
            logged = part.logged
            server = None if logged.server is None else results.replica[place]
            free = logged._replace(free_s=trace.at_s[place])
            arrives_s, latency_s = written_down(
                free, results.latency_s[place], server, rng, whole_seconds=part.whole_seconds
            )
            order = np.argsort(arrives_s, kind="stable")
            who = None if server is None else server[order]
            said_s = np.empty(len(order))
            said_s[order] = part.recorded.backwards(
                arrives_s[order], latency_s[order], logged.share[order], self._seed, who, SHARING_PASSES
            ).work_s
            at_s.append(arrives_s)
            work_s.append(said_s)
        route = np.concatenate([part.logged.route for part in self._parts])
        return self._seen(np.concatenate(at_s), route, np.concatenate(work_s))

    def _turned(self, rng: np.random.Generator) -> np.ndarray:
        """Whose work each request has: of its route and stretch, all turned round by one lag."""
        taken = self._order.copy()
        for rows in _stretches(self._trace.route_codes):
            taken[rows] = np.roll(self._order[rows], int(rng.integers(len(rows))))
        return taken

    def _seen(self, at_s: np.ndarray, route: np.ndarray, work_s: np.ndarray) -> dict[tuple[int, int], _Seen]:
        """By route, and by whether others are counted over a short or a long time, of all routes or of its own."""
        order = np.argsort(at_s, kind="stable")
        at_s, route, work_s = at_s[order], route[order], work_s[order]
        of_all, everyone = self._others(at_s), at_s >= self._from_s
        found: dict[tuple[int, int], _Seen] = {}
        relative, looked_at = np.zeros(len(at_s)), np.zeros(len(at_s), bool)
        for code, rows in by_route(route):
            mine = everyone[rows]
            here = rows[mine]
            if len(here) < _FEW:
                continue
            stretch = _numbers(len(here))
            mean_s = np.bincount(stretch, work_s[here]) / np.bincount(stretch)
            relative[here], looked_at[here] = work_s[here] / np.maximum(mean_s, 1e-12)[stretch], True
            others = [*(one[here] for one in of_all), *(one[mine] for one in self._others(at_s[rows]))]
            found |= {(code, way): seen for way, seen in _seen(relative[here], stretch, others)}
        some = np.flatnonzero(looked_at)
        if len(some):
            others = [one[some] for one in of_all]
            found |= {(_ALL, way): seen for way, seen in _seen(relative[some], _numbers(len(some)), others)}
        return found

    def _others(self, at_s: np.ndarray) -> list[np.ndarray]:
        """How many came in each of the spans before each of these arrivals."""
        return [np.arange(len(at_s)) - np.searchsorted(at_s, at_s - span_s) for span_s in self._spans_s]


def _seen(relative: np.ndarray, stretch: np.ndarray, others: list[np.ndarray]) -> Iterator[tuple[int, _Seen]]:
    """What is seen of work (relative to what is usual in its stretch), for each way of counting the others."""
    rank = _ranks_within(relative, stretch)
    for way, count in enumerate(others):
        seen = _seen_of(relative, rank, _ranks_within(count, stretch))
        if seen is not None:
            yield way, seen


def _seen_of(relative: np.ndarray, rank: np.ndarray, others: np.ndarray) -> _Seen | None:
    """What is seen of work (relative to what is usual in its stretch), given the ranks of it and of the others."""
    low, high = np.quantile(others, [_FIFTH, 1 - _FIFTH])
    if low == high:
        return None
    few, many = others <= low, others >= high
    x, y = others - others.mean(), rank - rank.mean()
    columns = np.stack([many, many * relative, few, few * relative, x * y, x * x, y * y])
    firsts = np.arange(_BLOCKS) * len(others) // _BLOCKS
    sums = np.add.reduceat(columns, firsts, axis=1)
    whole = _figures(sums.sum(axis=1))
    without = np.array([_figures(some) for some in (sums.sum(axis=1)[:, None] - sums).T])
    errors = np.sqrt((_BLOCKS - 1) / _BLOCKS * np.square(without - without.mean(axis=0)).sum(axis=0))
    return _Seen(*whole, *errors.tolist())


def _figures(sums: np.ndarray) -> tuple[float, float]:
    many, many_work, few, few_work, xy, xx, yy = np.maximum(sums, [1e-9, 0, 1e-9, 1e-9, -np.inf, 1e-9, 1e-9]).tolist()
    return many_work / many / (few_work / few), xy / math.sqrt(xx * yy)


def _numbers(n: int) -> np.ndarray:
    """The number of the stretch of each of n requests of a route: int (n,)."""
    stretches = max(1, n // _STRETCH)
    number: np.ndarray = np.arange(n) * stretches // n
    return number


def _stretches(route: np.ndarray) -> Iterator[np.ndarray]:
    """The rows of each stretch of each route."""
    for _, rows in by_route(route):
        yield from np.split(rows, np.flatnonzero(np.diff(_numbers(len(rows)))) + 1)


def _ranks_within(values: np.ndarray, stretch: np.ndarray) -> np.ndarray:
    """The rank of each value in its stretch, from 0 to 1, mean ranks among equals: float64 (n,)."""
    order = np.lexsort((values, stretch))
    sorted_stretch, sorted_values = stretch[order], values[order]
    first = np.searchsorted(sorted_stretch, sorted_stretch)
    count = np.searchsorted(sorted_stretch, sorted_stretch, side="right") - first
    differs = (np.diff(sorted_stretch) != 0) | (np.diff(sorted_values) != 0)
    among = np.concatenate([[0], np.cumsum(differs)])
    rank = (np.arange(len(order)) - first + 0.5) / count
    ranks = np.empty(len(order))
    ranks[order] = (np.bincount(among, rank) / np.bincount(among))[among]
    return ranks
