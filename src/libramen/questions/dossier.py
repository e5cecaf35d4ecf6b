"""All that is worth handing over of a study: the comparison, what becomes of the best plan, and how long it lasts."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any, Unpack

from libramen.base.shown import page_of
from libramen.outcome.figures import Figures
from libramen.outcome.outcome import Outcome
from libramen.outcome.windows import window_for
from libramen.questions.break_even import BreakEven, break_even
from libramen.questions.compare import Comparison, compare
from libramen.questions.context import Asking, Context
from libramen.questions.headroom import Headroom, growth_of, headroom
from libramen.runs.pool import NotKept
from libramen.study.plan import Plan
from libramen.study.study import Study


@dataclass(frozen=True, eq=False)
class Dossier:
    """What is handed over.

    Attributes:
        study: it.
        comparison: of its plans.
        chosen: the replay of the cheapest that meets every objective, or of the nearest.
        runner_up: of the next one: the cheapest of the others that meet every objective, or else of all; None: there is
            one plan.
        headroom: of the plans; None: not known, or there are no objectives.
        break_even: of these two; None: not known, or there is one plan.
        seed: random seed.
        is_full: whether all of it was asked for.
    """

    study: Study
    comparison: Comparison
    chosen: Outcome
    runner_up: Outcome | None
    headroom: Headroom | None
    break_even: BreakEven | None
    seed: int
    is_full: bool

    def to_html(self) -> str:
        """One page that needs nothing else: see docs/handing-over.md."""
        return page_of(self)


def dossier(
    study: Study,
    *,
    plans: Iterable[str | Plan] | None = None,
    full: bool = False,
    grow: float | tuple[float, float] | None = None,
    **asked: Unpack[Asking],
) -> Dossier:
    """Compare the plans of a study, replay the best two, and say how long they last as far as the store knows that.

    Args:
        study: from `load_study`.
        plans: which plans. Default: all of the study.
        full: replay for headroom and break-even what the store does not know.
        grow: growth of the load a month, as for `headroom`, which then says until when each plan lasts.
        **asked: trace, seed, executor, workers, cache, store, progress; see `Context`.

    Raises:
        TraceError: the trace cannot be read.
        StudyError: a plan cannot be replayed on this trace.
        ReplayError: `grow` is none.

    Example:
        >>> page = dossier(load_study("saltmarsh/study.toml")).to_html()  # doctest: +SKIP
    """
    growth = growth_of(grow)
    context = Context.of(study, asked)
    chosen_plans = None if plans is None else list(plans)
    again: Any = {**asked, "trace": context.load}
    comparison = compare(study, plans=chosen_plans, **again)
    best, next_best = _best_two(comparison)
    trace = comparison.trace
    how: Any = {"trace": context.load, "seed": context.seed, "window_s": window_for(trace, 0.0, trace.span_s)}
    replayed = [None if one is None else study.replay(comparison.plan_of(one.plan), **how) for one in (best, next_best)]
    chosen, runner_up = replayed
    assert chosen is not None
    known: Any = {**again, "known_only": not full}
    rooms = lines = None
    if list(study.objectives.goals()):
        try:
            rooms = headroom(study, plans=chosen_plans, grow=growth, **known)
        except NotKept:
            rooms = None
    if next_best is not None:
        try:
            lines = break_even(study, between=[comparison.plan_of(one.plan) for one in (best, next_best)], **known)
        except NotKept:
            lines = None
    return Dossier(study, comparison, chosen, runner_up, rooms, lines, context.seed, is_full=full)


def _best_two(found: Comparison) -> tuple[Figures, Figures | None]:
    """The cheapest that holds, or the nearest, and the next one."""
    best = found.nearest if found.cheapest is None else found.cheapest
    others = [one for one in found.figures if one is not best]
    others.sort(key=lambda one: (not one.meets_all, len(one.missed), one.bill.month))
    return best, next(iter(others), None)
