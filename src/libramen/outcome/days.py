"""What each day of a trace was like: so that other months can be made of its days."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final, NamedTuple

import numpy as np

from libramen.bill.month import clock_hours
from libramen.times import EPSILON_S

if TYPE_CHECKING:
    from collections.abc import Sequence

    from libramen.engine.plane import Results
    from libramen.outcome.outcome import Outcome
    from libramen.study.objectives import Goal

DAY_S: Final = 86400.0
LEAST: Final = 7
"""Days that a trace must have: of fewer nobody can know how days differ."""


class Days(NamedTuple):
    """Counts of each whole day, of 24 h from the start of the trace on.

    Attributes:
        requests: that arrived; `ok`: of these, how many were answered ok.
        within: of each limit on all requests, by the name of the objective, how many were answered ok within it.
        used: of each service ("" where there is one) what was used, by item as in `bill.usage.Used`.
    """

    requests: tuple[int, ...]
    ok: tuple[int, ...]
    within: dict[str, tuple[int, ...]]
    used: dict[str, dict[str, tuple[float, ...]]]

    @classmethod
    def from_dict(cls, document: dict[str, Any]) -> Days:
        """What JSON has kept of it."""
        return cls(
            tuple(document["requests"]),
            tuple(document["ok"]),
            {name: tuple(values) for name, values in document["within"].items()},
            {
                service: {item: tuple(values) for item, values in items.items()}
                for service, items in document["used"].items()
            },
        )


def days_of(outcome: Outcome, limits: Sequence[Goal]) -> Days | None:
    """The days of a replay; None: the trace has fewer than seven, or its requests were not kept.

    Args:
        outcome: the replay.
        limits: what is asked of the latency of all requests.
    """
    n = int((outcome.span_s + EPSILON_S) // DAY_S)
    kept = outcome.run.results
    if n < LEAST or kept is None:
        return None
    requests, ok, within = _counted(outcome, kept, limits, n)
    parts = {"": outcome} if outcome.system.is_one else outcome.services
    return Days(requests, ok, within, {name: _used(one, n) for name, one in parts.items()})


def _counted(
    outcome: Outcome, kept: Results, limits: Sequence[Goal], n: int
) -> tuple[tuple[int, ...], tuple[int, ...], dict[str, tuple[int, ...]]]:
    at_s = outcome.trace.at_s
    first = int(np.searchsorted(at_s, outcome.settle_s))
    day = (at_s[first:] // DAY_S).astype(np.int64)
    is_ok = kept.ending[first:] == 0
    latency_s = kept.latency_s[first:]

    def per_day(which: np.ndarray) -> tuple[int, ...]:
        return tuple(np.bincount(day[which], minlength=n)[:n].tolist())

    within = {goal.name: per_day(is_ok & (latency_s <= goal.limit_s + EPSILON_S)) for goal in limits}
    return per_day(np.ones(len(day), bool)), per_day(is_ok), within


def _used(outcome: Outcome, n: int) -> dict[str, tuple[float, ...]]:
    """By item; an hour of the clock belongs to the day in which its middle is."""
    edges_s = clock_hours(outcome.span_s, outcome.start)
    day = ((edges_s[:-1] + edges_s[1:]) / 2 // DAY_S).astype(np.int64)
    found: dict[str, np.ndarray] = {}
    for row in outcome.usage:
        if row.item == "replicas_at_once":
            found[row.item] = np.full(n, float(row.amount[0]))
        else:
            hours = np.zeros(len(day))
            hours[: len(row.amount)] = row.amount[: len(day)]
            found[row.item] = found.get(row.item, 0.0) + np.bincount(day, weights=hours, minlength=n)[:n]
    return {item: tuple(amounts.tolist()) for item, amounts in found.items()}
