"""The section about what changed since an earlier comparison."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Final

from libramen.base import units
from libramen.questions.against import Against, Change
from libramen.report.prose import and_list
from libramen.report.section import Cell, Column, Row, Section, row

_MORE: Final = "more than 1 % (for availability: of the failed share or of the error budget, whichever is greater)"
_NAMES: Final = {"availability": "availability", "p95_s": "p95 (ok)", "month": "a month"}


def against_section(found: Against, currency: str) -> Section:
    """A row for each figure of each plan, those that got worse first."""
    order = sorted(found.changes, key=lambda change: not change.is_worse)
    return Section(
        f"Against {found.file}",
        sentences=tuple(_said(found, currency)),
        prose=True,
        columns=(
            Column("plan", "plan", is_number=False),
            Column("what", "measure", is_number=False),
            Column("before", "before"),
            Column("now", "now"),
            Column("change", "change"),
            Column("95 % interval", is_number=False, if_any=True),
            Column("", "low", in_text=False, if_any=True),
            Column("", "high", in_text=False, if_any=True),
            Column("", "is_worse", is_number=False),
        ),
        rows=tuple(_row(change, currency) for change in order),
        notes=(_note(found),),
        name="against",
    )


def _said(found: Against, currency: str) -> Iterator[str]:
    worse = found.worse
    if worse:
        for plan in dict.fromkeys(change.plan for change in worse):
            told = [_in_words(change, currency) for change in worse if change.plan == plan]
            yield f"{plan} got worse: {and_list(told)}."
    else:
        yield "Nothing got worse."
    if found.only_now:
        yield f"Not in the baseline: {and_list(list(found.only_now))}."
    if found.only_before:
        yield f"In the baseline only: {and_list(list(found.only_before))}."


def _in_words(change: Change, currency: str) -> str:
    if change.measure not in _NAMES:
        return f"{change.measure} is missed, and was met"
    before, now = (_shown(change.measure, value, currency) for value in (change.before, change.now))
    return f"{_NAMES[change.measure]} is {now}, was {before}"


def _row(change: Change, currency: str) -> Row:
    is_figure = change.measure in _NAMES
    difference = None if change.before is None or change.now is None else change.now - change.before
    ends = (change.low, change.high)
    within = "" if None in ends else " to ".join(_difference(change.measure, end or 0.0) for end in ends)
    return row([
        change.plan,
        Cell(_NAMES.get(change.measure, change.measure), change.measure),
        Cell(_shown(change.measure, change.before, currency), change.before),
        Cell(_shown(change.measure, change.now, currency), change.now),
        Cell(_difference(change.measure, difference) if is_figure and difference is not None else "", difference),
        Cell(within),
        *(Cell("", end) for end in ends),
        Cell("worse" if change.is_worse else "", change.is_worse),
    ], stands_out=change.is_worse)  # fmt: skip


def _shown(measure: str, value: float | None, currency: str) -> str:
    if measure not in _NAMES:
        return "met" if value else "missed"
    if value is None:
        return "none"
    if measure == "availability":
        return "100 %" if value == 1 else f"{100 * value:.4f} %"
    return units.show_duration(value) if measure == "p95_s" else units.show_money(value, currency)


def _difference(measure: str, value: float) -> str:
    """With its sign: shares in hundredths, latency in a unit that suits, money to the cent."""
    sign = "-" if value < 0 else "+"
    if not value:
        return "0"
    if measure == "availability":
        return f"{sign}{100 * abs(value):.3g} %"
    return f"{sign}{units.show_duration(abs(value))}" if measure == "p95_s" else f"{value:+,.2f}"


def _note(found: Against) -> str:
    if found.has_repeats:
        return (
            f"Means of the repeats. A figure is worse if it changed by {_MORE} and the 95 % interval of the difference "
            "(Welch) excludes 0. An objective that was met and is missed now is always worse."
        )
    return (
        f"One replay each: variation by chance is not measured (use --repeats in both). A figure is worse if it "
        f"changed by {_MORE}. An objective that was met and is missed now is always worse."
    )
