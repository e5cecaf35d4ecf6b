"""How much more load a plan takes: up to which factor it meets every objective, what breaks first, and why."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace, replace as changed
from typing import Any, Final, Unpack

from libramen.base import heavy
from libramen.base.errors import ReplayError, StudyError
from libramen.base.shown import Shown, figure_of
from libramen.load.evidence import Evidence, evidence_of
from libramen.prices.lines import HOURS
from libramen.questions.context import Asking, Context
from libramen.questions.limits import Room, rooms_of
from libramen.questions.repeats import check_repeats
from libramen.runs.memory import usual_bytes
from libramen.study.plan import Plan
from libramen.study.study import Study
from libramen.trace.trace import Trace

_MOST_GROWTH: Final = 10
_CENTURY: Final = 1200
"""Months."""
_AT_ONCE: Final = 20
"""Replays that one plan's search asks for at once."""


@dataclass(frozen=True, eq=False)
class Headroom(Shown):
    """How much more load some plans take, in the order of the study.

    Attributes:
        plans: each plan.
        grow: growth of the load a month, the least and the greatest; None: not asked about.
        currency: of what a month costs.
        evidence: what the log has seen, beside the load of the trace.
    """

    plans: tuple[Room, ...]
    grow: tuple[float, float] | None
    currency: str
    evidence: Evidence

    @property
    def changes(self) -> tuple[Room, ...]:
        """Which plans to use one after the other as the load grows: at first the cheapest that holds.

        Then the cheapest of those that hold longer, and so on; by what each costs at the load of the trace.
        """
        found: list[Room] = []
        reached = 1.0
        while True:
            longer = [room for room in self.plans if room.holds_to is not None and room.holds_to >= reached]
            if found:
                longer = [room for room in longer if room.holds_to != reached]
            if not longer:
                return tuple(found)
            best = min(longer, key=_cost_now)
            found.append(best)
            assert best.holds_to is not None
            reached = best.holds_to

    def to_dict(self) -> dict[str, Any]:
        """The JSON of the command line."""
        return {
            "grow": self.grow if self.grow is None or self.grow[0] < self.grow[1] else self.grow[0],
            "currency": self.currency,
            "changes": [room.plan for room in self.changes],
            "evidence": self.evidence.to_dict() | {"up_to": self.evidence.up_to},
            "plans": [room.to_dict() for room in self.plans],
        }

    def plot(self) -> heavy.Figure:
        """A bar a plan up to its limit, coloured by what breaks first, with the limit of each objective.

        Returns:
            A Matplotlib figure: `figure.savefig("headroom.png")` keeps it (or .svg), and a notebook shows it.
        """
        return figure_of(self)


def _cost_now(room: Room) -> float:
    """What a plan costs a month at the load of the trace."""
    return next(point.month for point in room.points if point.factor == 1.0)


def headroom(
    study: Study,
    *,
    plans: Iterable[str | Plan] | None = None,
    grow: float | tuple[float, float] | None = None,
    repeats: int | None = None,
    memory: int | None = None,
    found: Callable[[Room], None] | None = None,
    **asked: Unpack[Asking],
) -> Headroom:
    """The greatest load factor at which each plan meets every objective, what breaks first, and what runs out.

    Factors are 1.01 to the power of whole numbers, from a hundredth to a hundred times the load. The limit is looked
    for by bisection; then the ten factors on either side are replayed, and the limit, of each objective too, is the
    last one before the first failure among all that were replayed. The load is scaled as `scale` of a trace's `shape`
    does. A grown trace is made once for all plans that are replayed on it, and no more of them at a time than `memory`
    has room for. A load that has none by itself is made some stretches at a time, and its percentiles are counted,
    within 0.5 %: `Room.counted_from` says so.

    Args:
        study: from `load_study`.
        plans: which plans. Default: all of the study.
        grow: growth of the load a month, such as 0.08, or from where to where it is, such as (0.05, 0.12): then each
            plan says after how many months its limit is reached, and where the trace has dates, when that is.
        repeats: look for the limit with so many seeds, of the load and of all that is random.
        memory: what traces and replays may take together [bytes]. Default: half of the machine's.
        found: called with the headroom of a plan as soon as it is known.
        **asked: trace, seed, executor, workers, cache, store, progress; see `Context`.

    Raises:
        StudyError: there are no objectives; a plan cannot be replayed on this trace.
        ReplayError: `grow` is not above 0, or its ends do not rise.

    Example:
        >>> headroom(load_study("saltmarsh/study.toml"), plans=["brisk"]).plans[0].holds_to  # doctest: +SKIP
        1.2202
    """
    growth = growth_of(grow)
    if repeats is not None:
        check_repeats(repeats, auto=False)
    memory = usual_bytes() if memory is None else memory
    context = Context.of(study, asked)
    cases = context.cases(plans)
    if not list(study.objectives.goals()):
        raise StudyError("headroom: the study has no objectives, so nothing can break; allowed: [objectives]")
    with context.pool(len(cases) * _AT_ONCE, memory, at_once=_AT_ONCE) as pool:
        n = 1 if repeats is None else repeats
        every = [changed(case, seed=case.seed + k) for case in cases for k in range(n)]
        rooms = rooms_of(every, pool, context.report, found or (lambda _room: None))
    if repeats is not None:
        rooms = tuple(
            replace(rooms[n * place], repeats=tuple(room.holds_to for room in rooms[n * place : n * place + n]))
            for place in range(len(cases))
        )
    if growth is not None:
        rooms = tuple(_dated(room, growth, context.load) for room in rooms)
    return Headroom(rooms, growth, study.currency, evidence_of(context.load))


def growth_of(grow: float | tuple[float, float] | None) -> tuple[float, float] | None:
    """The least and the greatest growth a month; None: not asked about.

    Raises:
        ReplayError: it is not above 0, or its ends do not rise.
    """
    growth = (grow, grow) if isinstance(grow, int | float) else grow
    if growth is not None and not 0 < growth[0] <= growth[1] <= _MOST_GROWTH:
        found = " to ".join(dict.fromkeys(f"{each:g}" for each in growth))
        raise ReplayError(f"grow: found {found}; allowed: above 0, such as 0.08 for 8 % a month, or (0.05, 0.12)")
    return growth


def _dated(room: Room, growth: tuple[float, float], trace: Trace) -> Room:
    """When a limit is reached, counted from the end of the trace; 0 months: it is there already."""
    if room.holds_to is None:
        return room
    soonest, latest = (max(0.0, math.log(room.holds_to) / math.log1p(each)) for each in reversed(growth))
    dates = None
    if trace.start is not None and room.breaks is not None and 0 < latest < _CENTURY:
        first, last = (trace.local_time(trace.span_s + months * HOURS * 3600) for months in (soonest, latest))
        assert first is not None
        assert last is not None
        dates = f"{first:%Y-%m-%d}", f"{last:%Y-%m-%d}"
    return replace(room, month=soonest, month_latest=latest, dates=dates)
