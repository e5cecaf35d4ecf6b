"""What each quarter of each day of a trace was like: so that other months can be made of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Final

import numpy as np

from libramen.base.results import Result
from libramen.base.times import EPSILON_S, local_time
from libramen.bill.month import clock_hours
from libramen.engine.border.records import Results
from libramen.study.objectives import Goal

if TYPE_CHECKING:
    from libramen.outcome.outcome import Outcome
    from libramen.outcome.service_outcome import ServiceOutcome

DAY_S: Final = 86400.0
LEAST: Final = 2
"""Days that a trace must have: of one nobody can know how days differ."""
QUARTERS: Final = 4
QUARTER_S: Final = DAY_S / QUARTERS
_WEEK: Final = 7
_SATURDAY: Final = 5


@dataclass(frozen=True)
class Days(Result):
    """Counts of each quarter of each whole day, of 24 h from the start of the trace on: four a day, day after day.

    Attributes:
        requests: that arrived; `ok`: of these, how many were answered ok.
        within: of each limit on all requests, by the name of the objective, how many were answered ok within it.
        used: of each service what was used, by item as in `bill.usage.Used`.
        week_end: of each day, whether it is of a week-end; of a trace of under a week, or without a date, never.
    """

    requests: tuple[int, ...]
    ok: tuple[int, ...]
    within: dict[str, tuple[int, ...]]
    used: dict[str, dict[str, tuple[float, ...]]]
    week_end: tuple[bool, ...]


def days_of(outcome: Outcome, limits: Sequence[Goal]) -> Days | None:
    """The days of a replay; None: the trace has fewer than two, or its requests were not kept.

    Args:
        outcome: the replay.
        limits: what is asked of the latency of all requests.
    """
    n = int((outcome.span_s + EPSILON_S) // DAY_S)
    kept = outcome.run.results
    if n < LEAST or kept is None:
        return None
    requests, ok, within = _counted(outcome, kept, limits, n)
    used = {name: _used(one, QUARTERS * n) for name, one in outcome.services.items()}
    return Days(requests, ok, within, used, tuple(_is_week_end(outcome, day, n) for day in range(n)))


def _is_week_end(outcome: Outcome, day: int, days: int) -> bool:
    if days < _WEEK or outcome.start is None:
        return False
    middle = local_time(outcome.start, (day + 0.5) * DAY_S)
    return middle is not None and middle.weekday() >= _SATURDAY


def _counted(
    outcome: Outcome, kept: Results, limits: Sequence[Goal], n: int
) -> tuple[tuple[int, ...], tuple[int, ...], dict[str, tuple[int, ...]]]:
    at_s = outcome.trace.at_s
    first = int(np.searchsorted(at_s, outcome.settle_s))
    quarter = (at_s[first:] // QUARTER_S).astype(np.int64)
    is_ok = kept.ending[first:] == 0
    latency_s = kept.latency_s[first:]

    def counted(which: np.ndarray) -> tuple[int, ...]:
        return tuple(np.bincount(quarter[which], minlength=QUARTERS * n)[: QUARTERS * n].tolist())

    within = {goal.name: counted(is_ok & (latency_s <= goal.limit_s + EPSILON_S)) for goal in limits}
    return counted(np.ones(len(quarter), bool)), counted(is_ok), within


def _used(outcome: ServiceOutcome, n: int) -> dict[str, tuple[float, ...]]:
    """By item, in n quarters; an hour of the clock belongs to the one in which its middle is."""
    edges_s = clock_hours(outcome.span_s, outcome.start)
    quarter = ((edges_s[:-1] + edges_s[1:]) / 2 // QUARTER_S).astype(np.int64)
    found: dict[str, np.ndarray] = {}
    for row in outcome.usage:
        if row.item == "replicas_at_once":
            found[row.item] = np.full(n, float(row.amount[0]))
        else:
            hours = np.zeros(len(quarter))
            hours[: len(row.amount)] = row.amount[: len(quarter)]
            found[row.item] = found.get(row.item, 0.0) + np.bincount(quarter, weights=hours, minlength=n)[:n]
    return {item: tuple(amounts.tolist()) for item, amounts in found.items()}
