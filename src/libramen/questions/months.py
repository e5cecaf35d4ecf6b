"""Other months, made of the days of a trace: how sure is it which plan is the cheapest?

The bootstrap of B. Efron, Bootstrap Methods: Another Look at the Jackknife, Annals of Statistics 7 (1979): each quarter
of each day is replaced by the same quarter of a day that is drawn with replacement, from a week on among weekdays or
week-ends by themselves, and what was counted in them is added up. Nothing is replayed again; every plan gets the same
quarters. n days vary less among themselves than what they are a sample of: the spread is widened by sqrt(n / (n - 1)),
which makes its variance unbiased (Davison and Hinkley, Bootstrap Methods and their Application, 1997, section 2.3).
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from typing import Any, Final

import numpy as np

from libramen.base.results import Result
from libramen.base.streams import stream
from libramen.base.times import EPSILON_S
from libramen.bill.lines import total
from libramen.bill.month import HOURS
from libramen.bill.prices import lines_of
from libramen.outcome.days import QUARTERS, Days
from libramen.outcome.figures import Figures
from libramen.questions.bounds import about_all
from libramen.study.plan import Plan

MONTHS: Final = 100
_ALIKE: Final = 2


@dataclass(frozen=True)
class Resampled(Result):
    """What became of months made of the quarters of the days of the trace.

    Attributes:
        months: how many.
        days: of the trace.
        cheapest: in how many each plan was the cheapest that met every objective, the most first.
        none: in how many no plan met every objective.
        met: in how many each plan met every objective.
    """

    months: int
    days: int
    cheapest: dict[str, int]
    none: int
    met: dict[str, int]


def resampled(
    figures: Sequence[Figures], plans: Mapping[str, Plan], seed: int = 0, months: int = MONTHS
) -> Resampled | None:
    """Which plan is the cheapest in other months.

    Objectives on availability and on latency of all requests, and the one on money, are judged anew in each; all others
    stay as they came out.

    Args:
        figures: of each plan, with `days`.
        plans: the plans by name, for their prices.
        seed: random seed.
        months: how many.

    Returns:
        None: the days are not known.
    """
    if not figures or any(one.days is None for one in figures):
        return None
    first = figures[0].days
    assert first is not None
    weights = _weights(first, stream(seed, "days"), months)
    cost = np.empty((len(figures), months), object)
    met = np.empty((len(figures), months), bool)
    for place, one in enumerate(figures):
        assert one.days is not None
        cost[place] = _months(one.days, plans[one.plan], weights)
        met[place] = _met(one, one.days, cost[place], weights)
    winners = [
        min((place for place in range(len(figures)) if met[place, k]), key=lambda p: (cost[p, k], p), default=None)
        for k in range(months)
    ]
    wins = {one.plan: winners.count(place) for place, one in enumerate(figures)}
    return Resampled(
        months,
        len(first.week_end),
        dict(sorted(((plan, won) for plan, won in wins.items() if won), key=lambda entry: -entry[1])),
        winners.count(None),
        {one.plan: int(met[place].sum()) for place, one in enumerate(figures)},
    )


def _weights(days: Days, rng: np.random.Generator, months: int) -> np.ndarray:
    """How often each quarter is there in each month, the spread widened: float64 (months, quarters)."""
    n, week_end = len(days.week_end), np.array(days.week_end)
    if min(np.count_nonzero(week_end), np.count_nonzero(~week_end)) < _ALIKE:  # one alone has nobody to be replaced by
        week_end = np.zeros(n, bool)
    times = np.zeros((months, n, QUARTERS))
    for kind in np.unique(week_end):
        alike = np.flatnonzero(week_end == kind)
        drawn = rng.integers(0, len(alike), (months, len(alike), QUARTERS))
        for place, day in enumerate(alike.tolist()):
            times[:, day] = (drawn == place).sum(axis=1)
        wider = math.sqrt(len(alike) / (len(alike) - 1))
        times[:, alike] = 1 + wider * (times[:, alike] - 1)
    return times.reshape(months, -1)


def _months(days: Days, plan: Plan, weights: np.ndarray) -> list[Decimal]:
    """What each of some months costs: the mean of its days, over 730 h."""
    n = len(days.week_end)
    found = []
    for weight in weights:
        amount = Decimal(0)
        for name, items in days.used.items():
            used = {
                item: Fraction(amounts[0])
                if item == "replicas_at_once"
                else Fraction(max(0.0, float(weight @ np.asarray(amounts)) / n)) * HOURS / 24
                for item, amounts in items.items()
            }
            amount += total(lines_of(plan.services[name], used))
        found.append(amount)
    return found


def _met(figures: Figures, days: Days, cost: Any, weights: np.ndarray) -> np.ndarray:
    """Whether each of some months meets every objective."""

    def over(counts: tuple[int, ...]) -> np.ndarray:
        added: np.ndarray = weights @ np.asarray(counts)
        return added

    requests = over(days.requests)
    met = np.ones(len(weights), bool)
    for objective in figures.objectives:
        if objective.name == "month":
            met &= np.array([amount <= objective.wanted for amount in cost])
        elif not about_all(objective):
            met &= objective.met
        elif objective.name == "availability":
            met &= over(days.ok) >= float(objective.wanted) * requests - EPSILON_S
        else:
            assert objective.share is not None
            met &= over(days.within[objective.name]) >= objective.share * requests - EPSILON_S
    return met
