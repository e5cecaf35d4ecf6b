"""The same plans with several seeds of everything random: how much the results vary with the seed."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace as changed
from functools import cached_property
from typing import Any, Final, Literal, NamedTuple, Unpack

from libramen.base import heavy
from libramen.base.errors import ReplayError
from libramen.base.results import Result
from libramen.base.shown import Shown
from libramen.outcome.figures import Figures
from libramen.questions import sequential
from libramen.questions.context import Asking, Context
from libramen.questions.sequential import verdict
from libramen.runs.cases import Case
from libramen.runs.pool import Pool, Whole
from libramen.study.plan import Plan
from libramen.study.study import Study

HOLDS: Final = 0.95
"""A plan holds when at least this share of its repeats meets every objective."""
MEASURES: Final = ("availability", "p95_s", "month")


@dataclass(frozen=True)
class Spread(Result):
    """A figure over some repeats.

    Attributes:
        mean, deviation: of the repeats; the deviation with n - 1, None of one.
        low, high: the 95 % interval of the mean, by Student's t with n - 1 degrees of freedom; None of one. Student,
            The Probable Error of a Mean, Biometrika 6 (1908).
        n: repeats in which the figure exists.
    """

    mean: float | None
    deviation: float | None
    low: float | None
    high: float | None
    n: int

    @classmethod
    def of(cls, values: Iterable[float | None]) -> Spread:
        """Of the values that exist."""
        found = [float(value) for value in values if value is not None]
        n = len(found)
        if not n:
            return cls(None, None, None, None, 0)
        mean = math.fsum(found) / n
        if n == 1:
            return cls(mean, None, None, None, 1)
        deviation = math.sqrt(math.fsum((value - mean) ** 2 for value in found) / (n - 1))
        half = student(n - 1) * deviation / math.sqrt(n)
        return cls(mean, deviation, mean - half, mean + half, n)


def student(freedom: float) -> float:
    """The 97.5 % quantile of Student's t."""
    from scipy.special import stdtrit

    return float(stdtrit(freedom, 0.975))


class Repeated(NamedTuple):
    """One plan, with each of the seeds.

    Attributes:
        plan: its name.
        figures: of each repeat, in the order of the seeds.
        is_sequential: whether there were as many as a sequential test needed.
    """

    plan: str
    figures: tuple[Figures, ...]
    is_sequential: bool = False

    def values(self, measure: str) -> list[float | None]:
        """`availability`, `p95_s` (of answered requests) or `month` of each repeat."""
        if measure == "month":
            return [float(figures.bill.month) for figures in self.figures]
        if measure == "p95_s":
            return [figures.month.latency_s["p95"] for figures in self.figures]
        return [figures.month.availability for figures in self.figures]

    def spread(self, measure: str) -> Spread:
        """Its mean, deviation and interval."""
        return Spread.of(self.values(measure))

    @property
    def met(self) -> int:
        """Repeats that meet every objective."""
        return sum(figures.meets_all for figures in self.figures)

    @property
    def is_clear(self) -> bool:
        """Whether a sequential test has been decided; see `sequential.verdict`."""
        return verdict(figures.meets_all for figures in self.figures) is not None

    @property
    def holds(self) -> bool:
        """Whether at least 95 % of the repeats meet every objective; of a sequential test what it says."""
        said = verdict(figures.meets_all for figures in self.figures) if self.is_sequential else None
        return self.met >= HOLDS * len(self.figures) - 1e-9 if said is None else said

    def missed(self) -> dict[str, int]:
        """In how many repeats each objective is missed."""
        counts: dict[str, int] = {}
        for figures in self.figures:
            for objective in figures.missed:
                counts[objective.name] = counts.get(objective.name, 0) + 1
        return counts


@dataclass(frozen=True, eq=False)
class Repeats(Shown):
    """Plans that were replayed with the same seeds.

    Attributes:
        plans: each plan with its repeats, in the order of the study.
        seeds: the seeds.
    """

    plans: tuple[Repeated, ...]
    seeds: range

    @property
    def currency(self) -> str:
        """Of the bills."""
        return self.plans[0].figures[0].bill.currency

    @property
    def table(self) -> heavy.DataFrame:
        """One row per plan: mean, deviation and interval of availability, p95 and the month, and how often it met."""
        import pandas as pd

        rows = []
        for plan in self.plans:
            row: dict[str, Any] = {"plan": plan.plan, "met": plan.met, "holds": plan.holds}
            for measure in MEASURES:
                spread = plan.spread(measure).to_dict()
                row |= {f"{measure}_{name}": spread[name] for name in ("mean", "deviation", "low", "high")}
            rows.append(row)
        return pd.DataFrame(rows).set_index("plan")

    @cached_property
    def cheapest(self) -> Repeated | None:
        """Of the plans that hold the one with the least mean of the month; None: none holds."""
        holding = [plan for plan in self.plans if plan.holds]
        return min(holding, key=lambda plan: plan.spread("month").mean or 0.0, default=None)

    def difference(self, one: Repeated, other: Repeated, measure: str) -> Spread:
        """Of two plans, paired by seed as far as both have it: what they owe to the same random numbers cancels out."""
        pairs = zip(one.values(measure), other.values(measure), strict=False)
        return Spread.of(None if a is None or b is None else a - b for a, b in pairs)

    def to_dict(self) -> dict[str, Any]:
        """The JSON of the command line."""
        best = self.cheapest
        return {
            "seeds": list(self.seeds),
            "cheapest": None if best is None else best.plan,
            "plans": [
                {
                    "plan": plan.plan,
                    **{measure: plan.spread(measure).to_dict() for measure in MEASURES},
                    "repeats": len(plan.figures),
                    "met": plan.met,
                    "holds": plan.holds,
                    "is_clear": plan.is_clear if plan.is_sequential else None,
                    "missed": plan.missed(),
                    "against_cheapest": None
                    if best is None or plan is best
                    else {measure: self.difference(plan, best, measure).to_dict() for measure in MEASURES},
                }
                for plan in self.plans
            ],
        }


def repeat(
    study: Study,
    n: int | Literal["auto"],
    *,
    plans: Iterable[str | Plan] | None = None,
    **asked: Unpack[Asking],
) -> Repeats:
    """Replay plans of a study n times, with the seeds `seed` to `seed + n - 1` of everything random.

    The trace is read once, with the first seed. Every plan meets the same seeds, so that their differences are paired.

    Args:
        study: from `load_study`.
        n: how often, 1 or more; or `"auto"`: each plan until it is clear whether it holds, by the sequential test of
            `sequential.verdict`, at most 200 times.
        plans: which plans. Default: all of the study.
        **asked: trace, seed (the first), executor, workers, cache, store, progress; see `Context`.

    Raises:
        ReplayError: n is not allowed.
        StudyError: a plan cannot be replayed on this trace.

    Example:
        >>> repeat(load_study("landing/study.toml"), 20).cheapest.plan  # doctest: +SKIP
        'spread'
    """
    check_repeats(n)
    context = Context.of(study, asked)
    first = context.cases(plans)
    with context.pool(len(first) * (_ROUND if isinstance(n, str) else n)) as pool:
        found = repeated_cases(first, n, pool, context.report)
    return Repeats(found, range(context.seed, context.seed + max(len(plan.figures) for plan in found)))


def check_repeats(n: Any, *, auto: bool = True) -> None:
    """See that plans can be repeated so often; `auto`: also until it is clear.

    Raises:
        ReplayError: they cannot.
    """
    if (n != "auto" or not auto) and (isinstance(n, bool) or not isinstance(n, int) or not 1 <= n <= _MOST):
        more = ", or auto" if auto else ""
        raise ReplayError(f"repeats: found {n!r}; allowed: a whole number from 1 to {_MOST:,}{more}")


def repeated_cases(
    cases: Sequence[Case], n: int | str, pool: Pool, report: Callable[[str, float], None] = lambda _what, _share: None
) -> tuple[Repeated, ...]:
    """Cases replayed with more seeds, from their own on: n, or as many as it takes to know whether each holds."""
    is_sequential = isinstance(n, str)
    found: list[list[Figures]] = [[] for _ in cases]
    undecided = list(range(len(cases)))
    while undecided:
        some = min(_ROUND, sequential.MOST - len(found[undecided[0]])) if isinstance(n, str) else n
        tickets = [
            (place, pool.hand_in(changed(cases[place], seed=cases[place].seed + len(found[place]) + k), Whole()))
            for place in undecided
            for k in range(some)
        ]
        for done, (place, ticket) in enumerate(tickets):
            found[place].append(ticket.result)
            report("repeats", (done + 1) / len(tickets))
        undecided = [
            place
            for place in undecided
            if is_sequential
            and len(found[place]) < sequential.MOST
            and verdict(figures.meets_all for figures in found[place]) is None
        ]
    return tuple(
        Repeated(case.plan.name, tuple(figures), is_sequential) for case, figures in zip(cases, found, strict=True)
    )


_ROUND: Final = 5
"""Repeats of each undecided plan at a time."""
_MOST: Final = 100_000
