"""The cheapest plan that meets every objective, found without replaying every combination, and proven all the same."""

from __future__ import annotations

import dataclasses
import re
from collections import deque
from decimal import Decimal
from typing import TYPE_CHECKING, Any, Final, Literal, NamedTuple

from libramen.comparison.bounds import Overload, Stopped, Watch, about_all, least_cost, parts
from libramen.comparison.compare import Comparison
from libramen.comparison.repeats import Repeats, check_repeats, repeated_cases
from libramen.comparison.vary import SCALE, Combination, combinations, sensible, short_key
from libramen.errors import StudyError
from libramen.outcome.replay import replay
from libramen.runs import known
from libramen.runs.cases import Case, workers_for
from libramen.runs.pool import Pool, Whole
from libramen.runs.store import MISSING
from libramen.study.plan import Plan

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Mapping
    from concurrent.futures import Executor

    from matplotlib.figure import Figure

    from libramen.outcome.figures import Figures
    from libramen.runs.pool import Ticket
    from libramen.runs.store import Store
    from libramen.study.plan import JointPlan
    from libramen.study.study import Study
    from libramen.trace.trace import Trace

_NEAR: Final = Decimal("1.02")
"""Up to so many times the cost of the cheapest a plan is said to be as good as it."""
_AHEAD: Final = (4, 16, 256)
"""One in sixteen combinations is under way at a time, from 4 to 256, whatever the number of workers: what is known when
one is begun does not depend on it, and so neither does the result."""
_CEILING: Final = "scaling.ceiling"
_MOST_REPEATED: Final = 8


class Counts(NamedTuple):
    """How many combinations there were, and what became of them.

    Attributes:
        combinations: all of them.
        replayed: to the end.
        stopped: replayed up to where an objective could not be met any more, or as much was spent as the winner costs.
        same: not replayed: they differ only in a ceiling that was never reached from one that was.
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


class Search(Comparison):
    """Combinations that were replayed to the end and might have won, in the order of their keys.

    Attributes:
        varied: of each plan in `figures`, by its name: key -> value.
        values: the values of each key, in their order.
        counts: what became of all combinations.
        reasons: why combinations are impossible, with how many there are of each.
        scale: the load as a multiple of the trace's.
        scenarios: this search and those for the other values of `trace.scale`, in their order.
        repeats: the cheapest and what is as good as it, or the nearest, with more seeds; None: not asked for.
    """

    def __init__(
        self,
        figures: Iterable[Figures],
        trace: Trace,
        cases: Iterable[Case],
        *,
        varied: dict[str, dict[str, Any]],
        values: dict[str, list[Any]],
        counts: Counts,
        reasons: dict[str, int],
        scale: float = 1.0,
    ) -> None:
        super().__init__(figures, trace, cases)
        self.varied, self.values = varied, values
        self.counts, self.reasons, self.scale = counts, reasons, scale
        self.scenarios: tuple[Search, ...] = (self,)
        self.repeats: Repeats | None = None

    @property
    def near(self) -> tuple[Figures, ...]:
        """Other plans that meet every objective and cost at most 2 % more than the cheapest."""
        best = self.cheapest
        if best is None:
            return ()
        limit = best.bill.month * _NEAR
        return tuple(one for one in self.figures if one is not best and one.meets_all and one.bill.month <= limit)

    @property
    def front(self) -> tuple[Figures, ...]:
        """The plans replayed to the end that no other beats in money, p95 and availability at once."""
        return tuple(one for one in self.figures if not any(_beats(other, one) for other in self.figures))

    def label(self, figures: Figures) -> str:
        """A combination by what was varied alone, short: `replicas=5, size=small`."""
        varied = self.varied[figures.plan]
        told = [f"{short_key(key)}={value}" for key, value in varied.items() if key != SCALE]
        return ", ".join(told) or figures.plan

    def plot(self) -> Figure:
        """Money and p95 over what was varied, and money against p95 with the plans that nobody beats."""
        from libramen.draw.search import draw_search

        return draw_search(self)

    def winner(self) -> Plan | JointPlan | None:
        """The plan of the cheapest, None: nothing meets every objective."""
        best = self.cheapest
        return None if best is None else self._cases[best.plan].plan

    def repeat(self, n: int | str, pool: Pool, report: Callable[[str, float], None]) -> Repeats:
        """The cheapest, or the nearest, and what is as good as it, with more seeds."""
        best = self.nearest if self.cheapest is None else self.cheapest
        names = [
            best.plan,
            *(one.plan for one in sorted(self.near, key=lambda one: one.bill.month)[: _MOST_REPEATED - 1]),
        ]
        found = repeated_cases([self._cases[name] for name in names], n, pool, report)
        return Repeats(found, range(best.seed, best.seed + max(len(plan.figures) for plan in found)))

    def to_dict(self) -> dict[str, Any]:
        """The JSON of the command line."""
        document = super().to_dict()
        for plan in document["plans"]:
            plan["varied"] = {key: _plain(value) for key, value in self.varied[plan["plan"]].items()}
        document |= {
            "counts": self.counts._asdict(),
            "near": [one.plan for one in self.near],
            "front": [one.plan for one in self.front],
            "impossible": self.reasons,
            "scale": self.scale,
        }
        if self.repeats is not None:
            document["repeats"] = self.repeats.to_dict()
        others = [one for one in self.scenarios if one is not self]
        if self is self.scenarios[0] and others:
            document["scenarios"] = [one.to_dict() for one in others]
        return document

    @property
    def table(self) -> Any:
        """One row per plan that was replayed to the end, the varied keys as columns."""
        table = super().table
        for place, key in enumerate(next(iter(self.varied.values()), {})):
            table.insert(place, key, [self.varied[name][key] for name in table.index])
        return table


def _plain(value: Any) -> Any:
    return value if isinstance(value, bool | int | float | str) or value is None else str(value)


def _beats(one: Figures, other: Figures) -> bool:
    """Whether one is nowhere worse than the other, and somewhere better."""
    mine, theirs = _merits(one), _merits(other)
    return all(a <= b for a, b in zip(mine, theirs, strict=True)) and mine != theirs


def _merits(figures: Figures) -> tuple[float, float, float]:
    p95 = figures.answered_s["p95"]
    return float(figures.bill.month), float("inf") if p95 is None else p95, -(figures.availability or 0.0)


class _Stopped(NamedTuple):
    """Instead of figures: it cannot win. `peak`: the most replicas that it had by then."""

    peak: int


class Try(Whole):
    """Replays a case up to where it cannot win any more: its figures, or that it was stopped.

    Whether it is said to be stopped depends on its figures alone, not on when one looked.

    Args:
        most: what a month may cost, None: whatever it costs.
    """

    def __init__(self, most: Decimal | None) -> None:
        self._most = most

    def __call__(self, case: Case, trace: Trace) -> Figures | _Stopped:  # type: ignore[override]
        """Runs in a worker."""
        load = case.load(trace)
        watch = Watch(load, case, self._most)
        try:
            outcome = replay(
                load, case.services, case.plan, case.objectives, case.seed, settle=case.settle_s,
                currency=case.currency, records=watch.records, watch=watch.look,
            )  # fmt: skip
        except Stopped as stopped:
            return _Stopped(stopped.peak)
        return self._judged(outcome.figures(routes=False))

    def _judged(self, figures: Figures) -> Figures | _Stopped:
        is_too_much = self._most is not None and figures.bill.month > self._most
        if is_too_much or any(about_all(objective) for objective in figures.missed):
            return _Stopped(figures.replicas_peak or 0)
        return figures

    def look_up(self, store: Store, key: str, case: Case) -> Any:
        """The figures of a whole replay, or that it was stopped for the same reasons."""
        found = super().look_up(store, key, case)
        if found is not MISSING:
            return self._judged(found)
        document = store.get(self._stopped_key(key, case))
        if isinstance(document, dict) and isinstance(document.get("peak"), int):
            return _Stopped(document["peak"])
        return MISSING

    def keep(self, store: Store, key: str, case: Case, result: Figures | _Stopped) -> None:
        """The figures, or that it was stopped, which depends on objectives and prices, too."""
        if isinstance(result, _Stopped):
            store.put(self._stopped_key(key, case), {"peak": result.peak})
        else:
            super().keep(store, key, case, result)

    def _stopped_key(self, key: str, case: Case) -> str:
        return known.digest([key, "stopped", str(self._most), known.prices_of(case)])


def search(
    study: Study,
    plan: str | Plan | JointPlan,
    executor: Executor | None = None,
    *,
    vary: Mapping[str, Iterable[Any]] | None = None,
    trace: Trace | None = None,
    seed: int = 0,
    workers: int | None = 1,
    front: bool = False,
    auto: bool = False,
    repeats: int | Literal["auto"] | None = None,
    cache: bool = True,
    store: Store | None = None,
    progress: Callable[[str, float], None] | None = None,
    **ranges: Iterable[Any],
) -> Search:
    """The cheapest combination of some values of a plan's keys that meets every objective.

    The same as if all were replayed, to the cent: combinations are replayed in the order of what they cost at the
    least, up to where that is more than the cheapest found so far, and a replay is stopped as soon as its error budget
    or the share of late requests is spent for good. If nothing meets every objective, all are replayed to the end for
    the nearest. Of equal costs the first in the order of the keys wins.

    Args:
        study: from `load_study`.
        plan: name of one of its plans, or a plan: all that is not varied.
        executor: where the replays run, from `concurrent.futures` or alike. Default: here.
        vary: key -> values, for keys with a dot: `scaling.K`, `rollouts.N.K`, `size.K`, `tier.K`, `service.K`,
            `services.N.K`, `plan.services.N.K`; `trace.scale`, with an answer for each of its values.
        trace: what is replayed. Default: the study's own.
        seed: random seed, the same for every combination.
        workers: processes, without an executor; the result is the same. None: as many as there are cores.
        front: replay all combinations to the end, so that `front` has all that nobody beats.
        auto: also vary the number of replicas, or floor and ceiling, as far as is sensible; see `vary.sensible`.
        repeats: replay the cheapest, and up to seven that are as good as it, with so many seeds; see `repeat`.
        cache: whether a trace that was read before may be taken from the user's cache directory.
        store: where figures are looked up and kept. Default: nowhere.
        progress: called with what is being done and the share of it that is done, from 0 to 1.
        **ranges: key -> values, for keys of the plan: `replicas=range(2, 21)`, `size=["small", "medium"]`.

    Raises:
        StudyError: there is no such plan or key; nothing is varied; no combination is possible.

    Example:
        >>> found = search(load_study("saltmarsh/study.toml"), "steady", replicas=range(2, 21))  # doctest: +SKIP
        >>> found.cheapest.plan  # doctest: +SKIP
        'steady replicas=10'
    """
    report = progress or (lambda _what, _share: None)
    chosen = study.plan(plan) if isinstance(plan, str) else plan
    wanted: dict[str, Any] = {**(vary or {}), **ranges}
    if trace is None and auto:
        trace = study.trace(seed=seed, progress=lambda share: report("reading the trace", share), cache=cache)
    if auto and trace is not None:
        wanted = {**sensible(study, chosen, trace), **wanted}
    if repeats is not None:
        check_repeats(repeats)
    if not wanted:
        raise StudyError("search: nothing is varied; allowed: one key or more, such as replicas=2..20")
    for part in parts(chosen):
        part.scaling.may_run()
    everything = combinations(study, chosen, wanted)
    if not any(one.plan is not None for one in everything):
        raise StudyError(
            f"search: none of {len(everything):,} combinations is possible; the first: "
            f"{next(iter(_reasons(everything)))}"
        )
    if trace is None:
        trace = study.trace(seed=seed, progress=lambda share: report("reading the trace", share), cache=cache)
    scales = list(dict.fromkeys(one.scale for one in everything))
    found = []
    with workers_for(_ahead(len(everything)), executor, workers) as there, Pool(trace, there, store) as pool:
        for number, scale in enumerate(scales):
            some = [one for one in everything if one.scale == scale]
            if all(one.plan is None for one in some):
                raise StudyError(f"search: none of {len(some):,} combinations is possible with {SCALE}={scale:g}")
            found.append(_Hunt(study, pool, some, seed, _part_of(report, number, len(scales)), front=front).run(scale))
            if repeats is not None:
                found[-1].repeats = found[-1].repeat(repeats, pool, report)
    for one in found:
        one.scenarios = tuple(found)
    return found[0]


def _ahead(combinations: int) -> int:
    """How many of so many combinations are under way at a time."""
    least, share, most = _AHEAD
    return min(most, max(least, combinations // share))


def _part_of(report: Callable[[str, float], None], number: int, of: int) -> Callable[[str, float], None]:
    return lambda what, share: report(what, (number + share) / of)


def _reasons(everything: list[Combination]) -> dict[str, int]:
    """Why combinations are impossible, and how many are; sentences that differ in numbers only count as one."""
    found: dict[str, tuple[str, int]] = {}
    for one in everything:
        if one.plan is None:
            alike = re.sub(r"\d+", "N", one.why_not)
            sentence, n = found.get(alike, (one.why_not, 0))
            found[alike] = sentence, n + 1
    return dict(found.values())


class _Hunt:
    """One search under way: for one load."""

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
        self._possible = [one for one in everything if one.plan is not None]
        self._ahead = _ahead(len(self._possible))
        self._cases = [
            Case(
                study.services, one.plan, study.objectives, seed, study.trace_table.settle, study.currency,  # type: ignore[arg-type]
                one.scale,
            )
            for one in self._possible
        ]  # fmt: skip
        self._whole: dict[int, Figures] = {}
        self._stopped: set[int] = set()
        self._same: set[int] = set()
        self._peaks: dict[Any, list[tuple[int, int, int]]] = {}  # of those alike: ceiling, peak, place

    def run(self, scale: float) -> Search:
        """Replay what must be replayed, and no more."""
        if not self._front:
            self._try_all()
        stopped, replayed, same = len(self._stopped), len(self._whole), len(self._same)
        replayed -= len(self._same & self._whole.keys())
        stopped -= len(self._same & self._stopped)
        if self._front or self._best() is None:
            # Which is nearest, and which nobody beats, only whole replays can tell.
            self._same.clear()
            self._replay_all()
            same = len(self._same)
            stopped, replayed = 0, len(self._whole) - same
        self._report("combinations", 1.0)
        places = sorted(self._whole)
        counts = Counts(
            len(self._everything), replayed, stopped, same, len(self._possible) - replayed - stopped - same,
            len(self._everything) - len(self._possible),
        )  # fmt: skip
        names = {place: self._cases[place].plan.name for place in places}
        return Search(
            [self._whole[place] for place in places],
            self._pool.trace,
            [self._cases[place] for place in places],
            varied={names[place]: self._possible[place].varied for place in places},
            values={
                key: list(dict.fromkeys(one.varied[key] for one in self._everything))
                for key in self._everything[0].varied
            },
            counts=counts,
            reasons=_reasons(self._everything),
            scale=scale,
        )

    def _in_order(self) -> list[tuple[Decimal, int]]:
        """What each costs at the least, and its place: the cheapest first.

        Of equal costs those with the greatest ceiling come first: where it is not reached they speak for others.
        """
        cost = [least_cost(case.plan) for case in self._cases]
        ceilings = [one.varied.get(_CEILING, 0) for one in self._possible]
        return sorted(
            ((cost[place], place) for place in range(len(cost))),
            key=lambda entry: (entry[0], -ceilings[entry[1]], entry[1]),
        )

    def _try_all(self) -> None:
        limit = self._study.objectives.month
        order = [(cost, place) for cost, place in self._in_order() if limit is None or cost <= limit]
        overload = Overload(self._cases[0].load(self._pool.trace))
        under_way: deque[tuple[int, Ticket]] = deque()
        for number, (cost, place) in enumerate(order):
            if len(under_way) == self._ahead:
                self._take(*under_way.popleft())
            best = self._best()
            if best is not None and cost > best * _NEAR:
                break
            self._report("combinations", number / len(order))
            if overload.rules_out(self._cases[place]) or self._is_same(place):
                continue
            most = [amount for amount in (None if best is None else best * _NEAR, limit) if amount is not None]
            under_way.append((place, self._pool.hand_in(self._cases[place], Try(min(most, default=None)))))
        while under_way:
            self._take(*under_way.popleft())

    def _replay_all(self) -> None:
        rest = [place for _, place in self._in_order() if place not in self._whole]
        self._peaks.clear()
        under_way: deque[tuple[int, Ticket]] = deque()
        for number, place in enumerate(rest):
            if len(under_way) == self._ahead:
                self._take(*under_way.popleft())
            self._report("combinations", number / len(rest))
            if not self._is_same(place):
                under_way.append((place, self._pool.hand_in(self._cases[place], Whole())))
        while under_way:
            self._take(*under_way.popleft())

    def _take(self, place: int, ticket: Ticket) -> None:
        """What has become of a combination."""
        found = ticket.result
        if isinstance(found, _Stopped):
            self._stopped.add(place)
            peak: int | None = found.peak
        else:
            self._whole[place] = found
            peak = found.replicas_peak
        alike = self._alike(place)
        if alike is not None and peak is not None:
            self._peaks.setdefault(alike, []).append((self._possible[place].varied[_CEILING], peak, place))

    def _alike(self, place: int) -> Any:
        """What a combination has in common with those that differ in their ceiling alone; None: there are none.

        A rule of the user's own may look at its ceiling.
        """
        varied, plan = self._possible[place].varied, self._cases[place].plan
        if _CEILING not in varied or not isinstance(plan, Plan) or plan.scaling.rule.startswith("python:"):
            return None
        return tuple(value for key, value in varied.items() if key != _CEILING)

    def _is_same(self, place: int) -> bool:
        """Whether it is known what becomes of a combination: its ceiling was not reached, as another's was not."""
        alike = self._alike(place)
        if alike is None:
            return False
        for other, peak, there in self._peaks.get(alike, ()):
            if peak < min(other, self._possible[place].varied[_CEILING]):
                self._same.add(place)
                if there in self._whole:
                    self._whole[place] = dataclasses.replace(self._whole[there], plan=self._cases[place].plan.name)
                else:
                    self._stopped.add(place)
                return True
        return False

    def _best(self) -> Decimal | None:
        months = [figures.bill.month for figures in self._whole.values() if figures.meets_all]
        return min(months, default=None)
