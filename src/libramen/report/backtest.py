"""Sections of a backtest: the grade, and the prediction beside the log."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, Final

from libramen.base import units
from libramen.report.prose import and_list
from libramen.report.section import Cell, Column, Row, Section, row
from libramen.report.trust import title
from libramen.report.words import clock, count, demand_sections
from libramen.trust.compared import Compared

if TYPE_CHECKING:
    from libramen.trust.backtest import Backtest
    from libramen.trust.fit import Fitted
    from libramen.trust.invoice import Invoice

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
    rows = [
        row([
            Cell(line.item or "-", line.item),
            Cell("" if line.invoiced_as == line.item else line.invoiced_as or "-", line.invoiced_as),
            *(Cell(f"{amount:,.2f}", float(amount)) for amount in (line.billed, line.invoiced)),
            Cell(f"{line.difference:+,.2f}" if line.difference else "0.00", float(line.difference)),
        ])
        for line in found.lines
    ]  # fmt: skip
    totals = (found.billed, found.invoiced, found.invoiced - found.billed)
    shown = (f"{totals[0]:,.2f}", f"{totals[1]:,.2f}", f"{totals[2]:+,.2f}")
    cells = [Cell(text, float(amount)) for text, amount in zip(shown, totals, strict=True)]
    rows.append(row([Cell("total", "total"), Cell(""), *cells], stands_out=True, is_total=True))
    unit = f"{found.currency}/month"
    return Section(
        f"The invoice {found.file} beside the bill of {plan}",
        sentences=tuple(_differs(found)),
        prose=True,
        columns=(
            Column("bill", "item", is_number=False),
            Column("on the invoice", "invoiced_as", is_number=False),
            Column(f"bill, {found.currency}", "billed", unit),
            Column(f"invoice, {found.currency}", "invoiced", unit),
            Column("more", "difference", unit),
        ),
        rows=tuple(rows),
        name="invoice",
    )


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
    columns = (
        Column("setting", "key", is_number=False),
        Column("in the study", "now"),
        Column("best", "best"),
        Column("likely", "likely", is_number=False),
        Column("off now", "off_now", "share"),
        Column("off at best", "off_best", "share"),
    )
    rows, lines = [], []
    for one in found:
        off = dict(one.tried)
        likely = f"{one.show(one.low)} to {one.show(one.high)}" if one.high > one.low else one.show(one.best)
        rows.append(
            row([
                one.key,
                Cell(one.show(one.now), one.now),
                Cell(one.show(one.best) if one.tells else "-", one.best if one.tells else None),
                likely if one.tells else "the log cannot tell",
                _off(off[one.now]),
                _off(off[one.best]) if one.tells else Cell("-"),
            ])
        )  # fmt: skip
        if one.tells and not one.low <= one.now <= one.high:
            lines.append(f"  {one.line}")
    said = ("Lines to paste into the study:", *lines) if lines else ("What the study says is as likely as anything.",)
    note = "off: mean difference of percentiles among requests that found as many in progress."
    title = "What the log tells of the recorded plan"
    table = Section(title, columns=columns, rows=tuple(rows), notes=(note,), name="settings")
    return [table, Section(sentences=said)]


def _off(value: float) -> Cell:
    return Cell("impossible" if value >= 10 else units.show_share(value), value)


def _table(found: Backtest) -> Section:
    columns = (
        Column("requests of the log", "scope", is_number=False),
        Column("answered", "requests"),
        *(
            column
            for name in ("p50", "p90", "p95", "p99")
            for column in (Column(name, f"{name}_replayed", "s"), Column("", f"{name}_logged", "s", in_text=False))
        ),
    )
    rows = [_row("all", "all", found.figures)]
    if found.held_back:
        rows.append(_row("held back", "all", found.held_back))
    if found.busiest:
        rows.append(_row("busiest tenth", "all", found.busiest))
    left_out, more = 0, list[Row]()
    for kind in _KINDS:
        scopes = list(dict.fromkeys(one.scope for one in found.figures if one.scope.startswith(kind)))
        shown = scopes if kind != "hour " else _worst(found.figures, scopes)
        left_out += len(scopes) - len(shown[:_MOST_SCOPES])
        rows += [_row(scope, scope, found.figures) for scope in shown[:_MOST_SCOPES]]
        more += [_row(scope, scope, found.figures) for scope in scopes if scope not in shown[:_MOST_SCOPES]]
    notes = ["held back: predicted from the rest of the log, without their own latencies."] if found.held_back else []
    if found.busiest:
        notes.append("busiest tenth: predicted from the quieter half of the log.")
    if left_out:
        notes.append(f"{left_out} rows more with --json; of hours those that are farthest off are shown.")
    return Section(columns=columns, rows=tuple(rows), notes=tuple(notes), name="percentiles", more=tuple(more))


def _worst(figures: Iterable[Compared], scopes: list[str]) -> list[str]:
    """The scopes whose p95 is farthest off, in their order."""
    off = {one.scope: one.off for one in figures if one.quantile == "p95"}
    worst = sorted(scopes, key=lambda scope: -off[scope])[:_MOST_SCOPES]
    return [scope for scope in scopes if scope in worst]


def _row(title: str, scope: str, figures: Iterable[Compared]) -> Row:
    mine = [one for one in figures if one.scope == scope]
    cells = [
        Cell(
            f"{units.show_duration(one.logged_s)} → {units.show_duration(one.replayed_s)} "
            f"{100 * (one.replayed_s / max(one.logged_s, 1e-9) - 1):+.0f} %",
            one.replayed_s,
        )
        for one in mine
    ]
    both = [cell for one, cell in zip(mine, cells, strict=True) for cell in (cell, Cell("", one.logged_s))]
    return row([title, count(mine[0].requests), *both], stands_out=scope == "all")


def _minutes(found: Backtest) -> Section:
    columns = (
        Column("minutes with most failures", "minute", is_number=False),
        Column("logged", "logged"),
        Column("replayed", "replayed"),
    )
    rows = (row([clock(found.trace, one.at_s), count(one.logged), count(one.replayed)]) for one in found.failures)
    return Section(columns=columns, rows=tuple(rows), name="minutes")
