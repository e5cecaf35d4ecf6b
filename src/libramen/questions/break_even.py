"""At which loads another plan becomes the cheaper one."""

from __future__ import annotations

import itertools
import math
from collections.abc import Generator, Iterable, Sequence
from dataclasses import KW_ONLY, dataclass, replace
from decimal import Decimal
from typing import Any, Final, Unpack

from libramen.base import heavy
from libramen.base.errors import ReplayError, StudyError
from libramen.base.results import Result
from libramen.base.shown import Shown, figure_of
from libramen.load.evidence import Evidence, evidence_of
from libramen.outcome.figures import Figures
from libramen.questions.context import Asking, Context
from libramen.questions.limits import Point, least_load, loads_of, point_of
from libramen.runs.cases import Case
from libramen.runs.memory import usual_bytes
from libramen.runs.pool import Pool, Whole, in_turn
from libramen.study.plan import Plan
from libramen.study.study import Study

STEP: Final = 1.1
"""Of the grid."""
LOADS: Final = (0.05, 20.0)
"""From where to where it goes, in times the load of the trace."""
_CLOSE: Final = 1.01
"""A crossing is known within so much."""
_MOST_REQUESTS: Final = 20_000_000
_LIMITS: Final = (1e-3, 1e3)


@dataclass(frozen=True)
class Crossing(Result):
    """A load at which the cheaper of two plans changes.

    Attributes:
        below, above: which is the cheaper at smaller and at greater loads, as far as the next crossing of the two.
        factor: the least load that was replayed at which `below` is not the cheaper any more, as a multiple of the
            trace's; at 1 % less it still is.
        month: what each costs a month there, in the order of `below` and `above`.
        missed: which objectives each misses there.
    """

    below: str
    above: str
    factor: float
    month: tuple[float, float]
    missed: tuple[tuple[str, ...], tuple[str, ...]]


@dataclass(frozen=True)
class Stretch(Result):
    """Loads of the grid, one after the other, for which one plan is the cheapest.

    Attributes:
        from_factor, to_factor: the first and the last of them.
        plan: its name; None: no plan meets every objective there.
    """

    from_factor: float
    to_factor: float
    plan: str | None


@dataclass(frozen=True)
class Line(Result):
    """What one plan costs at each load.

    Attributes:
        plan: its name.
        points: what was replayed, by factor.
        made_of: what the month is made of.
    """

    plan: str
    points: tuple[Point, ...]
    made_of: str


@dataclass(frozen=True, eq=False)
class BreakEven(Shown):
    """What some plans cost at many loads, and where the cheaper one changes.

    Attributes:
        lines: of each plan.
        crossings: of each pair, in the order of the plans, by load.
        same: pairs that cost the same at all loads of the grid.
        cheapest: stretches of the grid, each with the cheapest plan that meets every objective.
        loads: the first and the last load of the grid; the first has twenty requests at least.
        cut_at: greater loads were not looked at, since their traces have too many requests or need too much memory;
            None: there was no such limit.
        currency: of what a month costs.
        evidence: what the log has seen, beside the load of the trace.
    """

    lines: tuple[Line, ...]
    crossings: tuple[Crossing, ...]
    _: KW_ONLY
    same: tuple[tuple[str, str], ...]
    cheapest: tuple[Stretch, ...]
    loads: tuple[float, float]
    cut_at: float | None
    currency: str
    evidence: Evidence

    @property
    def pairs(self) -> tuple[tuple[str, str], ...]:
        """Which pairs were looked at."""
        return tuple(itertools.combinations((line.plan for line in self.lines), 2))

    def of(self, one: str, other: str) -> tuple[Crossing, ...]:
        """The crossings of two plans, by load."""
        return tuple(found for found in self.crossings if {found.below, found.above} == {one, other})

    def to_dict(self) -> dict[str, Any]:
        """The JSON of the command line."""
        return {
            "currency": self.currency,
            "loads": list(self.loads),
            "step": STEP,
            "cut_at": self.cut_at,
            "crossings": [crossing.to_dict() for crossing in self.crossings],
            "same": [list(pair) for pair in self.same],
            "cheapest": [stretch.to_dict() for stretch in self.cheapest],
            "evidence": self.evidence.to_dict() | {"up_to": self.evidence.up_to},
            "plans": [line.to_dict() for line in self.lines],
        }

    def plot(self) -> heavy.Figure:
        """Money against the load, a line a plan: dashed where it misses an objective; crossings are marked.

        Returns:
            A Matplotlib figure: `figure.savefig("breakeven.png")` keeps it (or .svg), and a notebook shows it.
        """
        return figure_of(self)


def break_even(
    study: Study,
    *,
    between: Iterable[str | Plan] | None = None,
    loads: tuple[float, float] = LOADS,
    memory: int | None = None,
    **asked: Unpack[Asking],
) -> BreakEven:
    """At which loads the cheaper of two plans changes, and which objectives each misses there.

    Every plan is replayed at the loads 1.1 to the power of whole numbers, as multiples of the trace's. Where of two of
    them the cheaper one changes from one load to the next, the change is bisected to within 1 %. Two changes inside
    one step are not seen. The load is scaled as `scale` of a trace's `shape` does; a grown trace is made once for all
    plans. Loads of more than 20 million requests are left out.

    Args:
        study: from `load_study`.
        between: two plans or more, each pair of which is compared. Default: all of the study.
        loads: from where to where the grid goes, in times the load of the trace.
        memory: what traces and replays may take together [bytes]. Default: half of the machine's.
        **asked: trace, seed, executor, workers, cache, store, progress; see `Context`.

    Raises:
        StudyError: there is no such plan, or there are fewer than two; one cannot be replayed on this trace.
        ReplayError: `loads` are not in order, or too far from 1.

    Example:
        >>> found = break_even(load_study("saltmarsh/study.toml"), between=["steady", "lamp"])  # doctest: +SKIP
        >>> found.crossings[0].factor  # doctest: +SKIP
        0.3505
    """
    low, high = loads
    if not _LIMITS[0] <= low < high <= _LIMITS[1]:
        raise ReplayError(f"loads: found {low:g} to {high:g}; allowed: two that rise, from 0.001 to 1000, as 0.1..10")
    context = Context.of(study, asked)
    cases = context.cases(between)
    if len(cases) < 2:
        raise StudyError(f"break-even: found one plan, {cases[0].plan.name!r}; allowed: two or more to compare")
    memory = usual_bytes() if memory is None else memory
    powers = range(math.ceil(math.log(low, STEP) - 1e-9), math.floor(math.log(high, STEP) + 1e-9) + 1)
    if not powers:
        raise ReplayError(f"loads: from {low:g} to {high:g} there is no load of the grid; allowed: 10 % apart or more")
    with context.pool(len(cases) * len(powers), memory) as pool:
        looked = _Looked(cases, pool, context)
        factors = [STEP**k for k in powers]
        most = min(_MOST_REQUESTS / max(1, len(context.load)), *(loads_of(case, pool)[0] for case in cases))
        fewest = min(least_load(context.load), factors[-1])
        possible = [factor for factor in factors if factor >= fewest * (1 - 1e-9)]
        grid = [factor for factor in possible if factor <= max(most, possible[0])]
        looked.replay([(place, factor) for factor in grid for place in range(len(cases))])
        pairs = [*itertools.combinations(range(len(cases)), 2)]
        crossings = looked.crossings(pairs, grid)
        return BreakEven(
            tuple(looked.lines()),
            crossings,
            same=tuple(
                (cases[one].plan.name, cases[other].plan.name)
                for one, other in pairs
                if not any(looked.sign(one, other, factor) for factor in grid)
            ),
            cheapest=tuple(looked.cheapest(grid)),
            loads=(grid[0], grid[-1]),
            cut_at=grid[-1] if len(grid) < len(possible) else None,
            currency=study.currency,
            evidence=evidence_of(context.load),
        )


_Asks = list[tuple[int, float]]
"""Places of plans, and loads at which they are to be replayed."""


class _Looked:
    """What has been replayed so far."""

    def __init__(self, cases: Sequence[Case], pool: Pool, context: Context) -> None:
        self._cases, self._pool, self._context = cases, pool, context
        self._figures: dict[tuple[int, float], Figures] = {}

    def replay(self, asked: Iterable[tuple[int, float]]) -> None:
        """Have plans replayed at loads, each once."""
        todo = [key for key in dict.fromkeys(asked) if key not in self._figures]
        tickets = self._pool.hand_in_all([(self._case(*key), Whole()) for key in todo])
        of_ticket = dict(zip((ticket.number for ticket in tickets), todo, strict=True))
        for done, ticket in enumerate(in_turn(self._pool, tickets), start=1):
            place, factor = key = of_ticket[ticket.number]
            self._figures[key] = ticket.result
            self._context.report(f"{self._cases[place].plan.name} at {factor:.3g}", done / len(todo))

    def _case(self, place: int, factor: float) -> Case:
        case = self._cases[place]
        return replace(case, scale=factor, keeps=factor <= loads_of(case, self._pool)[1])

    def _month(self, place: int, factor: float) -> Decimal:
        return self._figures[place, factor].bill.month

    def sign(self, one: int, other: int, factor: float) -> int:
        """1: the first is the dearer at a load, -1: the second is, 0: they cost the same."""
        mine, theirs = self._month(one, factor), self._month(other, factor)
        return (mine > theirs) - (mine < theirs)

    def crossings(self, pairs: Sequence[tuple[int, int]], grid: Sequence[float]) -> tuple[Crossing, ...]:
        """Of each pair, by load: all are bisected side by side, as many as there are."""
        looking = [
            self._bisected(one, other, *ends) for one, other in pairs for ends in self._changes(one, other, grid)
        ]
        found: list[Crossing | None] = [None] * len(looking)
        waiting = list(range(len(looking)))
        while waiting:
            asks: _Asks = []
            for place in list(waiting):
                try:
                    asks += next(looking[place])
                except StopIteration as stop:
                    found[place] = stop.value
                    waiting.remove(place)
            self.replay(asks)
        return tuple(crossing for crossing in found if crossing is not None)

    def _changes(self, one: int, other: int, grid: Sequence[float]) -> Iterable[tuple[float, float]]:
        """Between which loads of the grid the cheaper one changes; at those between them both cost the same."""
        signs = [(factor, sign) for factor in grid if (sign := self.sign(one, other, factor))]
        for (low, before), (high, after) in itertools.pairwise(signs):
            if before != after:
                yield low, high

    def _bisected(self, one: int, other: int, low: float, high: float) -> Generator[_Asks, None, Crossing]:
        """R. L. Burden and J. D. Faires, Numerical Analysis, 2.1, on the logarithm of the load."""
        before = self.sign(one, other, low)
        while high / low > _CLOSE:
            middle = math.sqrt(low * high)
            yield [(one, middle), (other, middle)]
            if self.sign(one, other, middle) == before:
                low = middle
            else:
                high = middle
        below, above = (other, one) if before > 0 else (one, other)
        there = [self._figures[place, high] for place in (below, above)]
        return Crossing(
            below=self._cases[below].plan.name,
            above=self._cases[above].plan.name,
            factor=high,
            month=(float(there[0].bill.month), float(there[1].bill.month)),
            missed=(_missed(there[0]), _missed(there[1])),
        )

    def lines(self) -> Iterable[Line]:
        """Of each plan all that was replayed."""
        for place, case in enumerate(self._cases):
            mine = sorted((factor, figures) for (of, factor), figures in self._figures.items() if of == place)
            points = tuple(point_of(factor, figures) for factor, figures in mine)
            yield Line(case.plan.name, points, mine[0][1].bill.note)

    def cheapest(self, grid: Sequence[float]) -> Iterable[Stretch]:
        """The cheapest that meets every objective, load by load; of several the first."""

        def best(factor: float) -> str | None:
            holding = [place for place in range(len(self._cases)) if not self._figures[place, factor].missed]
            chosen = min(holding, key=lambda place: self._month(place, factor), default=None)
            return None if chosen is None else self._cases[chosen].plan.name

        for plan, some in itertools.groupby(grid, key=best):
            factors = list(some)
            yield Stretch(factors[0], factors[-1], plan)


def _missed(figures: Figures) -> tuple[str, ...]:
    return tuple(objective.name for objective in figures.missed)
