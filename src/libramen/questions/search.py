"""The cheapest plan that meets every objective, found without replaying every combination, and proven all the same."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import Any, Final, Literal, NamedTuple

from libramen.base import heavy
from libramen.base.errors import StudyError
from libramen.base.shown import figure_of, sentence_of
from libramen.outcome.figures import Figures
from libramen.questions.bounded_search import NEAR, BoundedSearch, Counts, ahead_of
from libramen.questions.compare import Comparison
from libramen.questions.context import Context, split
from libramen.questions.repeats import Repeats, check_repeats, repeated_cases
from libramen.questions.vary import PLAN, SCALE, Combination, combinations, distinct, part_of, sensible, short_key
from libramen.runs.cases import Case
from libramen.study.plan import Plan
from libramen.study.study import Study
from libramen.trace.trace import Trace

_MOST_REPEATED: Final = 8


class OnlyAtStart(NamedTuple):
    """A key that is only the number of replicas at the start, and the one of the fewest that are kept."""

    key: str
    floor: str


class Search(Comparison):
    """Combinations that were replayed to the end and might have won, in the order of their keys.

    Attributes:
        varied: of each plan in `figures`, by its name: key -> value.
        values: the values of each key, in their order.
        counts: what became of all combinations.
        reasons: why combinations are impossible, with how many there are of each.
        starts: keys that were varied and are only the number at the start of a plan that scales.
        scale: the load as a multiple of the trace's.
        stopped: key -> value of combinations that were stopped: they miss an objective, or cost more than the cheapest.
        scenarios: this search and those for the other values of `trace.scale`, in their order.
        repeats: the cheapest and what is as good as it, or the nearest, with more seeds; None: not asked for.
    """

    def __init__(
        self,
        figures: Iterable[Figures],
        trace: Trace,
        cases: Iterable[Case],
        *,
        varied: dict[str, dict[str, Any]],
        values: dict[str, list[Any]],
        counts: Counts,
        reasons: dict[str, int],
        notes: tuple[OnlyAtStart, ...] = (),
        scale: float = 1.0,
        stopped: Iterable[dict[str, Any]] = (),
    ) -> None:
        super().__init__(figures, trace, cases)
        self.varied, self.values = varied, values
        self.counts, self.reasons, self.starts, self.scale = counts, reasons, notes, scale
        self.stopped = tuple(stopped)
        self.scenarios: tuple[Search, ...] = (self,)
        self.repeats: Repeats | None = None

    @property
    def notes(self) -> tuple[str, ...]:
        """What one should know of the question itself, a sentence each."""
        return tuple(map(sentence_of, self.starts))

    @property
    def near(self) -> tuple[Figures, ...]:
        """Other plans that meet every objective and cost at most 2 % more than the cheapest."""
        best = self.cheapest
        if best is None:
            return ()
        limit = best.bill.month * NEAR
        return tuple(one for one in self.figures if one is not best and one.meets_all and one.bill.month <= limit)

    @property
    def front(self) -> tuple[Figures, ...]:
        """The plans replayed to the end that no other beats in money, p95 and availability at once."""
        return tuple(one for one in self.figures if not any(_beats(other, one) for other in self.figures))

    def label(self, figures: Figures) -> str:
        """A combination by what was varied alone, short: `replicas=5, size=small`."""
        return self.label_of(self.varied[figures.plan]) or figures.plan

    def label_of(self, varied: Mapping[str, Any]) -> str:
        """The same of one that was perhaps not replayed to the end; empty: nothing but the load was varied."""
        told = [f"{short_key(key)}={value}" for key, value in varied.items() if key not in {SCALE, PLAN}]
        return ", ".join([str(varied[PLAN]), *told] if PLAN in varied else told)

    def plot(self) -> heavy.Figure:  # type: ignore[override]  # it has p95 alone
        """Money and p95 over what was varied, and money against p95 with the plans that nobody beats.

        Of several loads a map: what each combination costs at each of them, and which is the cheapest that holds.

        Returns:
            A Matplotlib figure: `figure.savefig("search.png")` keeps it (or .svg), and a notebook shows it.
        """
        return figure_of(self)

    def winner(self) -> Plan | None:
        """The plan of the cheapest, None: nothing meets every objective."""
        best = self.cheapest
        return None if best is None else self._cases[best.plan].plan

    def cases_that_count(self) -> list[Case]:
        """The cheapest and, by their cost, up to seven that are as good as it; or the nearest."""
        best = self.nearest if self.cheapest is None else self.cheapest
        near = sorted(self.near, key=lambda one: one.bill.month)[: _MOST_REPEATED - 1]
        return [self._cases[one.plan] for one in (best, *near)]

    def to_dict(self) -> dict[str, Any]:
        """The JSON of the command line."""
        document = super().to_dict()
        for plan in document["plans"]:
            plan["varied"] = {key: _plain(value) for key, value in self.varied[plan["plan"]].items()}
        document |= {
            "counts": self.counts.to_dict(),
            "near": [one.plan for one in self.near],
            "front": [one.plan for one in self.front],
            "impossible": self.reasons,
            "notes": list(self.notes),
            "scale": self.scale,
        }
        if self.repeats is not None:
            document["repeats"] = self.repeats.to_dict()
        others = [one for one in self.scenarios if one is not self]
        if self is self.scenarios[0] and others:
            document["by_load"] = [
                {
                    "scale": one.scale,
                    "cheapest": None if one.cheapest is None else one.label(one.cheapest),
                    "month": None if one.cheapest is None else float(one.cheapest.bill.month),
                }
                for one in self.scenarios
            ]
            document["scenarios"] = [one.to_dict() for one in others]
        return document

    @property
    def table(self) -> Any:
        """One row per plan that was replayed to the end, the varied keys as columns."""
        table = super().table
        for place, key in enumerate(next(iter(self.varied.values()), {})):
            values = [self.varied[name][key] for name in table.index]
            if key in table.columns:  # such as the size, which is told of every plan
                table.pop(key)
            table.insert(place, key, values)
        return table


def _plain(value: Any) -> Any:
    return value if isinstance(value, bool | int | float | str) or value is None else str(value)


def _beats(one: Figures, other: Figures) -> bool:
    """Whether one is nowhere worse than the other, and somewhere better."""
    mine, theirs = _merits(one), _merits(other)
    return all(a <= b for a, b in zip(mine, theirs, strict=True)) and mine != theirs


def _merits(figures: Figures) -> tuple[float, float, float]:
    p95 = figures.month.answered_s["p95"]
    return float(figures.bill.month), float("inf") if p95 is None else p95, -(figures.month.availability or 0.0)


def search(
    study: Study,
    plan: str | Plan | None = None,
    *,
    vary: Mapping[str, Iterable[Any]] | None = None,
    front: bool = False,
    auto: bool = False,
    repeats: int | Literal["auto"] | None = None,
    **ranges: Any,
) -> Search:
    """The cheapest combination of some values of a plan's keys that meets every objective.

    The same as if all were replayed, to the cent: combinations are replayed in the order of what they cost at the
    least, up to where that is more than the cheapest found so far, and a replay is stopped as soon as its error budget
    or the share of late requests is spent for good. If nothing meets every objective, all are replayed to the end for
    the nearest. Of equal costs the first in the order of the keys wins.

    Args:
        study: from `load_study`.
        plan: name of one of its plans, or a plan: all that is not varied. None: `vary` says which plans.
        vary: key -> values: `plan`, names of plans of the study; for keys with a dot: `scaling.K`,
            `rollouts.N.K`, `size.K`, `tier.K`, `service.K`,
            `services.N.K`, `plan.services.N.K`; `trace.scale`, with an answer for each of its values.
        front: replay all combinations to the end, so that `front` has all that nobody beats.
        auto: also vary the number of replicas, or floor and ceiling, as far as is sensible; see `vary.sensible`.
        repeats: replay the cheapest, and up to seven that are as good as it, with so many seeds; see `repeat`.
        **ranges: key -> values, for keys of the plan: `replicas=range(2, 21)`, `size=["small", "medium"]`; and trace,
            seed, executor, workers, cache, store, progress, see `Context`.

    Raises:
        StudyError: there is no such plan or key; nothing is varied; no combination is possible.

    Example:
        >>> from libramen import load_study
        >>> found = search(load_study("landing/study.toml"), "noon", replicas=range(4, 8))
        >>> found.cheapest.plan
        'noon replicas=4'
    """
    asked, ranges = split(ranges)
    context = Context.of(study, asked)
    chosen = None if plan is None else context.plan(plan)
    wanted: dict[str, Any] = {**(vary or {}), **ranges}
    if chosen is None and auto:
        raise StudyError("search: auto needs one plan, whose replicas it varies; allowed: a plan, or keys and values")
    if chosen is not None and auto:
        wanted = {**sensible(study, chosen, context.load), **wanted}
    if repeats is not None:
        check_repeats(repeats)
    if not wanted:
        raise StudyError("search: nothing is varied; allowed: one key or more, such as replicas=2..20")
    everything = combinations(study, chosen, wanted)
    if not any(one.plan is not None for one in everything):
        raise StudyError(
            f"search: none of {len(everything):,} combinations is possible; the first: "
            f"{next(iter(_reasons(everything)))}"
        )
    seed, report = context.seed, context.report
    scales = list(dict.fromkeys(one.scale for one in everything))
    found = []
    with context.pool(len(everything), at_once=ahead_of(len(everything))) as pool:
        for number, scale in enumerate(scales):
            some = [one for one in everything if one.scale == scale]
            if all(one.plan is None for one in some):
                raise StudyError(f"search: none of {len(some):,} combinations is possible with {SCALE}={scale:g}")
            bounded = BoundedSearch(study, pool, some, seed, _part_of(report, number, len(scales)), front=front)
            found.append(_found(bounded, bounded.run(), some, context.load))
            if repeats is not None:
                repeated = repeated_cases(found[-1].cases_that_count(), repeats, pool, report)
                found[-1].repeats = Repeats(repeated, range(seed, seed + max(len(one.figures) for one in repeated)))
    for one in found:
        one.scenarios = tuple(found)
    return found[0]


def _found(bounded: BoundedSearch, counts: Counts, everything: list[Combination], trace: Trace) -> Search:
    """What a bounded search has found, in the order of the keys."""
    places = sorted(bounded.figures)
    cases = [bounded.cases[place] for place in places]
    return Search(
        [bounded.figures[place] for place in places],
        trace,
        cases,
        varied={case.plan.name: bounded.possible[place].varied for case, place in zip(cases, places, strict=True)},
        values={key: distinct(one.varied[key] for one in everything) for key in everything[0].varied},
        counts=counts,
        reasons=_reasons(everything),
        notes=tuple(_starts(bounded.cases, everything[0].varied)),
        scale=everything[0].scale,
        stopped=[one.varied for one in bounded.stopped],
    )


def _starts(cases: list[Case], keys: Iterable[str]) -> Iterator[OnlyAtStart]:
    """Which of the keys that were varied are only the number at the start."""
    for key in keys:
        service, path = part_of(key)
        if path != "replicas":
            continue
        parts = [case.plan.of(service) if service else case.plan.only for case in cases]
        if any(part.scaling.bounds is not None for part in parts):
            yield OnlyAtStart(key, f"{key.removesuffix(path)}scaling.floor")


def _part_of(report: Callable[[str, float], None], number: int, of: int) -> Callable[[str, float], None]:
    return lambda what, share: report(what, (number + share) / of)


def _reasons(everything: list[Combination]) -> dict[str, int]:
    """Why combinations are impossible, and how many are; sentences that differ in numbers only count as one."""
    found: dict[str, tuple[str, int]] = {}
    for one in everything:
        if one.plan is None:
            alike = re.sub(r"\d+", "N", one.why_not)
            sentence, n = found.get(alike, (one.why_not, 0))
            found[alike] = sentence, n + 1
    return dict(found.values())
