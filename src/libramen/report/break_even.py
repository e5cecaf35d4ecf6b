"""Sections about break-even: where the cheaper of two plans changes, and which plan is the cheapest that holds."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from typing import Final

from libramen.base import units
from libramen.questions.break_even import BreakEven, Stretch
from libramen.report.comparison import months_said
from libramen.report.prose import and_list
from libramen.report.section import Cell, Column, Section, row
from libramen.report.words import BEYOND, demand_sections

_MOST_PAIRS: Final = 3
"""Pairs that are said in words; of more there is only the table."""


def shown(found: BreakEven) -> list[Section]:
    """What a notebook shows."""
    return break_even_sections("break-even", found)


def break_even_sections(name: str, found: BreakEven) -> list[Section]:
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
    rows = []
    for crossing in found.crossings:
        beyond = BEYOND if found.evidence.is_beyond(crossing.factor) else ""
        rows.append(
            row([
                crossing.below,
                crossing.above,
                Cell(_times(crossing.factor) + beyond, crossing.factor),
                *(Cell(f"{month:,.2f}", month) for month in crossing.month),
                *(Cell(and_list(list(names)) if names else "-", " ".join(names)) for names in crossing.missed),
            ])
        )  # fmt: skip
    return Section(
        columns=(
            Column("cheaper below", "below", is_number=False),
            Column("cheaper above", "above", is_number=False),
            Column("from load", "factor"),
            Column("first costs", "month_below", f"{found.currency}/month"),
            Column("second costs", "month_above", f"{found.currency}/month"),
            Column("first misses", "missed_below", is_number=False),
            Column("second misses", "missed_above", is_number=False),
        ),
        rows=tuple(rows),
        notes=tuple(_notes(found)),
        name="crossings",
    )


def cheapest_section(found: BreakEven) -> Section:
    """The cheapest that meets every objective, from load to load."""
    rows = [
        row([
            Cell(_times(stretch.from_factor), stretch.from_factor),
            Cell(_times(stretch.to_factor), stretch.to_factor),
            Cell(stretch.plan or "none", stretch.plan),
            *_costs(found, stretch),
        ])
        for stretch in found.cheapest
    ]  # fmt: skip
    return Section(
        sentences=("The cheapest plan that meets every objective, by load:",),
        columns=(
            Column("from", "from_factor"),
            Column("to", "to_factor"),
            Column("plan", "plan", is_number=False),
            Column(f"{found.currency} a month", "month_from", f"{found.currency}/month"),
            Column("", "month_to", f"{found.currency}/month", in_text=False),
        ),
        rows=tuple(rows),
        name="cheapest",
    )


def _costs(found: BreakEven, stretch: Stretch) -> tuple[Cell, Cell]:
    """What a plan costs at the ends of a stretch."""
    line = next((line for line in found.lines if line.plan == stretch.plan), None)
    if line is None:
        return Cell("-"), Cell("")
    month = {point.factor: point.month for point in line.points}
    ends = [month[stretch.from_factor], month[stretch.to_factor]]
    return Cell(" to ".join(dict.fromkeys(f"{end:,.2f}" for end in ends)), ends[0]), Cell("", ends[1])


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
