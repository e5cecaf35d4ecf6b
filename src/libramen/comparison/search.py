"""The cheapest plan that meets every objective, found without replaying every combination, and proven all the same."""

from __future__ import annotations

import re
from decimal import Decimal
from fractions import Fraction
from functools import partial
from typing import TYPE_CHECKING, Any, Final, NamedTuple

from libramen.bill.lines import total
from libramen.bill.month import HOURS, Month
from libramen.bill.prices import lines_of
from libramen.bill.usage import paid_from, paid_to
from libramen.comparison.compare import Comparison
from libramen.comparison.vary import Combination, combinations, sensible
from libramen.errors import StudyError
from libramen.outcome.replay import replay
from libramen.runs.cases import Case, run_tasks, workers_for
from libramen.study.plan import Plan

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Mapping
    from concurrent.futures import Executor

    import numpy as np

    from libramen.engine.fleet import Fleet
    from libramen.outcome.figures import Figures
    from libramen.study.study import Study
    from libramen.trace.trace import Trace

_NEAR: Final = Decimal("1.02")
"""Up to so many times the cost of the cheapest a plan is said to be as good as it."""
_BATCH: Final = 4
"""Combinations that are replayed together, whatever the number of workers, so that the result does not depend on it."""
_CENT: Final = Decimal("0.01")
_SETTLED_S: Final = 30.0
"""So long after its arrival a request has nearly always ended."""


class Counts(NamedTuple):
    """How many combinations there were, and what became of them.

    Attributes:
        combinations: all of them.
        replayed: to the end.
        stopped: replayed up to where an objective could not be met any more, or as much was spent as the winner costs.
        ruled_out: never replayed: more costly than the winner at the least, or than what a month may cost.
        impossible: such as the study cannot have.
    """

    combinations: int
    replayed: int
    stopped: int
    ruled_out: int
    impossible: int


class Search(Comparison):
    """Combinations that were replayed to the end, in the order of their keys.

    Attributes:
        varied: of each plan in `figures`, by its name: key -> value.
        counts: what became of all combinations.
        reasons: why combinations are impossible, with how many there are of each.
    """

    def __init__(
        self,
        figures: Iterable[Figures],
        trace: Trace,
        cases: Iterable[Case],
        *,
        varied: dict[str, dict[str, Any]],
        counts: Counts,
        reasons: dict[str, int],
    ) -> None:
        super().__init__(figures, trace, cases)
        self.varied, self.counts, self.reasons = varied, counts, reasons

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

    def winner(self) -> Plan | None:
        """The plan of the cheapest, None: nothing meets every objective."""
        best = self.cheapest
        if best is None:
            return None
        plan = self._cases[best.plan].plan
        assert isinstance(plan, Plan)
        return plan

    def to_dict(self) -> dict[str, Any]:
        """The JSON of the command line."""
        document = super().to_dict()
        for plan in document["plans"]:
            plan["varied"] = {key: _plain(value) for key, value in self.varied[plan["plan"]].items()}
        return document | {
            "counts": self.counts._asdict(),
            "near": [one.plan for one in self.near],
            "front": [one.plan for one in self.front],
            "impossible": self.reasons,
        }

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


class Stopped(Exception):  # noqa: N818  (it is no error)
    """An objective cannot be met any more."""


class Watch:
    """Looks now and then whether a replay under way can still meet the objectives on all requests, and its cost.

    What has failed stays failed, what was late stays late, and what is paid for stays paid: when that is too much, the
    rest changes nothing.

    Args:
        trace: what is replayed.
        case: against what.
        most: what a month may cost, None: whatever it costs.
    """

    def __init__(self, trace: Trace, case: Case, most: Decimal | None = None) -> None:
        import numpy as np

        from libramen.engine.plane import RESULT

        self.records: np.ndarray = np.zeros(len(trace), RESULT)
        self._at_s, self._span_s = trace.at_s, trace.span_s
        self._seen = int(np.searchsorted(trace.at_s, case.settle_s))  # up to here they are counted
        self._failed = 0
        n = len(trace) - self._seen
        self._most_failed = float(n)
        self._late: list[tuple[float, float]] = []  # a limit [s], and how many may be beyond it
        for goal in case.objectives.goals():
            if goal.route is not None or goal.window is not None or goal.service is not None:
                continue
            if goal.name == "availability":
                self._most_failed = min(self._most_failed, n * (1.0 - float(goal.wanted)))
            elif goal.share is not None:
                self._late.append((float(goal.wanted), n * (1.0 - goal.share)))
        self._beyond = [0] * len(self._late)
        assert isinstance(case.plan, Plan)
        self._plan, self._most = case.plan, most
        self._month = Month(trace.span_s, trace.start)
        # Of a week or more each hour counts by itself, and use is known only at the end.
        if self._month.by_hour_of_week or case.plan.tier.billing not in {"per_second", "per_hour"}:
            self._most = None

    def look(self, now_s: float, fleets: list[Fleet]) -> None:
        """Stop the replay if nothing can save it.

        Each request is looked at once, soon after it has arrived; one that has not ended by then is not counted.
        """
        import numpy as np

        if self._most is not None and self._cost(now_s, fleets[0]) > self._most:
            raise Stopped
        last = int(np.searchsorted(self._at_s, now_s - _SETTLED_S))
        if last <= self._seen:
            return
        some = self.records[self._seen : last]
        self._seen = last
        failed = some["ending"] != 0
        self._failed += int(np.count_nonzero(failed))
        if self._failed > self._most_failed + 1e-6:
            raise Stopped
        for place, (limit_s, most) in enumerate(self._late):
            self._beyond[place] += int(np.count_nonzero(failed | (some["latency_s"] > limit_s + 1e-9)))
            if self._beyond[place] > most + 1e-6:
                raise Stopped

    def _cost(self, now_s: float, fleet: Fleet) -> Decimal:
        """A month at the least: what is paid by now, and the fewest replicas from now on."""
        paid_s = 0.0
        for replica in fleet.replicas:
            begun_s = paid_from(replica, self._plan)
            if begun_s is not None and begun_s < now_s:
                paid_s += max(0.0, min(paid_to(replica), now_s) - begun_s)
        paid_s += fewest(self._plan) * (self._span_s - now_s)
        month_s = Fraction(paid_s) * HOURS * 3600 / Fraction(self._span_s)
        return total(lines_of(self._plan, {"replicas": month_s})) - _CENT


def try_case(case: Case, trace: Trace, most: Decimal | None = None) -> Figures | None:
    """Replay a case, up to where an objective cannot be met, or `most` is spent: then None. Runs in a worker."""
    watch = Watch(trace, case, most)
    try:
        outcome = replay(
            trace, case.services, case.plan, case.objectives, case.seed, settle=case.settle_s, currency=case.currency,
            records=watch.records, watch=watch.look,
        )  # fmt: skip
    except Stopped:
        return None
    return outcome.figures(routes=False)


def whole_case(case: Case, trace: Trace) -> Figures | None:
    """Replay a case to the end. Runs in a worker."""
    return case.replay(trace).figures(routes=False)


def fewest(plan: Plan) -> int:
    """How many replicas are paid for at any time at the least.

    As many as its rule allows, or as a release leaves. Where something may break or not be sold it may be fewer, so
    none are counted then, and neither is use.
    """
    may_die = plan.may_break or (plan.size.memory is not None and bool(plan.rollouts))
    if may_die or plan.tier.order_fails or plan.tier.billed_from == "ready" or plan.tier.billing == "per_request":
        return 0
    low = plan.limits[0]
    return min([low, *(rollout.least_ready(low) for rollout in plan.rollouts)])


def least_cost(combination: Combination) -> Decimal:
    """What a combination costs a month at the least, known before any replay."""
    plan = combination.plan
    assert plan is not None
    n = fewest(plan)
    standing = {"replicas": Fraction(HOURS * 3600 * n), "replicas_at_once": Fraction(n)}
    return max(Decimal(0), total(lines_of(plan, standing)) - _CENT)


def search(
    study: Study,
    plan: str | Plan,
    executor: Executor | None = None,
    *,
    vary: Mapping[str, Iterable[Any]] | None = None,
    trace: Trace | None = None,
    seed: int = 0,
    workers: int | None = 1,
    front: bool = False,
    auto: bool = False,
    cache: bool = True,
    progress: Callable[[str, float], None] | None = None,
    **ranges: Iterable[Any],
) -> Search:
    """The cheapest combination of some values of a plan's keys that meets every objective.

    The same as if all were replayed, to the cent: combinations are replayed in the order of what they cost at the
    least, up to where that is more than the cheapest found so far, and a replay is stopped as soon as its error budget
    or the share of late requests is spent for good. If nothing meets every objective, all are replayed to the end for
    the nearest. Of equal costs the first in the order of the keys wins.

    Args:
        study: from `load_study`, with one service.
        plan: name of one of its plans, or a plan: all that is not varied.
        executor: where the replays run, from `concurrent.futures` or alike. Default: here.
        vary: key -> values, for keys with a dot: `scaling.K`, `rollouts.N.K`, `size.K`, `tier.K`, `service.K`.
        trace: what is replayed. Default: the study's own.
        seed: random seed, the same for every combination.
        workers: processes, without an executor; the result is the same. None: as many as there are cores.
        front: replay all combinations to the end, so that `front` has all that nobody beats.
        auto: also vary the number of replicas, or floor and ceiling, as far as is sensible; see `vary.sensible`.
        cache: whether a trace that was read before may be taken from the user's cache directory.
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
    if not isinstance(chosen, Plan) or len(study.services) > 1:
        raise StudyError("search: a plan of several services cannot be varied yet; allowed: a study with one service")
    wanted: dict[str, Any] = {**(vary or {}), **ranges}
    if trace is None and auto:
        trace = study.trace(seed=seed, progress=lambda share: report("reading the trace", share), cache=cache)
    if auto and trace is not None:
        wanted = {**sensible(study, chosen, trace), **wanted}
    if not wanted:
        raise StudyError("search: nothing is varied; allowed: one key or more, such as replicas=2..20")
    chosen.scaling.may_run()
    everything = combinations(study, chosen, wanted)
    possible = [one for one in everything if one.plan is not None]
    reasons = _reasons(everything)
    if not possible:
        raise StudyError(
            f"search: none of {len(everything):,} combinations is possible; the first: {next(iter(reasons))}"
        )
    if trace is None:
        trace = study.trace(seed=seed, progress=lambda share: report("reading the trace", share), cache=cache)
    cases = [
        Case(one.services, one.plan, study.objectives, seed, study.trace_table.settle, study.currency)  # type: ignore[arg-type]
        for one in possible
    ]
    with workers_for(min(_BATCH, len(cases)), executor, workers) as there:
        return _Hunt(study, trace, possible, cases, there, report, front=front).run(everything, reasons)


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
    """One search under way."""

    def __init__(
        self,
        study: Study,
        trace: Trace,
        possible: list[Combination],
        cases: list[Case],
        executor: Executor | None,
        report: Callable[[str, float], None],
        *,
        front: bool,
    ) -> None:
        self._study, self._trace, self._possible, self._cases = study, trace, possible, cases
        self._executor, self._report, self._front = executor, report, front
        self._whole: dict[int, Figures] = {}
        self._stopped: set[int] = set()

    def run(self, everything: list[Combination], reasons: dict[str, int]) -> Search:
        """Replay what must be replayed, and no more."""
        cost = [least_cost(one) for one in self._possible]
        order = sorted(range(len(cost)), key=lambda place: (cost[place], place))
        limit = self._study.objectives.month
        if not self._front:
            allowed = [place for place in order if limit is None or cost[place] <= limit]
            for at in range(0, len(allowed), _BATCH):
                best = self._best()
                batch = [p for p in allowed[at : at + _BATCH] if best is None or cost[p] <= best * _NEAR]
                if not batch:
                    break
                self._replay(batch, at / len(allowed))
        stopped, replayed = len(self._stopped), len(self._whole)
        if self._front or self._best() is None:
            # Which is nearest, and which nobody beats, only whole replays can tell.
            rest = [place for place in order if place not in self._whole]
            for at in range(0, len(rest), _BATCH):
                self._replay(rest[at : at + _BATCH], at / len(rest), to_the_end=True)
            stopped, replayed = 0, len(self._whole)
        self._report("combinations", 1.0)
        places = sorted(self._whole)
        counts = Counts(
            len(everything), replayed, stopped, len(self._possible) - replayed - stopped,
            len(everything) - len(self._possible),
        )  # fmt: skip
        names = {place: self._cases[place].plan.name for place in places}
        return Search(
            [self._whole[place] for place in places],
            self._trace,
            [self._cases[place] for place in places],
            varied={names[place]: self._possible[place].varied for place in places},
            counts=counts,
            reasons=reasons,
        )

    def _best(self) -> Decimal | None:
        months = [figures.bill.month for figures in self._whole.values() if figures.meets_all]
        return min(months, default=None)

    def _replay(self, places: list[int], share: float, *, to_the_end: bool = False) -> None:
        self._report("combinations", share)
        best, limit = self._best(), self._study.objectives.month
        most = [cost for cost in (None if best is None else best * _NEAR, limit) if cost is not None]
        task = whole_case if to_the_end else partial(try_case, most=min(most, default=None))
        for number, figures in run_tasks(task, [self._cases[p] for p in places], self._trace, self._executor):
            if figures is None:
                self._stopped.add(places[number])
            else:
                self._whole[places[number]] = figures
