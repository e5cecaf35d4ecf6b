"""Other months, made of the days of a trace: how sure is it which plan is the cheapest?

The bootstrap of B. Efron, Bootstrap Methods: Another Look at the Jackknife, Annals of Statistics 7 (1979): days are
drawn with replacement, as many as there are, and what was counted on them is added up. Nothing is replayed again; every
plan gets the same days.
"""

from __future__ import annotations

from decimal import Decimal
from fractions import Fraction
from typing import TYPE_CHECKING, Any, Final, NamedTuple

import numpy as np

from libramen.bill.lines import total
from libramen.bill.month import HOURS
from libramen.bill.prices import lines_of
from libramen.comparison.bounds import about_all
from libramen.streams import stream
from libramen.study.plan import Plan
from libramen.times import EPSILON_S

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from libramen.outcome.days import Days
    from libramen.outcome.figures import Figures
    from libramen.study.plan import JointPlan

MONTHS: Final = 100


class Resampled(NamedTuple):
    """What became of months whose days were drawn from those of the trace.

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
    figures: Sequence[Figures], plans: Mapping[str, Plan | JointPlan], seed: int = 0, months: int = MONTHS
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
    n = len(figures[0].days.requests)  # type: ignore[union-attr]
    picks = stream(seed, "days").integers(0, n, (months, n))
    cost = np.empty((len(figures), months), object)
    met = np.empty((len(figures), months), bool)
    for place, one in enumerate(figures):
        assert one.days is not None
        cost[place] = _months(one.days, plans[one.plan], picks)
        met[place] = _met(one, one.days, cost[place], picks)
    winners = [
        min((place for place in range(len(figures)) if met[place, k]), key=lambda p: (cost[p, k], p), default=None)
        for k in range(months)
    ]
    wins = {one.plan: winners.count(place) for place, one in enumerate(figures)}
    return Resampled(
        months,
        n,
        dict(sorted(((plan, won) for plan, won in wins.items() if won), key=lambda entry: -entry[1])),
        winners.count(None),
        {one.plan: int(met[place].sum()) for place, one in enumerate(figures)},
    )


def _months(days: Days, plan: Plan | JointPlan, picks: np.ndarray) -> list[Decimal]:
    """What each of some months costs: the mean of its days, over 730 h."""
    parts = {"": plan} if isinstance(plan, Plan) else plan.services
    found = []
    for pick in picks:
        amount = Decimal(0)
        for name, items in days.used.items():
            used = {
                item: Fraction(per_day[0])
                if item == "replicas_at_once"
                else Fraction(float(np.mean(np.asarray(per_day)[pick]))) * HOURS / 24
                for item, per_day in items.items()
            }
            amount += total(lines_of(parts[name], used))
        found.append(amount)
    return found


def _met(figures: Figures, days: Days, cost: Any, picks: np.ndarray) -> np.ndarray:
    """Whether each of some months meets every objective."""

    def over(per_day: tuple[int, ...]) -> np.ndarray:
        added: np.ndarray = np.asarray(per_day)[picks].sum(axis=1)
        return added

    requests = over(days.requests)
    met = np.ones(len(picks), bool)
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
