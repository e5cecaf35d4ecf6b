"""Sections of one replay: what happened, why, where the time went, the bill, the objectives."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from typing import Final

from libramen.base import units
from libramen.outcome.figures import Figures, RouteFigures
from libramen.outcome.measures import hides_failures
from libramen.outcome.outcome import Outcome
from libramen.outcome.service_outcome import ServiceOutcome
from libramen.prices.lines import named
from libramen.report.comparison import plans_section
from libramen.report.costs import costs_section
from libramen.report.events import events_section
from libramen.report.section import Cell, Column, Section, row
from libramen.report.story import FAILED_NOTE, FAILED_SIGN, sentences, show_latency, wanted_share
from libramen.report.system import system_sections
from libramen.report.words import availability, count, demand_sections, duration, fleet_range, heading, share
from libramen.study.objectives import show_objective
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
    plan, fleets = (
        f"plan {found.plan.name}:",
        [_fleet(one, figures.parts[name]) for name, one in found.services.items()],
    )
    if found.only is None:
        hosted_on = [plan, *(f"  {name}: {fleet}" for name, fleet in zip(found.services, fleets, strict=True))]
        where, used = system_sections(found), ""
    else:
        hosted_on, where = [f"{plan} {fleets[0]}"], [time_section(figures)]
        used = f"utilisation {units.show_share(figures.utilisation)}; on average {figures.replicas_mean:.2f} replicas "
        used += "ready; "
    sections = [
        *demand_sections(found.trace.demand),
        heading(study, found.trace, *hosted_on),
        Section(sentences=tuple(sentences(found)), prose=True),
        *([Section("Findings", findings, prose=True)] if findings else []),
        *events_section(found, figures.events),
        latency_section(figures),
        *where,
        *areas_section(figures),
        Section(sentences=(f"{_availability(figures)}; {used}cold starts: {figures.cold_starts}.", *_month(found))),
        bill_section(figures),
        costs_section(found.costs),
    ]
    return [*sections, objectives_section(figures)] if figures.objectives else sections


def _fleet(one: ServiceOutcome, figures: Figures) -> str:
    """What a service runs on."""
    fleet = fleet_range(figures.replicas_min, figures.replicas_max)
    many = "replica" if fleet == "1" else "replicas"
    return f"tier {figures.tier}, size {figures.size}, {fleet} {many}, {one.hosting.balancer}"


def latency_section(figures: Figures) -> Section:
    """The percentiles of the latency of ok requests."""
    latency, hides = figures.latency_s, hides_failures(figures.availability)
    cells = [Cell(show_latency(value, hides_failures=hides), value) for value in latency.values()]
    return Section(
        columns=(Column("latency", "of", is_number=False), *(Column(name, name, "s") for name in latency)),
        rows=(row([Cell("", "ok requests"), *cells]),),
        notes=(FAILED_NOTE,) if hides else (),
        name="latency",
    )


def time_section(figures: Figures) -> Section:
    """Where the time of the ok requests went, on average: of all, and of the routes with the most requests."""
    parts = {"queued": "queued", "cpu": "CPU", "slowed": "slowed", "waiting": "waiting", "overhead": "network"}
    if figures.time_s["retried"]:
        parts["retried"] = "tried before"
    routes = sorted(figures.routes or (), key=lambda route: -route.n_requests)
    named: list[tuple[str, Figures | RouteFigures]] = [("all requests", figures)]
    if len(routes) > 1:
        named += [(route.route, route) for route in routes]
    rows = []
    for name, of in named:
        n_ok, p95 = of.endings["ok"], of.latency_s["p95"]
        latency = Cell(show_latency(p95, hides_failures=hides_failures(of.availability)), p95)
        means = (duration(of.time_s[part] / n_ok if n_ok else None) for part in parts)
        rows.append(
            row(
                [
                    name,
                    count(of.n_requests),
                    availability(of.availability),
                    latency,
                    duration(of.latency_s["mean"]),
                    *means,
                ]
            )
        )
    more = len(routes) - _ROUTES_SHOWN
    return Section(
        columns=(
            Column("where the time went", "route", is_number=False),
            Column("requests", "requests"),
            Column("available", "availability", "share"),
            Column("p95", "p95", "s"),
            Column("mean", "mean", "s"),
            *(Column(title, part, "s") for part, title in parts.items()),
        ),
        rows=tuple(rows[: _ROUTES_SHOWN + 1]),
        notes=(f"and {more} more routes: see --json or --csv",) if more > 0 else (),
        name="time",
        more=tuple(rows[_ROUTES_SHOWN + 1 :]),
    )


def areas_section(figures: Figures) -> list[Section]:
    """What users of each area got, and where they were taken; empty: nobody knows where users are."""
    if not figures.areas:
        return []
    regions = list(dict.fromkeys(figures.regions.values()))
    shown = [name for name in regions if any((area.regions or {}).get(name) for area in figures.areas)]
    rows = []
    for area in figures.areas:
        taken = area.regions or {}
        hides = hides_failures(area.availability)
        rows.append(
            row([
                area.route or "nowhere",
                count(area.n_requests),
                availability(area.availability),
                *(
                    Cell(show_latency(area.latency_s[key], hides_failures=hides), area.latency_s[key])
                    for key in ("p50", "p95", "p99")
                ),
                *(share(taken[name] / area.n_requests if taken and area.n_requests else None) for name in shown),
            ])
        )  # fmt: skip
    return [
        Section(
            columns=(
                Column("area", "area", is_number=False),
                Column("requests", "requests"),
                Column("available", "availability", "share"),
                *(Column(name, name, "s", in_short=name == "p95") for name in ("p50", "p95", "p99")),
                *(Column(f"in {name}", f"in_{name}", "share") for name in shown),
            ),
            rows=tuple(rows),
            name="areas",
        )
    ]


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
    rows = [
        row([
            named(line, several=len(figures.services) > 1),
            Cell(f"{line.quantity:,f}", float(line.quantity)),
            line.unit,
            Cell(_price(line.unit_price), float(line.unit_price)),
            Cell(f"{line.amount:,}", float(line.amount)),
        ])
        for line in bill.lines
    ]  # fmt: skip
    total = Cell(f"{bill.month:,}", float(bill.month))
    rows.append(row(["total", Cell(""), "", Cell(bill.currency), total], stands_out=True, is_total=True))
    return Section(
        columns=(
            Column("a month", "item", is_number=False),
            Column("quantity", "quantity"),
            Column("unit", "unit", is_number=False),
            Column("unit price", "unit_price", bill.currency),
            Column("amount", "amount", bill.currency),
        ),
        rows=tuple(rows),
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
    rows = []
    for goal in figures.objectives:
        sign = FAILED_SIGN if goal.is_latency and hides_failures(_available(figures, goal.scope)) else ""
        within = "" if goal.within is None else f"{units.show_availability(goal.within)} of {wanted_share(goal)}"
        minutes = "" if goal.minutes is None else f"{goal.minutes.met:,} of {goal.minutes.of:,}"
        rows.append(
            row([
                goal.name,
                Cell(show_objective(goal.name, goal.wanted, currency), _number(goal.wanted)),
                Cell(show_objective(goal.name, goal.got, currency) + sign, _number(goal.got)),
                Cell(within, goal.within),
                Cell(minutes, None if goal.minutes is None else goal.minutes.met),
                Cell("", None if goal.minutes is None else goal.minutes.of),
                Cell("met" if goal.met else "missed", goal.met),
            ])
        )  # fmt: skip
    return Section(
        columns=(
            Column("objective", "objective", is_number=False),
            Column("wanted", "wanted"),
            Column("got", "got"),
            Column("answered within it", "within", "share", is_number=False),
            Column("minutes met", "minutes_met", is_number=False),
            Column("", "minutes", in_text=False),
            Column("", "met", is_number=False),
        ),
        rows=tuple(rows),
        name="objectives",
    )


def _price(price: Decimal) -> str:
    """A unit price: two decimals, or as many as it has."""
    return f"{price:.2f}" if price == round(price, 2) else f"{price.normalize():f}"


def _number(value: object) -> float | None:
    return None if value is None else float(value)  # type: ignore[arg-type]
