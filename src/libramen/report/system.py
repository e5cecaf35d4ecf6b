"""Sections of several services: what each had to do, and where the time of the requests went."""

from __future__ import annotations

import math
from typing import Final

from libramen.base import units
from libramen.outcome.measures import hides_failures
from libramen.outcome.outcome import Outcome
from libramen.outcome.where import Where
from libramen.report.section import Cell, Column, Section, row
from libramen.report.story import show_latency
from libramen.report.words import availability, count, duration, fleet_range, share

PART_NAMES: Final = {
    "retried": "tried before",
    "queued": "queued",
    "cpu": "CPU",
    "slowed": "slowed",
    "connecting": "connecting",
    "waiting": "waiting",
    "overhead": "network",
}
"""What the parts of the time of a request are called."""


def system_sections(found: Outcome) -> list[Section]:
    """Where the time went, and each service in a row."""
    where = [where_section(found.where)] if found.where.stretches else []
    return [*where, services_section(found)]


def where_section(where: Where) -> Section:
    """Where the time of an average request went, and of the slowest 1 %: a row a service."""
    names = list(dict.fromkeys(one.service for one in where.stretches))
    parts = [part for part in PART_NAMES if any(one.part == part for one in where.stretches)]
    rows = []
    for slowest in (False, True) if where.is_known else (False,):
        time_s = {(o.service, o.part): o.slowest_s if slowest else o.mean_s for o in where.stretches}
        total = math.fsum(time_s.values())
        for name in names:
            own = [time_s.get((name, part), 0.0) for part in parts]
            rows.append(
                row([
                    "slowest 1 %" if slowest else "all requests",
                    name,
                    *(duration(value) for value in own),
                    duration(math.fsum(own)),
                    share(math.fsum(own) / total if total else None),
                ])
            )  # fmt: skip
    return Section(
        columns=(
            Column("where the time went", "requests", is_number=False),
            Column("at", "service", is_number=False),
            *(Column(PART_NAMES[part], part, "s") for part in parts),
            Column("sum", "sum", "s"),
            Column("share", "share", "share"),
        ),
        rows=tuple(rows),
        name="where",
        notes=(
            ("Each second of a request is counted where it was spent; of calls made at once the one that ended last.",)
            if where.is_known
            else ("Of the visits of each service, per request: requests were not kept.",)
        ),
    )


def services_section(found: Outcome) -> Section:
    """What each service had to do."""
    rows = []
    for name, one in found.services.items():
        figures = one.figures()
        hides = hides_failures(figures.availability)
        failed = figures.n_requests - figures.endings["ok"]
        rows.append(
            row([
                name,
                f"{fleet_range(figures.replicas_min, figures.replicas_max)} x {figures.size}",
                count(figures.n_requests),
                Cell(f"{figures.attempts / figures.n_requests:.2f}" if figures.n_requests else "-", figures.attempts),
                count(failed),
                availability(figures.availability),
                *(
                    Cell(show_latency(figures.latency_s[key], hides_failures=hides), figures.latency_s[key])
                    for key in ("p50", "p95", "p99")
                ),
                share(figures.utilisation),
                share(one.slots_taken),
                Cell(f"{figures.bill.month:,}", float(figures.bill.month)),
            ])
        )  # fmt: skip
    return Section(
        columns=(
            Column("service", "service", is_number=False),
            Column("fleet", "fleet", is_number=False),
            Column("visits", "visits"),
            Column("attempts each", "attempts", in_short=False),
            Column("failed", "failed", in_short=False),
            Column("available", "availability", "share"),
            *(Column(name, name, "s", in_short=name == "p95") for name in ("p50", "p95", "p99")),
            Column("CPU used", "utilisation", "share"),
            Column("slots taken", "slots", "share"),
            Column(f"{found.bill.currency}/month", "month", f"{found.bill.currency}/month"),
        ),
        rows=tuple(rows),
        notes=(f"Percentiles of visits are within {units.show_share(0.005, 1)}.",),
        name="services",
    )
