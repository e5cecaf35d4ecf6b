"""Sections about break-even: where the cheaper of two plans changes, and which plan is the cheapest that holds."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from typing import Final

from libramen.base import units
from libramen.questions.break_even import BreakEven, Crossing, Stretch
from libramen.report.columns import data, money, number, table, words
from libramen.report.comparison import months_said
from libramen.report.prose import and_list
from libramen.report.section import Cell, Column, Section
from libramen.report.words import BEYOND, demand_sections

_MOST_PAIRS: Final = 3
"""Pairs that are said in words; of more there is only the table."""


def break_even_sections(found: BreakEven, name: str = "break-even") -> list[Section]:
    """Where the cheaper one changes, a row a change; `name`: of the study."""
    said = tuple(sentences(found))
    above = demand_sections(found.evidence.demand)
    return [*above, Section(f"{name}: break-even", said, prose=True), crossings_section(found), cheapest_section(found)]


def sentences(found: BreakEven) -> Iterator[str]:
    """Which of two plans is the cheaper, and from where to where."""
    low, high = found.loads
    reach = f"from {_times(low)} to {_times(high)} times the load"
    if len(found.pairs) <= _MOST_PAIRS:
        for one, other in found.pairs:
            crossings = found.of(one, other)
            if (one, other) in found.same:
                yield f"{one} and {other} cost the same {reach}."
            elif not crossings:
                yield f"{_cheaper(found, one, other)} is the cheaper of {one} and {other} {reach}."
            else:
                parts = [f"{crossings[0].below} is the cheaper up to {_times(crossings[0].factor)} times the load"]
                for crossing, after in itertools.pairwise((*crossings, None)):
                    assert crossing is not None
                    until = "beyond" if after is None else f"up to {_times(after.factor)}"
                    parts.append(f"{crossing.above} {until}")
                yield f"{one} and {other}: {', '.join(parts)}."
    else:
        n = len(found.crossings)
        apart = {frozenset((crossing.below, crossing.above)) for crossing in found.crossings}
        yield (
            f"{len(found.pairs):,} pairs of plans {reach}: {len(apart):,} of them cross, with {n:,} "
            f"{'crossing' if n == 1 else 'crossings'} in all."
        )


def _cheaper(found: BreakEven, one: str, other: str) -> str:
    """The cheaper of two plans that never change, at a load at which they differ."""
    mine, theirs = (next(line for line in found.lines if line.plan == name) for name in (one, other))
    costs = {point.factor: point.month for point in theirs.points}
    differ = next(point for point in mine.points if point.factor in costs and point.month != costs[point.factor])
    return one if differ.month < costs[differ.factor] else other


def crossings_section(found: BreakEven) -> Section:
    """A row for each load at which the cheaper one of two plans changes."""

    def factor(one: Crossing) -> Cell:
        return Cell(_times(one.factor) + (BEYOND if found.evidence.is_beyond(one.factor) else ""), one.factor)

    def missed(title: str, key: str, at: int) -> Column:
        def cell(one: Crossing) -> Cell:
            names = one.missed[at]
            return Cell(and_list(list(names)) if names else "-", " ".join(names))

        return words(title, key, cell)

    return table(
        (
            words("cheaper below", "below"),
            words("cheaper above", "above"),
            number("from load", "factor", factor),
            money("first costs", "month_below", found.currency, lambda one: one.month[0]),
            money("second costs", "month_above", found.currency, lambda one: one.month[1]),
            missed("first misses", "missed_below", 0),
            missed("second misses", "missed_above", 1),
        ),
        found.crossings,
        notes=tuple(_notes(found)),
        name="crossings",
    )


def cheapest_section(found: BreakEven) -> Section:
    """The cheapest that meets every objective, from load to load."""
    unit = f"{found.currency}/month"

    def load(of: str) -> Column:
        return number(of.removesuffix("_factor"), of, lambda one: Cell(_times(getattr(one, of)), getattr(one, of)))

    return table(
        (
            load("from_factor"),
            load("to_factor"),
            words("plan", "plan", lambda one: Cell(one.plan or "none", one.plan)),
            number(f"{found.currency} a month", "month_from", lambda one: _costs(found, one)[0], unit=unit),
            data("month_to", lambda one: _costs(found, one)[1], unit),
        ),
        found.cheapest,
        sentences=("The cheapest plan that meets every objective, by load:",),
        name="cheapest",
    )


def _costs(found: BreakEven, stretch: Stretch) -> tuple[Cell, float | None]:
    """What a plan costs at the ends of a stretch."""
    line = next((line for line in found.lines if line.plan == stretch.plan), None)
    if line is None:
        return Cell("-"), None
    month = {point.factor: point.month for point in line.points}
    ends = [month[stretch.from_factor], month[stretch.to_factor]]
    return Cell(" to ".join(dict.fromkeys(f"{end:,.2f}" for end in ends)), ends[0]), ends[1]


def _notes(found: BreakEven) -> Iterator[str]:
    low, high = found.loads
    yield (
        f"Loads are multiples of the load of the trace. Plans are replayed at loads 10 % apart, from {_times(low)} to "
        f"{_times(high)}; each crossing is found to within 1 %. Two crossings less than 10 % apart can be missed."
    )
    if found.cut_at is not None:
        yield (
            f"Loads of more than {_times(found.cut_at)} times the trace's were not looked at: they have more than 20 "
            "million requests, or need more memory than replays may take (--memory)."
        )
    seen = found.evidence
    if seen.up_to is not None and seen.is_beyond(high):
        yield (
            f"The log has seen up to {units.show_rate(seen.logged or 0.0)} (its busiest minute), "
            f"{seen.up_to:.2f} times the busiest minute of this load. Above that nothing but the model says what "
            f"happens{f' (marked{BEYOND})' if any(seen.is_beyond(one.factor) for one in found.crossings) else ''}."
        )
    yield from months_said((line.plan, line.made_of) for line in found.lines)


def _times(factor: float) -> str:
    return f"{factor:.3g}"
