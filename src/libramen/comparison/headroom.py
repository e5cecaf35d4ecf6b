"""How much more load a plan takes: up to which factor it meets every objective, what breaks first, and why."""

from __future__ import annotations

import math
from concurrent.futures import FIRST_COMPLETED, wait
from dataclasses import replace as changed
from typing import TYPE_CHECKING, Any, Final, NamedTuple

from libramen.comparison.causes import because
from libramen.comparison.compare import cases_of
from libramen.comparison.repeats import check_repeats
from libramen.errors import ReplayError, StudyError
from libramen.runs import entries
from libramen.runs.cases import workers_for
from libramen.runs.pool import Pool, Whole
from libramen.runs.store import MISSING

if TYPE_CHECKING:
    from collections.abc import Callable, Generator, Iterable, Sequence
    from concurrent.futures import Executor

    from matplotlib.figure import Figure

    from libramen.outcome.figures import Figures
    from libramen.runs.cases import Case
    from libramen.runs.pool import Ticket
    from libramen.runs.store import Store
    from libramen.study.plan import JointPlan, Plan
    from libramen.study.study import Study
    from libramen.trace.trace import Trace

STEP: Final = 1.01
_LEAST_K, _MOST_K = -460, 460  # a hundredth, and a hundred times the load
_AROUND: Final = 10
_FIRST_K: Final = 16
_FAR: Final = 140
"""So many steps beyond the limit other objectives are looked at: four times the load."""


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
        next_at: the least factor at which another objective is missed, too; None: none is, up to four times the limit.
        limits: of each objective the greatest factor at which it is met. 0: it is missed even at a hundredth. None: it
            is met up to four times the load at which the first one breaks; of a plan that never holds, up to four times
            the load of the trace.
        monotone: whether, around the limit, every smaller factor holds and no greater one does.
        month: after how many months of growth that load is there; None: no growth was asked about.
        points: what was replayed, by factor.
        repeats: `holds_to` with each of the seeds, the first one too; empty: only one was asked for.
    """

    plan: str
    holds_to: float | None
    breaks: str | None
    because: str | None
    next_at: float | None
    limits: dict[str, float | None]
    monotone: bool
    month: float | None
    points: tuple[Point, ...]
    repeats: tuple[float | None, ...] = ()


class Headroom:
    """How much more load some plans take, in the order of the study.

    Attributes:
        plans: each plan.
        grow: growth of the load a month, None: not asked about.
        currency: of what a month costs.
    """

    def __init__(self, plans: tuple[Room, ...], grow: float | None, currency: str) -> None:
        self.plans, self.grow, self.currency = plans, grow, currency

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
            "currency": self.currency,
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
    repeats: int | None = None,
    cache: bool = True,
    store: Store | None = None,
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
        repeats: look for the limit with so many seeds, of the load and of all that is random.
        cache: whether a trace that was read before may be taken from the user's cache directory.
        store: where figures are looked up and kept. Default: nowhere.
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
    if repeats is not None:
        check_repeats(repeats, auto=False)
    cases = cases_of(study, plans, seed)
    if not list(study.objectives.goals()):
        raise StudyError("headroom: the study has no objectives, so nothing can break; allowed: [objectives]")
    if trace is None:
        trace = study.trace(seed=seed, progress=lambda share: report("reading the trace", share), cache=cache)
    with workers_for(2 * _AROUND, executor, workers) as there, Pool(trace, there, store) as pool:
        n = 1 if repeats is None else repeats
        every = [changed(case, seed=seed + k) for case in cases for k in range(n)]
        rooms = rooms_of(every, pool, grow, lambda share: report("plans", share))
    if repeats is None:
        return Headroom(rooms, grow, study.currency)
    return Headroom(
        tuple(
            rooms[n * place]._replace(repeats=tuple(room.holds_to for room in rooms[n * place : n * place + n]))
            for place in range(len(cases))
        ),
        grow,
        study.currency,
    )


def rooms_of(
    cases: Sequence[Case],
    pool: Pool,
    grow: float | None = None,
    report: Callable[[float], None] = lambda _share: None,
) -> tuple[Room, ...]:
    """The headroom of some cases, side by side."""
    looking = [_LimitSearch(case, pool, grow) for case in cases]
    while True:
        for look in looking:
            look.go_on()
        report(sum(look.room is not None for look in looking) / len(looking))
        futures = [ticket.future for look in looking for ticket in look.waits_for if ticket.future is not None]
        if not futures:
            return tuple(look.room for look in looking if look.room is not None)
        wait(futures, return_when=FIRST_COMPLETED)


def _month(factor: float | None, grow: float | None) -> float | None:
    """After how many months of growth a load is there; 0: it is there already."""
    if grow is None or factor is None:
        return None
    return max(0.0, math.log(factor) / math.log(1 + grow))


class _Cause(Whole):
    """What runs out at some load: a word.

    Args:
        breaks: the objective that is missed.
    """

    def __init__(self, breaks: str) -> None:
        self._breaks = breaks

    def __call__(self, case: Case, trace: Trace) -> str:  # type: ignore[override]
        return because(case.replay(trace), self._breaks)

    def look_up(self, store: Store, key: str, case: Case) -> Any:  # noqa: ARG002
        """The word."""
        found = store.get(entries.digest([key, "cause", self._breaks]))
        return found if isinstance(found, str) else MISSING

    def keep(self, store: Store, key: str, case: Case, result: str) -> None:  # type: ignore[override]  # noqa: ARG002
        """The word."""
        store.put(entries.digest([key, "cause", self._breaks]), result)


class _LimitSearch:
    """The headroom of one case being looked for: which factors are to be replayed next depends on those before."""

    def __init__(self, case: Case, pool: Pool, grow: float | None) -> None:
        self._case, self._pool, self._grow = case, pool, grow
        self._figures: dict[int, Figures] = {}
        self._tickets: dict[int, Ticket] = {}
        self.waits_for: list[Ticket] = []
        self.room: Room | None = None
        self._steps = self._find()

    def go_on(self) -> None:
        """As far as what has been replayed allows."""
        while self.room is None and all(ticket.is_done for ticket in self.waits_for):
            self._figures |= {k: ticket.result for k, ticket in self._tickets.items() if k not in self._figures}
            try:
                self.waits_for = next(self._steps)
            except StopIteration as stop:
                self.room, self.waits_for = stop.value, []

    def _ask(self, *factors: int) -> list[Ticket]:
        """Have 1.01 to the power of each of these times the load replayed, once."""
        for k in factors:
            if k not in self._tickets:
                scaled = changed(self._case, scale=STEP**k if k else 1.0)
                self._tickets[k] = self._pool.hand_in(scaled, Whole())
        return [self._tickets[k] for k in factors]

    def _holds(self, k: int, objective: str | None = None) -> bool:
        """Whether every objective is met at a factor that was replayed, or one of them."""
        return not any(objective in {None, one.name} for one in self._figures[k].missed)

    def _find(self) -> Generator[list[Ticket], None, Room]:
        good, bad = yield from self._between()
        if good is None or bad is None:
            return (yield from self._boundless(good))
        good, bad = yield from self._narrowed(good, bad, None)
        lowest = max(_LEAST_K, good - _AROUND)
        yield self._ask(*range(lowest, min(_MOST_K, good + _AROUND + 1) + 1))
        while not self._holds(lowest) and lowest > _LEAST_K:  # the first failure may be further down
            lowest = max(_LEAST_K, lowest - _AROUND)
            yield self._ask(*range(lowest, lowest + _AROUND))
        around = range(lowest, min(_MOST_K, good + _AROUND + 1) + 1)
        first_bad = min(k for k in around if not self._holds(k))
        if first_bad == _LEAST_K:
            return (yield from self._boundless(None))
        monotone = not any(self._holds(k) for k in around if k > first_bad)
        missed = {objective.name for objective in self._figures[first_bad].missed}
        breaks = self._figures[first_bad].missed[0].name
        cause = self._cause(first_bad, breaks)
        yield [cause]
        limits: dict[str, float | None] = dict.fromkeys(missed, STEP ** (first_bad - 1))
        for objective in self._figures[first_bad].objectives:
            if objective.name not in missed:
                limits[objective.name] = yield from self._limit_of(objective.name, first_bad)
        others = [limit * STEP for name, limit in limits.items() if name not in missed and limit is not None]
        return self._found(first_bad - 1, breaks, cause.result, min(others, default=None), limits, monotone=monotone)

    def _cause(self, k: int, breaks: str) -> Ticket:
        return self._pool.hand_in(changed(self._case, scale=STEP**k if k else 1.0), _Cause(breaks))

    def _boundless(self, good: int | None) -> Generator[list[Ticket], None, Room]:
        """Nothing holds from a hundredth on, or all does up to a hundred times the load."""
        if good is not None:
            return self._found(good, None, None, None, {}, monotone=True)
        breaks = self._figures[_LEAST_K].missed[0].name
        cause = self._cause(_LEAST_K, breaks)
        yield [cause]
        missed = {objective.name for objective in self._figures[_LEAST_K].missed}
        limits: dict[str, float | None] = dict.fromkeys(missed, 0.0)
        for objective in self._figures[_LEAST_K].objectives:
            if objective.name in missed:
                continue
            if self._holds(0, objective.name):
                limits[objective.name] = yield from self._limit_of(objective.name, 0)
            else:
                good, _ = yield from self._narrowed(_LEAST_K, 0, objective.name)
                limits[objective.name] = STEP**good
        return self._found(None, breaks, cause.result, None, limits, monotone=True)

    def _between(self) -> Generator[list[Ticket], None, tuple[int | None, int | None]]:
        """A factor that holds and a greater one that does not; None: there is none."""
        step = _FIRST_K
        yield self._ask(0)
        if self._holds(0):
            good = 0
            while True:
                k = min(_MOST_K, step)
                yield self._ask(k)
                if not self._holds(k):
                    return good, k
                if k == _MOST_K:
                    return k, None
                good, step = k, 2 * step
        bad = 0
        while True:
            k = max(_LEAST_K, -step)
            yield self._ask(k)
            if self._holds(k):
                return k, bad
            if k == _LEAST_K:
                return None, k
            bad, step = k, 2 * step

    def _narrowed(self, good: int, bad: int, objective: str | None) -> Generator[list[Ticket], None, tuple[int, int]]:
        """By bisection, down to one step."""
        while bad - good > 1:
            middle = (good + bad) // 2
            yield self._ask(middle)
            good, bad = (middle, bad) if self._holds(middle, objective) else (good, middle)
        return good, bad

    def _limit_of(self, objective: str, met_at: int) -> Generator[list[Ticket], None, float | None]:
        """The greatest factor at which another objective is met, by bisection; None: it is, far beyond the limit."""
        good, step = met_at, _FIRST_K
        while True:
            k = min(_MOST_K, met_at + step, met_at + _FAR)
            yield self._ask(k)
            if not self._holds(k, objective):
                good, _ = yield from self._narrowed(good, k, objective)
                return STEP**good
            if k in {_MOST_K, met_at + _FAR}:
                return None
            good, step = k, 2 * step

    def _found(
        self,
        limit: int | None,
        breaks: str | None,
        because: str | None,
        next_at: float | None,
        limits: dict[str, float | None],
        *,
        monotone: bool,
    ) -> Room:
        holds_to = None if limit is None else STEP**limit
        points = tuple(
            Point(
                STEP**k,
                figures.latency_s["p95"],
                figures.availability,
                float(figures.bill.month),
                tuple(one.name for one in figures.missed),
            )
            for k, figures in sorted(self._figures.items())
        )
        named = {one.name: limits.get(one.name) for one in self._figures[0].objectives}
        return Room(
            self._case.plan.name, holds_to, breaks, because, next_at, named, monotone,
            _month(holds_to, self._grow), points,
        )  # fmt: skip
