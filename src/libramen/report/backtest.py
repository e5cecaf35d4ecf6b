"""Sections of a backtest: the grade, and the prediction beside the log."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, Final

from libramen.base import units
from libramen.report.columns import data, money, number, table, words
from libramen.report.prose import and_list
from libramen.report.section import Cell, Column, Section, row
from libramen.report.trust import title
from libramen.report.words import clock, demand_sections
from libramen.trust.compared import Compared

if TYPE_CHECKING:
    from libramen.trust.backtest import Backtest
    from libramen.trust.fit import Fitted
    from libramen.trust.invoice import Billed, Invoice

_MOST_SCOPES: Final = 8
_MOST_SAID: Final = 3
_KINDS: Final = ("route ", "hour ", "in progress ")


def backtest_sections(found: Backtest) -> list[Section]:
    """How far to believe a replay of this study, and where it differs from the log."""
    trace = found.trace
    logged, replayed = found.failed
    failed = f"Failed or given up: {logged:,} in the log, {replayed:,} in the replay."
    ready = f"Replicas ready in the replay: {', '.join(_ready(found))}."
    what = (
        f"{len(trace):,} requests over {units.show_duration(trace.span_s)}, replayed on plan {found.plan} with demand "
        f"{trace.demand_in_words}. Each cell: logged, replayed, and how far that is off."
    )
    return [
        *demand_sections(trace.demand),
        Section(f"{found.study.name}: {title(found.grade)}", (found.grade.reason, what), prose=True),
        _table(found),
        *([_minutes(found)] if found.failures else []),
        Section(sentences=(failed, ready)),
        *([] if found.invoice is None else [invoice_section(found.plan, found.invoice)]),
    ]


def invoice_section(plan: str, found: Invoice) -> Section:
    """The bill of the recorded plan, the invoice, and what differs, line by line."""

    def other_name(line: Billed) -> Cell:
        return Cell("" if line.invoiced_as == line.item else line.invoiced_as or "-", line.invoiced_as)

    totals = (found.billed, found.invoiced, found.invoiced - found.billed)
    shown = (f"{totals[0]:,.2f}", f"{totals[1]:,.2f}", f"{totals[2]:+,.2f}")
    cells = [Cell(said, float(amount)) for said, amount in zip(shown, totals, strict=True)]
    return table(
        (
            words("bill", "item", lambda line: Cell(line.item or "-", line.item)),
            words("on the invoice", "invoiced_as", other_name),
            money(f"bill, {found.currency}", "billed", found.currency),
            money(f"invoice, {found.currency}", "invoiced", found.currency),
            number("more", "difference", _more, unit=f"{found.currency}/month"),
        ),
        found.lines,
        total=row([Cell("total", "total"), Cell(""), *cells], stands_out=True, is_total=True),
        title=f"The invoice {found.file} beside the bill of {plan}",
        sentences=tuple(_differs(found)),
        prose=True,
        name="invoice",
    )


def _more(line: Billed) -> Cell:
    return Cell(f"{line.difference:+,.2f}" if line.difference else "0.00", float(line.difference))


def _differs(found: Invoice) -> Iterator[str]:
    """What differs most, and what only one of the two has."""
    off = found.invoiced - found.billed
    if not any(line.difference for line in found.lines):
        yield "They agree in every line, to the cent."
        return
    share = f" ({100 * float(off / found.billed):+.1f} %)" if found.billed else ""
    more = "the same in all as" if not off else f"{abs(off):,.2f} {found.currency} {'more' if off > 0 else 'less'} than"
    yield f"The invoice is {more} the bill{share if off else ''}."
    both = [line for line in found.lines if line.item is not None and line.invoiced_as is not None and line.difference]
    for line in sorted(both, key=lambda line: -abs(line.difference))[:_MOST_SAID]:
        how = "more" if line.difference > 0 else "less"
        yield f"{line.item}: {abs(line.difference):,.2f} {found.currency} {how} than billed."
    unknown = [line.invoiced_as for line in found.lines if line.item is None]
    missing = [line.item for line in found.lines if line.invoiced_as is None and line.billed]
    told = ((unknown, "Only on the invoice, so perhaps not in the study"), (missing, "Only in the bill"))
    for names, said in told:
        if some := [name for name in names if name is not None]:
            yield f"{said}: {and_list(some)}."


def _ready(found: Backtest) -> Iterator[str]:
    """`2 to 4`, or of several services `web 2 to 4`."""
    for name, steps in found.replicas.items():
        counts = [n for _, n in steps] or [0]
        some = f"{min(counts)}" if min(counts) == max(counts) else f"{min(counts)} to {max(counts)}"
        yield some if len(found.replicas) == 1 else f"{name} {some}"


def fit_sections(found: Iterable[Fitted]) -> list[Section]:
    """What the log tells of the settings of the plan on which it was recorded."""
    every = list(found)
    lines = [f"  {one.line}" for one in every if one.tells and not one.low <= one.now <= one.high]
    said = ("Lines to paste into the study:", *lines) if lines else ("What the study says is as likely as anything.",)
    settings = table(
        (
            words("setting", "key"),
            number("in the study", "now", lambda one: Cell(one.show(one.now), one.now)),
            number("best", "best", lambda one: Cell(one.show(one.best), one.best) if one.tells else None),
            words("likely", "likely", _likely),
            number("off now", "off_now", lambda one: _off(dict(one.tried)[one.now]), unit="share"),
            number(
                "off at best", "off_best",
                lambda one: _off(dict(one.tried)[one.best]) if one.tells else None, unit="share",
            ),
        ),
        every,
        title="What the log tells of the recorded plan",
        notes=("off: mean difference of percentiles among requests that found as many in progress.",),
        name="settings",
    )  # fmt: skip
    return [settings, Section(sentences=said)]


def _likely(one: Fitted) -> str:
    if not one.tells:
        return "the log cannot tell"
    return f"{one.show(one.low)} to {one.show(one.high)}" if one.high > one.low else one.show(one.best)


def _off(value: float) -> Cell:
    return Cell("impossible" if value >= 10 else units.show_share(value), value)


def _table(found: Backtest) -> Section:
    rows = [("all", "all", found.figures)]
    if found.held_back:
        rows.append(("held back", "all", found.held_back))
    if found.busiest:
        rows.append(("busiest tenth", "all", found.busiest))
    left_out, more = 0, []
    for kind in _KINDS:
        scopes = list(dict.fromkeys(one.scope for one in found.figures if one.scope.startswith(kind)))
        shown = (scopes if kind != "hour " else _worst(found.figures, scopes))[:_MOST_SCOPES]
        left_out += len(scopes) - len(shown)
        rows += [(scope, scope, found.figures) for scope in shown]
        more += [(scope, scope, found.figures) for scope in scopes if scope not in shown]
    notes = ["held back: predicted from the rest of the log, without their own latencies."] if found.held_back else []
    if found.busiest:
        notes.append("busiest tenth: predicted from the quieter half of the log.")
    if left_out:
        notes.append(f"{left_out} rows more with --json; of hours those that are farthest off are shown.")
    compared = [
        (name, scope, {one.quantile: one for one in figures if one.scope == scope})
        for name, scope, figures in (*rows, *more)
    ]
    return table(
        (
            words("requests of the log", "scope", lambda of: of[0]),
            number("answered", "requests", lambda of: next(iter(of[2].values())).requests),
            *(column for name in ("p50", "p90", "p95", "p99") for column in _both(name)),
        ),
        compared,
        stands_out=lambda of: of[1] == "all",
        most=len(rows),
        notes=tuple(notes),
        name="percentiles",
    )


def _both(quantile: str) -> tuple[Column, Column]:
    """A percentile of the log and of the replay."""

    def cell(of: tuple[str, str, dict[str, Compared]]) -> Cell:
        one = of[2][quantile]
        return Cell(
            f"{units.show_duration(one.logged_s)} → {units.show_duration(one.replayed_s)} "
            f"{100 * (one.replayed_s / max(one.logged_s, 1e-9) - 1):+.0f} %",
            one.replayed_s,
        )

    return (
        number(quantile, f"{quantile}_replayed", cell, unit="s"),
        data(f"{quantile}_logged", lambda of: of[2][quantile].logged_s, "s"),
    )


def _worst(figures: Iterable[Compared], scopes: list[str]) -> list[str]:
    """The scopes whose p95 is farthest off, in their order."""
    off = {one.scope: one.off for one in figures if one.quantile == "p95"}
    worst = sorted(scopes, key=lambda scope: -off[scope])[:_MOST_SCOPES]
    return [scope for scope in scopes if scope in worst]


def _minutes(found: Backtest) -> Section:
    return table(
        (
            words("minutes with most failures", "minute", lambda one: clock(found.trace, one.at_s)),
            number("logged", "logged"),
            number("replayed", "replayed"),
        ),
        found.failures,
        name="minutes",
    )
