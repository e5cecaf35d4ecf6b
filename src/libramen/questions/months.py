"""Other months, made of the days of a trace: how sure is it which plan is the cheapest?

The bootstrap of B. Efron, Bootstrap Methods: Another Look at the Jackknife, Annals of Statistics 7 (1979): each quarter
of each day is replaced by the same quarter of a day that is drawn with replacement, from a week on among weekdays or
week-ends by themselves, and what was counted in them is added up. Days that `[month]` names are drawn among themselves
alone. Nothing is replayed again; every plan gets the same quarters. n days vary less among themselves than what they
are a sample of: the spread is widened by sqrt(n / (n - 1)), which makes its variance unbiased (Davison and Hinkley,
Bootstrap Methods and their Application, 1997, section 2.3).
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np

from libramen.base.results import Result
from libramen.base.streams import stream
from libramen.base.times import EPSILON_S, local_time
from libramen.bill.account import charges_of
from libramen.bill.month import Month, Rough, clock_hours
from libramen.outcome.figures import Figures
from libramen.outcome.kept_replays import KeptReplays, MonthWeights
from libramen.prices.lines import total
from libramen.runs.cases import Case
from libramen.study.objectives import Objective

MONTHS: Final = 100
DAY_S: Final = 86400.0
LEAST: Final = 2
"""Days that a trace must have: of one nobody can know how days differ."""
QUARTERS: Final = 4
QUARTER_S: Final = DAY_S / QUARTERS
_ALIKE: Final = 2
_WEEK: Final = 7
_SATURDAY: Final = 5


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
    figures: Sequence[Figures], cases: Mapping[str, Case], seed: int = 0, months: int = MONTHS
) -> Resampled | None:
    """Which plan is the cheapest in other months.

    Objectives on availability and on latency, of all requests, of routes, of windows and of services, and the one on
    money, are judged anew in each; those on percentiles by the share that was answered in time, those on minutes and
    means stay as they came out.

    Args:
        figures: of each plan.
        cases: the plans by name, with their prices and what the study says of the month.
        seed: random seed.
        months: how many.

    Returns:
        None: the trace has fewer than two days, or none of them may stand for another.
    """
    kept_replays: list[KeptReplays] = [one.kept_replays for one in figures]
    if not figures or any(one is None for one in kept_replays):
        return None
    n = int((kept_replays[0].span_s + EPSILON_S) // DAY_S)
    if n < LEAST:
        return None
    all_weights: list[MonthWeights] = []
    for one, mine in zip(figures, kept_replays, strict=True):
        month_weights = mine.month_weights(cases[one.plan].terms.month)
        if month_weights is None:
            return None
        all_weights.append(month_weights)
    groups = _groups(kept_replays[0], all_weights[0].month, n)
    if not any(len(group) >= _ALIKE for group in groups):
        return None
    times = _times(groups, n, stream(seed, "days"), months)
    of_hour = _of_hours(kept_replays[0], n, times)
    cost = np.empty((len(figures), months), object)
    met = np.empty((len(figures), months), bool)
    for place, (one, mine, month_weights) in enumerate(zip(figures, kept_replays, all_weights, strict=True)):
        case = cases[one.plan]
        services = case.system.billed
        for k in range(months):
            weights = tuple(Rough(part.floats * of_hour[k]) for part in month_weights.weights)
            cost[place, k] = total(tuple(charge.line for charge in charges_of(services, mine.use(weights), case.terms)))
            met[place, k] = all(_met(objective, mine, weights, cost[place, k]) for objective in one.objectives)
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


def _groups(kept_replays: KeptReplays, month: Month, n: int) -> list[list[int]]:
    """Days that may stand for each other, of 24 h from the start of the trace on, by their number."""
    middles = [local_time(kept_replays.start, (day + 0.5) * DAY_S) for day in range(n)]
    if month.days:
        named = [[day for day in range(n) if (at := middles[day]) and at.date() in one.dates] for one in month.days]
        return [group for group in named if group]
    week_end = [n >= _WEEK and at is not None and at.weekday() >= _SATURDAY for at in middles]
    if min(sum(week_end), n - sum(week_end)) < _ALIKE:  # one alone has nobody to be replaced by
        week_end = [False] * n
    return [group for kind in (False, True) if (group := [day for day in range(n) if week_end[day] is kind])]


def _times(groups: list[list[int]], n: int, rng: np.random.Generator, months: int) -> np.ndarray:
    """How often each quarter is there in each month, the spread widened: float64 (months, days, quarters)."""
    times = np.ones((months, n, QUARTERS))
    for alike in groups:
        if len(alike) < _ALIKE:
            continue
        drawn = rng.integers(0, len(alike), (months, len(alike), QUARTERS))
        for place, day in enumerate(alike):
            times[:, day] = (drawn == place).sum(axis=1)
        wider = math.sqrt(len(alike) / (len(alike) - 1))
        times[:, alike] = 1 + wider * (times[:, alike] - 1)
    return times


def _of_hours(kept_replays: KeptReplays, n: int, times: np.ndarray) -> np.ndarray:
    """The same of each hour of the clock, which belongs to the quarter in which its middle is: float64 (months, hours).

    What lies beyond the last whole day stays.
    """
    edges_s = clock_hours(kept_replays.span_s, kept_replays.start)
    quarter = ((edges_s[:-1] + edges_s[1:]) / 2 // QUARTER_S).astype(np.int64)
    flat = np.concatenate([times.reshape(len(times), -1), np.ones((len(times), 1))], axis=1)
    of_hour: np.ndarray = flat[:, np.minimum(quarter, n * QUARTERS)]
    return of_hour


def _met(objective: Objective, kept_replays: KeptReplays, weights: tuple[Rough, ...], cost: object) -> bool:
    """Whether a month meets an objective."""
    if objective.name == "month":
        return bool(cost <= objective.wanted)  # type: ignore[operator]
    scope = objective.scope
    if objective.share is None and objective.key != "availability":
        return objective.met
    requests = ok = within = 0.0
    for one, replay in zip(weights, kept_replays.replays, strict=False):
        hourly = replay.kept[scope].hourly
        endings = one.over(hourly.endings)
        requests, ok = requests + float(endings.sum()), ok + float(endings[0])
        if objective.share is not None:
            name = objective.key if scope.startswith("services.") else objective.name
            within += float(one.over(hourly.within[name]))
    tolerance = EPSILON_S * max(1.0, requests)
    if objective.share is None:
        return ok >= float(objective.wanted) * requests - tolerance
    return within >= objective.share * requests - tolerance
