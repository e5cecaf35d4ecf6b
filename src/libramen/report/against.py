"""The section about what changed since an earlier comparison."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Final

from libramen.base import units
from libramen.questions.against import Against, Change
from libramen.report.columns import data, number, table, words
from libramen.report.prose import and_list
from libramen.report.section import Cell, Column, Section

_MORE: Final = "more than 1 % (for availability: of the failed share or of the error budget, whichever is greater)"
_NAMES: Final = {"availability": "availability", "p95_s": "p95 (ok)", "month": "a month"}


def against_section(found: Against, currency: str) -> Section:
    """A row for each figure of each plan, those that got worse first."""

    def figure(title: str, key: str, of: Callable[[Change], float | None]) -> Column:
        return number(title, key, lambda one: Cell(_shown(one.measure, of(one), currency), of(one)))

    return table(
        (
            words("plan", "plan"),
            words("what", "measure", lambda one: Cell(_NAMES.get(one.measure, one.measure), one.measure)),
            figure("before", "before", lambda one: one.before),
            figure("now", "now", lambda one: one.now),
            number("change", "change", _change),
            words("95 % interval", of=_within, if_any=True),
            data("low", if_any=True),
            data("high", if_any=True),
            words("", "is_worse", lambda one: Cell("worse" if one.is_worse else "", one.is_worse)),
        ),
        sorted(found.changes, key=lambda change: not change.is_worse),
        stands_out=lambda one: one.is_worse,
        title=f"Against {found.file}",
        sentences=tuple(_said(found, currency)),
        prose=True,
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


def _change(change: Change) -> Cell:
    """By how much a figure changed; of an objective the sign alone, in data."""
    if change.before is None or change.now is None:
        return Cell("")
    difference = change.now - change.before
    return Cell(_difference(change.measure, difference) if change.measure in _NAMES else "", difference)


def _within(change: Change) -> Cell:
    ends = (change.low, change.high)
    return Cell("" if None in ends else " to ".join(_difference(change.measure, end or 0.0) for end in ends))


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
