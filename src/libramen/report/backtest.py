"""Sections of a backtest: the grade, and the prediction beside the log."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, Final

from libramen.base import units
from libramen.report.section import Cell, Column, Row, Section, row
from libramen.report.trust import title
from libramen.report.words import clock, count, demand_sections
from libramen.trust.compared import Compared

if TYPE_CHECKING:
    from libramen.trust.backtest import Backtest
    from libramen.trust.fit import Fitted

_MOST_SCOPES: Final = 8
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
    ]


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
    return [Section("What the log tells of the recorded plan", columns=columns, rows=tuple(rows), notes=(note,)),
            Section(sentences=said)]  # fmt: skip


def _off(value: float) -> Cell:
    return Cell("impossible" if value >= 10 else units.show_share(value), value)


def _table(found: Backtest) -> Section:
    columns = (
        Column("requests of the log", "scope", is_number=False),
        Column("answered", "requests"),
        *(Column(name, name, "s") for name in ("p50", "p90", "p95", "p99")),
    )
    rows = [_row("all", "all", found.figures)]
    if found.held_back:
        rows.append(_row("held back", "all", found.held_back))
    if found.busiest:
        rows.append(_row("busiest tenth", "all", found.busiest))
    left_out = 0
    for kind in _KINDS:
        scopes = list(dict.fromkeys(one.scope for one in found.figures if one.scope.startswith(kind)))
        shown = scopes if kind != "hour " else _worst(found.figures, scopes)
        left_out += len(scopes) - len(shown[:_MOST_SCOPES])
        rows += [_row(scope, scope, found.figures) for scope in shown[:_MOST_SCOPES]]
    notes = ["held back: predicted from the rest of the log, without their own latencies."] if found.held_back else []
    if found.busiest:
        notes.append("busiest tenth: predicted from the quieter half of the log.")
    if left_out:
        notes.append(f"{left_out} rows more with --json; of hours those that are farthest off are shown.")
    return Section(columns=columns, rows=tuple(rows), notes=tuple(notes))


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
    return row([title, count(mine[0].requests), *cells], stands_out=scope == "all")


def _minutes(found: Backtest) -> Section:
    columns = (
        Column("minutes with most failures", "minute", is_number=False),
        Column("logged", "logged"),
        Column("replayed", "replayed"),
    )
    rows = (row([clock(found.trace, one.at_s), count(one.logged), count(one.replayed)]) for one in found.failures)
    return Section(columns=columns, rows=tuple(rows))
