"""The cheapest combination that meets every objective, by bounds: not all combinations are replayed.

A combination is left out if it cannot be better than the best found so far, by a bound that holds whatever else
happens. A. H. Land and A. G. Doig, An Automatic Method of Solving Discrete Programming Problems, Econometrica 28, 1960.
"""

from __future__ import annotations

import dataclasses
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass
from decimal import Decimal
from typing import Any, Final, NamedTuple

from libramen.base.code import digest_of
from libramen.base.results import Result
from libramen.outcome.figures import Figures
from libramen.outcome.replay import replay_system
from libramen.questions.bounds import (
    LeastUse,
    Overload,
    Stopped,
    UsedAtLeast,
    Watch,
    Weighed,
    about_all,
    least_cost,
    likely_cost,
)
from libramen.questions.vary import Combination, is_price
from libramen.runs import entries
from libramen.runs.cases import Case
from libramen.runs.pool import Pool, Ticket, Whole
from libramen.runs.store import MISSING, Store
from libramen.study.study import Study
from libramen.trace.trace import Trace

NEAR: Final = Decimal("1.02")
"""Up to so many times the cost of the cheapest a plan is said to be as good as it."""
_AHEAD: Final = (4, 16, 256)
"""One in sixteen combinations is under way at a time, from 4 to 256, whatever the number of workers: what is known when
one is begun does not depend on it, and so neither does the result."""
_CEILING: Final = "scaling.ceiling"


@dataclass(frozen=True)
class Counts(Result):
    """How many combinations there were, and what became of them.

    Attributes:
        combinations: all of them.
        replayed: to the end.
        stopped: replayed up to where an objective could not be met any more, or as much was spent as the winner costs.
        same: not replayed: they differ from one that was only in a ceiling that it never reached, or in prices, with
            which its bill is made again.
        ruled_out: never replayed: more costly than the winner at the least, or than what a month may cost, or with too
            few cores for the work.
        impossible: such as the study cannot have.
    """

    combinations: int
    replayed: int
    stopped: int
    same: int
    ruled_out: int
    impossible: int


class _Stopped(NamedTuple):
    """Instead of figures: it cannot win. `peak`: the most replicas that it had by then."""

    peak: int


class Try(Whole):
    """Replays a case up to where it cannot win any more: its figures, or that it was stopped.

    Whether it is said to be stopped depends on its figures alone, not on when one looked.

    Args:
        most: what a month may cost, None: whatever it costs.
        used: what is used at the least, see `bounds.LeastUse`.
    """

    def __init__(self, most: Decimal | None, used: UsedAtLeast) -> None:
        self._most, self._used = most, dict(used)

    def __call__(self, case: Case, trace: Trace) -> Figures | _Stopped:  # type: ignore[override]
        """Runs in a worker."""
        load = case.load(trace)
        try:
            outcome = replay_system(
                load, case.system, case.objectives, case.seed, settle=case.settle_s, terms=case.terms,
                watched=Watch(load, case, self._most, self._used),
            )  # fmt: skip
        except Stopped as stopped:
            return _Stopped(stopped.peak)
        return self.judged(outcome.figures(routes=False))

    def judged(self, figures: Figures) -> Figures | _Stopped:
        """The figures of a whole replay, or that it would have been stopped."""
        is_too_much = self._most is not None and figures.bill.month > self._most
        if is_too_much or any(about_all(objective) for objective in figures.missed):
            return _Stopped(figures.replicas_peak or 0)
        return figures

    def look_up(self, store: Store, key: str, case: Case) -> Any:
        """The figures of a whole replay, or that it was stopped for the same reasons."""
        found = super().look_up(store, key, case)
        if found is not MISSING:
            return self.judged(found)
        return store.get(self._stopped_key(key, case), lambda document: _Stopped(int(document["peak"])))

    def keep(self, store: Store, key: str, case: Case, result: Figures | _Stopped) -> None:
        """The figures, or that it was stopped, which depends on objectives and prices, too."""
        if isinstance(result, _Stopped):
            store.put(self._stopped_key(key, case), {"peak": result.peak})
        else:
            super().keep(store, key, case, result)

    def _stopped_key(self, key: str, case: Case) -> str:
        return entries.digest([key, digest_of(__name__), "stopped", str(self._most), entries.prices_of(case)])


def _van_der_corput(place: int) -> float:
    """The bits of a number in the opposite order: numbers that follow each other come out far apart."""
    return int(f"{place:016b}"[::-1], 2)


def ahead_of(combinations: int) -> int:
    """How many of so many combinations are under way at a time."""
    least, share, most = _AHEAD
    return min(most, max(least, combinations // share))


class BoundedSearch:
    """Replays of some combinations at one load, of no more than are needed.

    Args:
        study: its objectives, services and currency.
        pool: where they are replayed, and on what.
        everything: the combinations, impossible ones too.
        seed: random seed.
        report: called with what is being done and the share of it that is done.
        front: replay all of them to the end.

    Attributes:
        cases: of each possible combination its replay; `possible`: the combination.
        figures: of those replayed to the end that might have won, by their place among the possible ones.
    """

    def __init__(
        self,
        study: Study,
        pool: Pool,
        everything: list[Combination],
        seed: int,
        report: Callable[[str, float], None],
        *,
        front: bool,
    ) -> None:
        self._study, self._pool, self._everything = study, pool, everything
        self._report, self._front = report, front
        self.possible = [one for one in everything if one.plan is not None]
        self._ahead = ahead_of(len(self.possible))
        self.cases = [Case.of(study, one.plan, seed, scale=one.scale) for one in self.possible if one.plan is not None]
        self._load = self.cases[0].load(pool.trace) if self.cases else pool.trace
        self._weighed = Weighed(self._load)
        least = LeastUse(self._weighed)
        self._used = [least.of(case) for case in self.cases]
        self.figures: dict[int, Figures] = {}
        self._stopped: set[int] = set()
        self._same: set[int] = set()
        self._peaks: dict[Any, list[tuple[int, int, int]]] = {}  # of those alike: ceiling, peak, place
        self._replays = [self._replay_of(place) for place in range(len(self.cases))]

    @property
    def stopped(self) -> list[Combination]:
        """Those that were stopped when they could not win any more."""
        return [self.possible[place] for place in sorted(self._stopped - self.figures.keys())]

    def run(self) -> Counts:
        """Replay what must be replayed, and no more; `figures` are there afterwards."""
        if not self._front:
            self._try_all()
        if self._front or self._best() is None:
            # Which is nearest, and which nobody beats, only whole replays can tell.
            self._stopped.clear()
            self._same &= self.figures.keys()
            self._replay_all()
        self._report("combinations", 1.0)
        replayed, stopped = len(self.figures.keys() - self._same), len(self._stopped - self._same)
        return Counts(
            combinations=len(self._everything),
            replayed=replayed,
            stopped=stopped,
            same=len(self._same),
            ruled_out=len(self.possible) - replayed - stopped - len(self._same),
            impossible=len(self._everything) - len(self.possible),
        )

    def _in_order(self) -> list[tuple[Decimal, int]]:
        """What each costs at the least, and its place: the cheapest first.

        Where replicas may break the least cost is 0 for all, so the likely cost comes next. Then comes the greatest
        ceiling: one that is not reached speaks for all smaller ones. Combinations that are still equal are taken in the
        order of J. G. van der Corput (Verteilungsfunktionen, 1935), which covers the range early: a cheap one that is
        found soon stops others soon.
        """
        cost = [least_cost(case, used) for case, used in zip(self.cases, self._used, strict=True)]
        likely = [likely_cost(case) for case in self.cases]
        ceilings = [one.varied.get(_CEILING, 0) for one in self.possible]
        return sorted(
            ((cost[place], place) for place in range(len(cost))),
            key=lambda entry: (entry[0], likely[entry[1]], -ceilings[entry[1]], _van_der_corput(entry[1])),
        )

    def _try_all(self) -> None:
        limit = self._study.objectives.month
        order = [(cost, place) for cost, place in self._in_order() if limit is None or cost <= limit]
        overload = Overload(self._weighed)
        under_way: deque[tuple[int, Ticket]] = deque()
        for number, (cost, place) in enumerate(order):
            if len(under_way) == self._ahead:
                self._take(*under_way.popleft())
            best = self._best()
            if best is not None and cost > best * NEAR:
                break
            self._report("combinations", number / len(order))
            if overload.rules_out(self.cases[place]) or self._is_same(place):
                continue
            most = [amount for amount in (None if best is None else best * NEAR, limit) if amount is not None]
            task = Try(min(most, default=None), self._used[place])
            if self._is_repriced(place, under_way, task.judged):
                continue
            under_way.append((place, self._pool.hand_in(self.cases[place], task)))
        while under_way:
            self._take(*under_way.popleft())

    def _replay_all(self) -> None:
        rest = [place for _, place in self._in_order() if place not in self.figures]
        self._peaks.clear()
        under_way: deque[tuple[int, Ticket]] = deque()
        for number, place in enumerate(rest):
            if len(under_way) == self._ahead:
                self._take(*under_way.popleft())
            self._report("combinations", number / len(rest))
            if not self._is_same(place) and not self._is_repriced(place, under_way, lambda figures: figures):
                under_way.append((place, self._pool.hand_in(self.cases[place], Whole())))
        while under_way:
            self._take(*under_way.popleft())

    def _take(self, place: int, ticket: Ticket) -> None:
        """What has become of a combination."""
        found = ticket.result
        if isinstance(found, _Stopped):
            self._stopped.add(place)
            peak: int | None = found.peak
        else:
            self.figures[place] = found
            peak = found.replicas_peak
        alike = self._alike(place)
        if alike is not None and peak is not None:
            self._peaks.setdefault(alike, []).append((self.possible[place].varied[_CEILING], peak, place))

    def _alike(self, place: int) -> Any:
        """What a combination has in common with those that differ in their ceiling alone; None: there are none.

        A rule of the user's own may look at its ceiling.
        """
        varied, plan = self.possible[place].varied, self.cases[place].plan
        if _CEILING not in varied or plan.only.scaling.rule.startswith("python:"):
            return None
        return tuple(value for key, value in varied.items() if key != _CEILING)

    def _is_same(self, place: int) -> bool:
        """Whether it is known what becomes of a combination: its ceiling was not reached, as another's was not."""
        alike = self._alike(place)
        if alike is None:
            return False
        for other, peak, there in self._peaks.get(alike, ()):
            if peak < min(other, self.possible[place].varied[_CEILING]):
                self._same.add(place)
                if there in self.figures:
                    self.figures[place] = dataclasses.replace(self.figures[there], plan=self.cases[place].plan.name)
                else:
                    self._stopped.add(place)
                return True
        return False

    def _replay_of(self, place: int) -> Any:
        """What a combination has in common with those that differ in prices alone; None: there are none."""
        varied = self.possible[place].varied
        hosted = self.cases[place].system.hosted
        if not any(map(is_price, varied)) or any(one.hosting.scaling.rule.startswith("python:") for one in hosted):
            return None
        return tuple(value for key, value in varied.items() if not is_price(key))

    def _is_repriced(
        self, place: int, under_way: deque[tuple[int, Ticket]], judged: Callable[[Figures], Figures | _Stopped]
    ) -> bool:
        """Whether a combination's figures are those of another's replay with its own prices."""
        alike = self._replays[place]
        if alike is None:
            return False
        while any(self._replays[other] == alike for other, _ in under_way):
            self._take(*under_way.popleft())
        there = next((other for other in self.figures if self._replays[other] == alike), None)
        if there is None:
            return False
        figures = entries.figures_of(entries.document_of(self.figures[there]), self.cases[place])
        assert figures is not None  # the month is the same
        self._same.add(place)
        self._keep(place, judged(figures))
        return True

    def _keep(self, place: int, found: Figures | _Stopped) -> None:
        if isinstance(found, _Stopped):
            self._stopped.add(place)
        else:
            self.figures[place] = found

    def _best(self) -> Decimal | None:
        months = [figures.bill.month for figures in self.figures.values() if figures.meets_all]
        return min(months, default=None)
