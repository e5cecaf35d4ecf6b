"""The section about repeats: how much of the figures of each plan is luck."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Final

from libramen.base import units
from libramen.questions.months import DAY_S, LEAST
from libramen.questions.repeats import Repeats, Spread
from libramen.questions.sequential import ERROR, SURE, UNSURE
from libramen.report.comparison import months_said
from libramen.report.prose import times
from libramen.report.section import Cell, Column, Row, Section, row

_SAME: Final = "the same"


def shown(found: Repeats) -> list[Section]:
    """What a notebook shows."""
    return [repeats_section(found)]


def repeats_section(found: Repeats) -> Section:
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

    def money(value: float) -> str:
        return f"{value:,.2f}"

    rows = []
    for plan in found.plans:
        cells: list[Cell | str] = [Cell(plan.plan, plan.plan)]
        for measure, show in (
            ("availability", units.show_availability),
            ("p95_s", units.show_duration),
            ("month", money),
        ):
            cells += _cells(plan.spread(measure), show)
        verdict = "holds" if plan.holds else "does not hold"
        if plan.is_sequential and not plan.is_clear:
            verdict += ", not clear"
        missed = ", ".join(f"{name} {count:,}" for name, count in plan.missed().items())
        rows.append(
            row(
                [
                    *cells,
                    Cell(f"{plan.met:,} of {len(plan.figures):,}", plan.met),
                    Cell("", len(plan.figures)),
                    verdict,
                    missed,
                ],
                stands_out=plan is best,
            )
        )
    return Section(
        f"{'up to ' if is_sequential else ''}{times(n, 'repeat')}, {seeds}",
        sentences=(*_verdict(found, currency),),
        columns=(
            Column("plan", "plan", is_number=False),
            Column("availability", "availability", "share"),
            *_interval("availability", "share"),
            Column("p95", "p95_s", "s"),
            *_interval("p95", "s"),
            Column(f"{currency}/month", "month", f"{currency}/month"),
            *_interval("month", f"{currency}/month"),
            Column("met in", "met", is_number=False),
            Column("", "repeats", in_text=False),
            Column("", "holds", is_number=False),
            Column("missed", "missed", is_number=False, only_wide=True),
        ),
        rows=tuple(rows),
        notes=(
            f"{rule} Intervals are of the mean, given exactly these requests.",
            *_fixed(rows),
            *_days(found),
            *_months(found),
        ),
        prose=True,
        name="repeats",
    )


def _fixed(rows: list[Row]) -> list[str]:
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


def _cells(spread: Spread, show: Callable[[float], str]) -> list[Cell | str]:
    """The mean, the interval in words, and its ends."""
    if spread.mean is None:
        return [Cell("-"), "", Cell(""), Cell("")]
    mean = Cell(show(spread.mean), spread.mean)
    if spread.low is None or spread.high is None or not spread.deviation:
        return [mean, _SAME if spread.n > 1 else "", Cell("", spread.low), Cell("", spread.high)]
    said = f"{show(spread.low)} to {show(spread.high)}"
    return [mean, said, Cell("", spread.low), Cell("", spread.high)]


def _interval(name: str, unit: str) -> tuple[Column, ...]:
    """The columns of an interval: in words, and its ends in data."""
    return (
        Column("95 % interval", is_number=False, in_short=False),
        Column("", f"{name}_low", unit, in_text=False),
        Column("", f"{name}_high", unit, in_text=False),
    )


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
