"""Sections of a trace: its load, and what the estimate of its demand rests on."""

from __future__ import annotations

from operator import itemgetter
from typing import Final

import numpy as np

from libramen.base import units
from libramen.report.columns import durations, number, shares, table, words
from libramen.report.section import Cell, Column, Section
from libramen.report.words import FROM_CACHE, clock, doubts_section
from libramen.trace.source import RouteDemand
from libramen.trace.summary import RouteLoad, Summary
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
    peaks = [(f"busiest {name}", peak.per_second, clock(found.trace, peak.at_s)) for name, peak in found.peaks.items()]
    return table(
        (
            words("rate", "rate", itemgetter(0)),
            number("requests / s", "requests", itemgetter(1), "{:.3g}", "1/s"),
            words("when", "when", itemgetter(2)),
        ),
        [("mean", found.mean_rate, ""), *peaks],
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
    more = len(found.routes) - _MOST_ROUTES
    return table(
        (
            words("route", "route"),
            number("requests", "requests"),
            shares("share", "share"),
            *(durations(name, name) for name in ("p50", "p95", "p99")),
            number("MB", "sent", _sent, unit="bytes"),
        ),
        found.routes,
        most=_MOST_ROUTES,
        notes=(f"and {more} routes more (--json and --csv have them all)",) if more > 0 else (),
        name="routes",
    )


def _sent(load: RouteLoad) -> Cell:
    return Cell("-" if load.bytes is None else f"{load.bytes / 1e6:,.1f}", load.bytes)


def _areas(found: Summary) -> list[Section]:
    """Where users are; empty: nobody knows."""
    if not found.areas:
        return []
    columns = (
        words("area", "area", lambda one: one.area or "nowhere"),
        number("requests", "requests"),
        shares("share", "share"),
        *(durations(name, name) for name in ("p50", "p95")),
    )
    return [table(columns, found.areas, name="areas")]


def demand_section(trace: Trace) -> list[Section]:
    """What the estimated demand of each route rests on; empty where it was not estimated."""
    if not trace.demand.routes:
        return []
    measured = {cpu.route: cpu for cpu in trace.demand.cpu}
    where = "all that took a slot" if trace.demand.kind == "unqueued" else "{} of the minutes"

    def error(route: RouteDemand) -> float | None:
        found = measured[route.route].error
        return None if np.isnan(found) else found

    cpu = (durations("CPU measured", "cpu", lambda one: measured[one.route].core_s), durations("±", "cpu_error", error))
    columns = (
        words("route", "route"),
        number("requests", "requests"),
        number("samples", "samples"),
        durations("observed mean", "observed_mean", lambda one: one.observed_mean_s),
        durations("mean work", "work_mean", lambda one: one.work_mean_s),
        *(cpu if measured else ()),
        words("samples are from", "samples_from", lambda one: where.format(one.minutes)),
    )
    notes = ("±: standard error of the CPU time of a request, as cpu_use has it.",) if measured else ()
    routes = sorted(trace.demand.routes, key=lambda route: -route.requests)
    return [table(columns, routes, most=_MOST_ROUTES, notes=notes, name="demand")]


def _week(found: Summary, week: np.ndarray) -> Section:
    """The mean rate of each hour of the week: a row an hour, a column a weekday that the trace has."""
    days = [day for day in range(7) if not np.isnan(week[day]).all()]
    names = [("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")[day] for day in days]
    latencies = {load.hour: load for load in found.hours}
    top = float(np.nanmax(week))

    def rate(name: str, day: int) -> Column:
        def of(hour: int) -> float | None:
            return None if np.isnan(week[day, hour]) else float(week[day, hour])

        return number(name, name, of, "{:.3g}", "1/s")

    def percentile(name: str) -> Column:
        return durations(name, name, lambda hour: getattr(latencies.get(hour), name, None))

    def bar(hour: int) -> Cell:
        rates = week[days, hour]
        mean = float(np.nanmean(rates)) if not np.isnan(rates).all() else 0.0
        return Cell("▆" * round(_BAR * mean / top) if top else "", mean)

    return table(
        (
            words("hour", "hour", lambda hour: f"{hour:02}"),
            *(rate(name, day) for name, day in zip(names, days, strict=True)),
            *(percentile(name) for name in (("p50", "p95", "p99") if latencies else ())),
            words("mean requests / s", "mean", bar, unit="1/s"),
        ),
        range(24),
        name="week",
    )
