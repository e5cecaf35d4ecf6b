"""Sections of one replay: what happened, why, where the time went, the bill, the objectives."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Final

from libramen.base import units
from libramen.outcome.figures import AreaFigures, Figures, RouteFigures
from libramen.outcome.measures import hides_failures
from libramen.outcome.outcome import Outcome
from libramen.outcome.service_outcome import ServiceOutcome
from libramen.prices.lines import BillLine, named
from libramen.report.columns import availabilities, data, durations, number, shares, table, words
from libramen.report.comparison import plans_section
from libramen.report.costs import costs_section
from libramen.report.events import events_section
from libramen.report.section import Cell, Column, Section, row
from libramen.report.story import FAILED_NOTE, FAILED_SIGN, latency_cell, sentences, wanted_share
from libramen.report.system import system_sections
from libramen.report.words import demand_sections, fleet_range, heading
from libramen.study.objectives import Objective, show_objective
from libramen.study.study import Study

_ROUTES_SHOWN: Final = 8


def shown(found: Outcome) -> list[Section]:
    """What a notebook shows: what speaks against it, its row in a table of plans, and what each area got."""
    above = demand_sections(found.trace.demand) if found.has_trace else []
    figures = found.figures(routes=False)
    return [*above, plans_section([figures]), *areas_section(figures)]


def outcome_sections(study: Study, found: Outcome) -> list[Section]:
    """What came of one plan."""
    figures = found.figures(events=True)
    findings = tuple(f"- {finding.text}" for finding in figures.findings)
    hosted_on = [f"plan {found.plan.name}:"]
    for one in found.services.values():
        fleet = _fleet(one, figures.parts[one.name])
        if one.label:
            hosted_on.append(f"  {one.label}: {fleet}")
        else:
            hosted_on[0] += f" {fleet}"
    sections = [
        *demand_sections(found.trace.demand),
        heading(study, found.trace, *hosted_on),
        Section(sentences=tuple(sentences(found)), prose=True),
        *([Section("Findings", findings, prose=True)] if findings else []),
        *events_section(found, figures.events),
        latency_section(figures.latency_s, figures.availability),
        *where_sections(found, figures),
        *areas_section(figures),
        Section(
            sentences=(f"{_availability(figures)}; {_use(figures)}cold starts: {figures.cold_starts}.", *_month(found))
        ),
        bill_section(figures),
        costs_section(found.costs),
    ]
    return [*sections, objectives_section(figures)] if figures.objectives else sections


def where_sections(found: Outcome, figures: Figures) -> list[Section]:
    """Where the time went: on which routes, or of several services at which."""
    return system_sections(found) if figures.services else [time_section(figures)]


def _use(figures: Figures) -> str:
    """How many replicas there were, and how busy; of several services each says so of itself."""
    if figures.replicas_mean is None:
        return ""
    used = units.show_share(figures.utilisation)
    return f"utilisation {used}; on average {figures.replicas_mean:.2f} replicas ready; "


def _fleet(one: ServiceOutcome, figures: Figures) -> str:
    """What a service runs on."""
    fleet = fleet_range(figures.replicas_min, figures.replicas_max)
    many = "replica" if fleet == "1" else "replicas"
    return f"tier {figures.tier}, size {figures.size}, {fleet} {many}, {one.hosting.balancer}"


def latency_section(latency_s: Mapping[str, float | None], available: float | None) -> Section:
    """Percentiles of the latency of ok requests; `available`: the share that was answered ok."""

    def percentile(name: str) -> Column:
        return number(name, name, lambda of: latency_cell(of[name], available), unit="s")

    return table(
        (words("latency", "of", lambda _: Cell("", "ok requests")), *map(percentile, latency_s)),
        [latency_s],
        notes=(FAILED_NOTE,) if hides_failures(available) else (),
        name="latency",
    )


def _percentile(name: str, *, in_short: bool = True) -> Column:
    """Of the latencies of the ok ones."""
    return number(name, name, lambda of: latency_cell(of.latency_s[name], of.availability), unit="s", in_short=in_short)


def time_section(figures: Figures) -> Section:
    """Where the time of the ok requests went, on average: of all, and of the routes with the most requests."""
    parts = {"queued": "queued", "cpu": "CPU", "slowed": "slowed", "waiting": "waiting", "overhead": "network"}
    if figures.time_s["retried"]:
        parts["retried"] = "tried before"
    routes = sorted(figures.routes or (), key=lambda route: -route.n_requests)
    more = len(routes) - _ROUTES_SHOWN

    def mean_of(title: str, part: str) -> Column:
        def of(one: Figures | RouteFigures) -> float | None:
            return one.time_s[part] / one.endings["ok"] if one.endings["ok"] else None

        return durations(title, part, of)

    return table(
        (
            words("where the time went", "route", lambda of: "all requests" if of is figures else of.route),
            number("requests", "requests", lambda of: of.n_requests),
            availabilities("available", "availability"),
            _percentile("p95"),
            durations("mean", "mean", lambda of: of.latency_s["mean"]),
            *(mean_of(title, part) for part, title in parts.items()),
        ),
        [figures, *(routes if len(routes) > 1 else ())],
        most=_ROUTES_SHOWN + 1,
        notes=(f"and {more} more routes: see --json or --csv",) if more > 0 else (),
        name="time",
    )


def areas_section(figures: Figures) -> list[Section]:
    """What users of each area got, and where they were taken; empty: nobody knows where users are."""
    if not figures.areas:
        return []
    regions = list(dict.fromkeys(figures.regions.values()))
    shown = [name for name in regions if any((area.regions or {}).get(name) for area in figures.areas)]

    def taken_in(name: str) -> Column:
        def of(area: AreaFigures) -> float | None:
            return area.regions[name] / area.n_requests if area.regions and area.n_requests else None

        return shares(f"in {name}", f"in_{name}", of)

    columns = (
        words("area", "area", lambda area: area.route or "nowhere"),
        number("requests", "requests", lambda area: area.n_requests),
        availabilities("available", "availability"),
        *(_percentile(name, in_short=name == "p95") for name in ("p50", "p95", "p99")),
        *map(taken_in, shown),
    )
    return [table(columns, figures.areas, name="areas")]


def _availability(figures: Figures) -> str:
    return (
        f"Availability {units.show_availability(figures.availability)} by requests, "
        f"{units.show_availability(figures.availability_minutes)} by minutes"
    )


def _month(found: Outcome) -> Iterator[str]:
    """What a month comes to, where that is not what the trace does."""
    if not found.weighted_replays.is_the_trace:
        month = found.month
        p95 = units.show_duration(month.latency_s["p95"]) if month.latency_s["p95"] is not None else "none"
        yield f"In a month: availability {units.show_availability(month.availability)}, p95 {p95}."


def bill_section(figures: Figures) -> Section:
    """The lines of a month, and their total."""
    bill = figures.bill
    total = Cell(f"{bill.month:,}", float(bill.month))
    return table(
        (
            words("a month", "item", lambda line: named(line, figures.services)),
            number("quantity", "quantity", lambda line: Cell(f"{line.quantity:,f}", float(line.quantity))),
            words("unit", "unit"),
            number("unit price", "unit_price", _unit_price, unit=bill.currency),
            number("amount", "amount", lambda line: Cell(f"{line.amount:,}", float(line.amount)), unit=bill.currency),
        ),
        bill.lines,
        total=row(["total", Cell(""), "", Cell(bill.currency), total], stands_out=True, is_total=True),
        notes=(f"A month here is {bill.note}.",),
        name="bill",
    )


def _available(figures: Figures, scope: str) -> float | None:
    """The share of what an objective is about that was answered ok: in a month, of a route in the trace."""
    kind, _, name = scope.partition(".")
    if kind == "services":
        return figures.services.get(name, figures).month.availability
    if kind == "areas":
        return next((area.availability for area in figures.areas if area.route == name), None)
    if kind == "routes":
        return next((route.availability for route in figures.routes or () if route.route == name), None)
    return figures.month.availability


def objectives_section(figures: Figures) -> Section:
    """What was wanted, what was got, and in how many minutes."""
    currency = figures.bill.currency

    def wanted(goal: Objective) -> Cell:
        return Cell(show_objective(goal.name, goal.wanted, currency), _number(goal.wanted))

    def got(goal: Objective) -> Cell:
        sign = FAILED_SIGN if goal.is_latency and hides_failures(_available(figures, goal.scope)) else ""
        return Cell(show_objective(goal.name, goal.got, currency) + sign, _number(goal.got))

    def within(goal: Objective) -> Cell:
        said = "" if goal.within is None else f"{units.show_availability(goal.within)} of {wanted_share(goal)}"
        return Cell(said, goal.within)

    def minutes(goal: Objective) -> Cell:
        found = goal.minutes
        return Cell("") if found is None else Cell(f"{found.met:,} of {found.of:,}", found.met)

    return table(
        (
            words("objective", "objective", lambda goal: goal.name),
            number("wanted", "wanted", wanted),
            number("got", "got", got),
            words("answered within it", "within", within, unit="share"),
            words("minutes met", "minutes_met", minutes),
            data("minutes", lambda goal: None if goal.minutes is None else goal.minutes.of),
            words("", "met", lambda goal: Cell("met" if goal.met else "missed", goal.met)),
        ),
        figures.objectives,
        name="objectives",
    )


def _unit_price(line: BillLine) -> Cell:
    """Two decimals, or as many as it has."""
    price = line.unit_price
    return Cell(f"{price:.2f}" if price == round(price, 2) else f"{price.normalize():f}", float(price))


def _number(value: object) -> float | None:
    return None if value is None else float(value)  # type: ignore[arg-type]
