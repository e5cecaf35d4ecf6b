"""How much more load a plan takes: up to which factor it meets every objective, what breaks first, and why."""

from __future__ import annotations

import math
from functools import partial
from typing import TYPE_CHECKING, Any, Final, NamedTuple

from libramen.comparison.compare import cases_of
from libramen.errors import ReplayError, StudyError
from libramen.runs.cases import run_tasks, workers_for
from libramen.trace.shape import shaped

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable
    from concurrent.futures import Executor

    from matplotlib.figure import Figure

    from libramen.outcome.figures import Figures
    from libramen.outcome.outcome import Outcome
    from libramen.runs.cases import Case
    from libramen.study.plan import JointPlan, Plan
    from libramen.study.study import Study
    from libramen.trace.trace import Trace

STEP: Final = 1.01
_LEAST_K, _MOST_K = -460, 460  # a hundredth, and a hundred times the load
_AROUND: Final = 10
_FIRST_K: Final = 16
_FULL: Final = 0.5
"""Of the CPU or the slots in use in some minute, below which neither has run out."""

_CAUSES: Final = {
    "cpu_full": "CPU",
    "bank_empty": "CPU",
    "slots_full": "slots",
    "out_of_memory": "memory",
    "connections_exhausted": "connections",
    "pool_too_small": "connections",
    "bottleneck": "CPU",
    "cold_starts_cost": "cold starts",
    "reacted_late": "cold starts",
    "first_visitor_waited": "cold starts",
    "out_of_stock": "stock",
}


class Point(NamedTuple):
    """One factor at which a plan was replayed.

    Attributes:
        factor: of the load.
        p95_s, availability, month: of the replay.
        missed: objectives that are not met.
    """

    factor: float
    p95_s: float | None
    availability: float | None
    month: float
    missed: tuple[str, ...]


class Room(NamedTuple):
    """How much more load one plan takes.

    Attributes:
        plan: its name.
        holds_to: the greatest factor at which it meets every objective; None: none from a hundredth on.
        breaks: the objective that is missed first; None: nothing breaks up to a hundred times the load.
        because: what runs out then: CPU, slots, memory, connections, ceiling, tier limit, cold starts, stock, money; or
            event, where nothing does and a release or a fault is enough; None: nothing breaks.
        next_at: the least factor at which another objective is missed, too, of those that were replayed.
        monotone: whether, around the limit, every smaller factor holds and no greater one does.
        month: after how many months of growth that load is there; None: no growth was asked about.
        points: what was replayed, by factor.
    """

    plan: str
    holds_to: float | None
    breaks: str | None
    because: str | None
    next_at: float | None
    monotone: bool
    month: float | None
    points: tuple[Point, ...]


class Headroom:
    """How much more load some plans take, in the order of the study.

    Attributes:
        plans: each plan.
        grow: growth of the load a month, None: not asked about.
    """

    def __init__(self, plans: tuple[Room, ...], grow: float | None) -> None:
        self.plans, self.grow = plans, grow

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
            "grow": self.grow,
            "changes": [room.plan for room in self.changes],
            "plans": [room._asdict() | {"points": [point._asdict() for point in room.points]} for room in self.plans],
        }

    def plot(self) -> Figure:
        """P95, availability and money against the load, for all plans."""
        from libramen.draw.headroom import draw_headroom

        return draw_headroom(self)

    def _repr_html_(self) -> str:
        from libramen.report.headroom import headroom_section
        from libramen.report.html import to_html

        return to_html([headroom_section("headroom", self)])


def _cost_now(room: Room) -> float:
    """What a plan costs a month at the load of the trace."""
    return next(point.month for point in room.points if point.factor == 1.0)


def headroom(
    study: Study,
    executor: Executor | None = None,
    *,
    trace: Trace | None = None,
    plans: Iterable[str | Plan | JointPlan] | None = None,
    grow: float | None = None,
    seed: int = 0,
    workers: int | None = 1,
    cache: bool = True,
    progress: Callable[[str, float], None] | None = None,
) -> Headroom:
    """The greatest load factor at which each plan meets every objective, what breaks first, and what runs out.

    Factors are 1.01 to the power of whole numbers, from a hundredth to a hundred times the load. The limit is looked
    for by bisection; then the ten factors on either side are replayed, and the limit is the last one before the first
    failure among them. The load is scaled as `scale` of a trace's `shape` does.

    Args:
        study: from `load_study`.
        executor: where the replays run, from `concurrent.futures` or alike. Default: here.
        trace: what is replayed. Default: the study's own.
        plans: which plans. Default: all of the study.
        grow: growth of the load a month, such as 0.08: then each plan has the month in which its limit is reached.
        seed: random seed.
        workers: processes, without an executor. None: as many as there are cores.
        cache: whether a trace that was read before may be taken from the user's cache directory.
        progress: called with what is being done and the share of it that is done, from 0 to 1.

    Raises:
        StudyError: there are no objectives; a plan cannot be replayed on this trace.
        ReplayError: `grow` is not above 0.

    Example:
        >>> headroom(load_study("saltmarsh/study.toml"), plans=["brisk"]).plans[0].holds_to  # doctest: +SKIP
        1.2202
    """
    report = progress or (lambda _what, _share: None)
    if grow is not None and not 0 < grow <= 10:
        raise ReplayError(f"grow: found {grow!r}; allowed: above 0, such as 0.08 for 8 % a month")
    cases = cases_of(study, plans, seed)
    if not list(study.objectives.goals()):
        raise StudyError("headroom: the study has no objectives, so nothing can break; allowed: [objectives]")
    if trace is None:
        trace = study.trace(seed=seed, progress=lambda share: report("reading the trace", share), cache=cache)
    task = partial(room_of, grow=grow)
    found = {}
    with workers_for(len(cases), executor, workers) as there:
        for place, room in run_tasks(task, cases, trace, there):
            found[place] = room
            report("plans", len(found) / len(cases))
    return Headroom(tuple(found[place] for place in range(len(cases))), grow)


def room_of(case: Case, trace: Trace, grow: float | None = None) -> Room:
    """The headroom of one case. Runs in a worker."""
    tried = _Tried(case, trace)
    good, bad = tried.between()
    if good is None or bad is None:
        first = tried.figures(0)
        breaks = first.missed[0].name if good is None and first.missed else None
        because = _because(tried.outcome(_LEAST_K), breaks) if breaks else None
        holds = None if good is None else STEP**good
        return Room(case.plan.name, holds, breaks, because, None, True, _month(holds, grow), tried.points())
    while bad - good > 1:
        middle = (good + bad) // 2
        good, bad = (middle, bad) if tried.holds(middle) else (good, middle)
    around = range(max(_LEAST_K, good - _AROUND), min(_MOST_K, good + _AROUND + 1) + 1)
    held = {k: tried.holds(k) for k in around}
    first_bad = min(k for k in around if not held[k])
    monotone = not any(held[k] for k in around if k > first_bad)
    limit = first_bad - 1
    missed = {objective.name for objective in tried.figures(first_bad).missed}
    breaks = tried.figures(first_bad).missed[0].name
    others = [k for k, figures in tried.known() if k > first_bad and {one.name for one in figures.missed} - missed]
    holds_to = STEP**limit
    return Room(
        case.plan.name,
        holds_to,
        breaks,
        _because(tried.outcome(first_bad), breaks),
        STEP ** min(others) if others else None,
        monotone,
        _month(holds_to, grow),
        tried.points(),
    )


def _month(factor: float | None, grow: float | None) -> float | None:
    """After how many months of growth a load is there; 0: it is there already."""
    if grow is None or factor is None:
        return None
    return max(0.0, math.log(factor) / math.log(1 + grow))


class _Tried:
    """Replays of one case at factors of the load, each made once."""

    def __init__(self, case: Case, trace: Trace) -> None:
        self._case, self._trace = case, trace
        self._figures: dict[int, Figures] = {}

    def outcome(self, k: int) -> Outcome:
        """The replay with 1.01 to the power of k times the load."""
        load = self._trace if k == 0 else shaped(self._trace, [{"scale": STEP**k}], seed=self._case.seed)
        return self._case.replay(load)

    def figures(self, k: int) -> Figures:
        """Its figures."""
        if k not in self._figures:
            self._figures[k] = self.outcome(k).figures(routes=False)
        return self._figures[k]

    def holds(self, k: int) -> bool:
        """Whether it meets every objective."""
        return self.figures(k).meets_all

    def known(self) -> list[tuple[int, Figures]]:
        """What was replayed so far, by factor."""
        return sorted(self._figures.items())

    def between(self) -> tuple[int | None, int | None]:
        """A factor that holds and a greater one that does not; None: there is none."""
        step = _FIRST_K
        if self.holds(0):
            good = 0
            while True:
                k = min(_MOST_K, step)
                if not self.holds(k):
                    return good, k
                if k == _MOST_K:
                    return k, None
                good, step = k, 2 * step
        bad = 0
        while True:
            k = max(_LEAST_K, -step)
            if self.holds(k):
                return k, bad
            if k == _LEAST_K:
                return None, k
            bad, step = k, 2 * step

    def points(self) -> tuple[Point, ...]:
        """What was replayed, for the picture."""
        return tuple(
            Point(
                STEP**k,
                figures.latency_s["p95"],
                figures.availability,
                float(figures.bill.month),
                tuple(one.name for one in figures.missed),
            )
            for k, figures in self.known()
        )


def _because(outcome: Outcome, breaks: str | None) -> str:
    """What runs out: money, or what the most costly finding is about; without one what is used most."""
    if breaks == "month":
        return "money"
    # A fleet at its ceiling runs out of CPU and slots as well; the ceiling is the cause.
    for finding in outcome.findings:
        if finding.kind == "at_the_ceiling":
            return "tier limit" if "tier allows" in finding.text else "ceiling"
    for finding in outcome.findings:
        if finding.kind in _CAUSES:
            return _CAUSES[finding.kind]
    return _most_used(outcome)


def _most_used(outcome: Outcome) -> str:
    """CPU or slots, whichever was nearest to full in any minute, in any service; an event, if neither nearly was."""
    cpu = slots = 0.0
    for one in outcome.services.values():
        series = one.series_of_counts()
        there = series["ready"] * one.service.slots
        cpu = max(cpu, float(max(series["utilisation"][series["ready"] > 0], default=0.0)))
        in_use = series["in_progress"][there > 0] / there[there > 0]
        slots = max(slots, float(max(in_use, default=0.0)))
    if max(cpu, slots) < _FULL and any(one.run.updates or one.run.faults for one in outcome.services.values()):
        return "event"
    return "CPU" if cpu >= slots else "slots"
