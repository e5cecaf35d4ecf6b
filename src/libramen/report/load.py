"""Sections of a trace: its load, and what the estimate of its demand rests on."""

from __future__ import annotations

from typing import Final

import numpy as np

from libramen.base import units
from libramen.report.section import Cell, Column, Section, row, text
from libramen.report.words import FROM_CACHE, clock, count, doubts_section, duration, share
from libramen.trace.summary import Summary
from libramen.trace.trace import Trace

_MOST_ROUTES: Final = 20
_BAR: Final = 40


def summary_sections(found: Summary) -> list[Section]:
    """A picture of the load."""
    trace = found.trace
    when = "" if trace.start is None else f" from {trace.start:%a %d %b %Y %H:%M} ({trace.start.tzinfo})"
    source = trace.source
    read = f"format {source.format}, {source.lines:,} lines, {source.skipped:,} of them skipped"
    return [
        *doubts_section(found.doubts),
        Section(
            f"{len(trace):,} requests over {units.show_duration(trace.span_s)}{when}",
            (
                read + (FROM_CACHE if source.from_cache else ""),
                *(f"  {n:,} skipped: {reason}" for reason, n in source.reasons),
                *(f"  {note}" for note in source.notes),
            ),
            prose=True,
        ),
        _rates(found),
        Section(sentences=tuple(_sentences(found))),
        _routes(found),
        *_areas(found),
        *([] if found.week is None else [_week(found, found.week)]),
        Section(notes=tuple(f"It cannot tell {unknown}." for unknown in found.unknown)),
    ]


def _rates(found: Summary) -> Section:
    mean = row(["mean", Cell(f"{found.mean_rate:.3g}", found.mean_rate), ""])
    peaks = [
        row([f"busiest {name}", Cell(f"{peak.per_second:.3g}", peak.per_second), clock(found.trace, peak.at_s)])
        for name, peak in found.peaks.items()
    ]
    return Section(
        columns=(
            Column("rate", "rate", is_number=False),
            Column("requests / s", "requests", "1/s"),
            Column("when", "when", is_number=False),
        ),
        rows=(mean, *peaks),
        name="rates",
    )


def _sentences(found: Summary) -> list[str]:
    said = []
    if found.dispersion is not None:
        said.append(f"Index of dispersion of counts per minute: {found.dispersion:.3g} (1: Poisson at one rate).")
    if found.concurrency is not None:
        little, mean, most = (found.concurrency[key] for key in ("little", "mean", "max"))
        said.append(
            f"In progress as observed: {mean:.3g} on average ({little:.3g} by Little's law), {most:,.0f} at most."
        )
    said += [
        f"Quietest {units.show_duration(quiet.length_s)}: from {clock(found.trace, quiet.at_s)}, "
        f"{quiet.requests:,} requests."
        for quiet in found.quiet
    ]
    if found.statuses:
        said.append("Statuses: " + ", ".join(f"{status}: {n:,}" for status, n in found.statuses.items()) + ".")
    return said


def _routes(found: Summary) -> Section:
    rows = [
        row([
            load.route,
            count(load.requests),
            share(load.share),
            *(duration(seconds) for seconds in (load.p50, load.p95, load.p99)),
            Cell("-" if load.bytes is None else f"{load.bytes / 1e6:,.1f}", load.bytes),
        ])
        for load in found.routes
    ]  # fmt: skip
    more = len(found.routes) - _MOST_ROUTES
    return Section(
        columns=(
            Column("route", "route", is_number=False),
            Column("requests", "requests"),
            Column("share", "share", "share"),
            *(Column(name, name, "s") for name in ("p50", "p95", "p99")),
            Column("MB", "sent", "bytes"),
        ),
        rows=tuple(rows[:_MOST_ROUTES]),
        notes=(f"and {more} routes more (--json and --csv have them all)",) if more > 0 else (),
        name="routes",
        more=tuple(rows[_MOST_ROUTES:]),
    )


def _areas(found: Summary) -> list[Section]:
    """Where users are; empty: nobody knows."""
    if not found.areas:
        return []
    rows = [
        row([one.area or "nowhere", count(one.requests), share(one.share), duration(one.p50), duration(one.p95)])
        for one in found.areas
    ]
    return [
        Section(
            columns=(
                Column("area", "area", is_number=False),
                Column("requests", "requests"),
                Column("share", "share", "share"),
                *(Column(name, name, "s") for name in ("p50", "p95")),
            ),
            rows=tuple(rows),
            name="areas",
        )
    ]


def demand_section(trace: Trace) -> list[Section]:
    """What the estimated demand of each route rests on; empty where it was not estimated."""
    if not trace.demand.routes:
        return []
    measured = {cpu.route: cpu for cpu in trace.demand.cpu}
    where = "all that took a slot" if trace.demand.kind == "unqueued" else "{} of the minutes"
    rows = []
    for route in sorted(trace.demand.routes, key=lambda route: -route.requests):
        times = (duration(route.observed_mean_s), duration(route.work_mean_s))
        cells = [text(route.route), count(route.requests), count(route.samples), *times]
        if measured:
            cpu = measured[route.route]
            cells += [duration(cpu.core_s), duration(None if np.isnan(cpu.error) else cpu.error)]
        rows.append(row([*cells, where.format(route.minutes)]))
    columns = (
        Column("route", "route", is_number=False),
        Column("requests", "requests"),
        Column("samples", "samples"),
        Column("observed mean", "observed_mean", "s"),
        Column("mean work", "work_mean", "s"),
        *((Column("CPU measured", "cpu", "s"), Column("±", "cpu_error", "s")) if measured else ()),
        Column("samples are from", "samples_from", is_number=False),
    )
    notes = ("±: standard error of the CPU time of a request, as cpu_use has it.",) if measured else ()
    shown, more = tuple(rows[:_MOST_ROUTES]), tuple(rows[_MOST_ROUTES:])
    return [Section(columns=columns, rows=shown, notes=notes, name="demand", more=more)]


def _week(found: Summary, week: np.ndarray) -> Section:
    """The mean rate of each hour of the week: a row an hour, a column a weekday that the trace has."""
    days = [day for day in range(7) if not np.isnan(week[day]).all()]
    names = [("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")[day] for day in days]
    latencies = {load.hour: load for load in found.hours}
    percentiles = ("p50", "p95", "p99") if latencies else ()
    top = float(np.nanmax(week))
    rows = []
    for hour in range(24):
        rates = week[days, hour]
        mean = float(np.nanmean(rates)) if not np.isnan(rates).all() else 0.0
        cells = [Cell("-") if np.isnan(rate) else Cell(f"{rate:.3g}", rate) for rate in rates.tolist()]
        cells += [duration(getattr(latencies.get(hour), name, None)) for name in percentiles]
        bar = Cell("▆" * round(_BAR * mean / top) if top else "", mean)
        rows.append(row([text(f"{hour:02}"), *cells, bar]))
    columns = (
        Column("hour", "hour", is_number=False),
        *(Column(name, name, "1/s") for name in names),
        *(Column(name, name, "s") for name in percentiles),
        Column("mean requests / s", "mean", "1/s", is_number=False),
    )
    return Section(columns=columns, rows=tuple(rows), name="week")
