"""The section about repeats: how much of the figures of each plan is luck."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import replace
from typing import Final

from libramen.base import units
from libramen.questions.months import DAY_S, LEAST
from libramen.questions.repeats import Repeated, Repeats
from libramen.questions.sequential import ERROR, SURE, UNSURE
from libramen.report.columns import data, number, table, words
from libramen.report.comparison import months_said
from libramen.report.prose import times
from libramen.report.section import Cell, Column, Row, Section

_SAME: Final = "the same"


def repeats_sections(found: Repeats) -> list[Section]:
    """A row a plan: mean and 95 % interval of what matters, and how often it meets the objectives."""
    n, best, currency = len(found.seeds), found.cheapest, found.currency

    is_sequential = any(plan.is_sequential for plan in found.plans)
    rule = "A plan holds when at least 95 % of its repeats meet every objective."
    if is_sequential:
        rule = (
            "A plan was repeated until a sequential test was clear: one that meets every objective in "
            f"{100 * SURE:.0f} % of repeats holds, one that does in {100 * UNSURE:.0f} % does not; either is said "
            f"wrongly in {100 * ERROR:.0f} % at the most."
        )
    seeds = f"seed {found.seeds[0]}" if n == 1 else f"seeds {found.seeds[0]} to {found.seeds[-1]}"
    columns = (
        words("plan", "plan"),
        *_figure("availability", "availability", "share", units.show_availability),
        *_figure("p95", "p95_s", "s", units.show_duration),
        *_figure(f"{currency}/month", "month", f"{currency}/month", "{:,.2f}".format),
        words("met in", "met", lambda plan: Cell(f"{plan.met:,} of {len(plan.figures):,}", plan.met)),
        data("repeats", lambda plan: len(plan.figures)),
        words("", "holds", _holds),
        words("missed", "missed", _missed, only_wide=True),
    )
    rule = f"{rule} Intervals are of the mean, given exactly these requests."
    section = table(
        columns,
        found.plans,
        stands_out=lambda plan: plan is best,
        title=f"{'up to ' if is_sequential else ''}{times(n, 'repeat')}, {seeds}",
        sentences=tuple(_verdict(found, currency)),
        prose=True,
        name="repeats",
    )
    return [replace(section, notes=(rule, *_fixed(section.rows), *_days(found), *_months(found)))]


def _holds(plan: Repeated) -> str:
    verdict = "holds" if plan.holds else "does not hold"
    return f"{verdict}, not clear" if plan.is_sequential and not plan.is_clear else verdict


def _missed(plan: Repeated) -> str:
    return ", ".join(f"{name} {count:,}" for name, count in plan.missed().items())


def _figure(title: str, measure: str, unit: str, show: Callable[[float], str]) -> tuple[Column, ...]:
    """The mean of a figure, its interval in words, and the ends of that in data."""
    name = measure.removesuffix("_s")

    def mean(plan: Repeated) -> Cell:
        value = plan.spread(measure).mean
        return Cell("-") if value is None else Cell(show(value), value)

    def interval(plan: Repeated) -> str:
        spread = plan.spread(measure)
        if spread.low is None or spread.high is None or not spread.deviation:
            return _SAME if spread.n > 1 else ""
        return f"{show(spread.low)} to {show(spread.high)}"

    return (
        number(title, measure, mean, unit=unit),
        words("95 % interval", of=interval, in_short=False),
        data(f"{name}_low", lambda plan: plan.spread(measure).low, unit),
        data(f"{name}_high", lambda plan: plan.spread(measure).high, unit),
    )


def _fixed(rows: Iterable[Row]) -> list[str]:
    """What it means where nothing differs."""
    if not any(cell.text == _SAME for one in rows for cell in one.cells):
        return []
    return [f"{_SAME}: every repeat of exactly these requests gives this figure; other requests give another."]


def _days(found: Repeats) -> list[str]:
    """What repeats cannot tell."""
    figures = found.plans[0].figures[0]
    if figures.span_s >= LEAST * DAY_S:
        return []
    told = "All repeats are of the same requests. A trace of under two days does not show how days differ, "
    return [f"{told}so of other months nothing is said."]


def _months(found: Repeats) -> Iterator[str]:
    """What the month of each plan is made of."""
    return months_said((plan.plan, plan.figures[0].bill.note) for plan in found.plans)


def _verdict(found: Repeats, currency: str) -> list[str]:
    best, n = found.cheapest, len(found.seeds)
    if best is None:
        return ["No plan holds."]
    mean = best.spread("month").mean or 0.0
    said = [
        (
            f"The cheapest plan that holds is {best.plan}: {mean:,.2f} {currency} a month on average; it meets every "
            f"objective in {best.met:,} of {n:,} repeats."
        )
    ]
    others = [plan for plan in found.plans if plan.holds and plan is not best]
    for plan in others:
        gap = found.difference(plan, best, "month")
        if gap.mean is not None and gap.low is not None and gap.high is not None and gap.low <= 0 <= gap.high:
            said.append(
                f"{plan.plan} may be as cheap: {gap.mean:+,.2f} {currency}, {gap.low:+,.2f} to {gap.high:+,.2f}."
            )
    return said
