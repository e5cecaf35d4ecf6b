"""Sections of several services: what each had to do, and where the time of the requests went."""

from __future__ import annotations

import math
from operator import itemgetter
from typing import Final

from libramen.base import units
from libramen.outcome.figures import Figures
from libramen.outcome.outcome import Outcome
from libramen.outcome.service_outcome import ServiceOutcome
from libramen.outcome.where import Where
from libramen.report.columns import availabilities, durations, money, number, shares, table, words
from libramen.report.section import Cell, Column, Section
from libramen.report.story import latency_cell
from libramen.report.words import fleet_range

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
    rows, total_s = [], {}
    for which in ("all requests", "slowest 1 %") if where.is_known else ("all requests",):
        slowest = which == "slowest 1 %"
        time_s = {(o.service, o.part): o.slowest_s if slowest else o.mean_s for o in where.stretches}
        total_s[which] = math.fsum(time_s.values())
        rows += [(which, name, {part: time_s.get((name, part), 0.0) for part in parts}) for name in names]

    def share_of_all(of: tuple[str, str, dict[str, float]]) -> float | None:
        return math.fsum(of[2].values()) / total_s[of[0]] if total_s[of[0]] else None

    return table(
        (
            words("where the time went", "requests", itemgetter(0)),
            words("at", "service", itemgetter(1)),
            *(durations(PART_NAMES[part], part, lambda of, part=part: of[2][part]) for part in parts),
            durations("sum", "sum", lambda of: math.fsum(of[2].values())),
            shares("share", "share", share_of_all),
        ),
        rows,
        name="where",
        notes=(
            ("Each second of a request is counted where it was spent; of calls made at once the one that ended last.",)
            if where.is_known
            else ("Of the visits of each service, per request: requests were not kept.",)
        ),
    )


def services_section(found: Outcome) -> Section:
    """What each service had to do."""
    currency = found.bill.currency

    def fleet(of: _Service) -> str:
        return f"{fleet_range(of[2].replicas_min, of[2].replicas_max)} x {of[2].size}"

    def attempts(of: _Service) -> Cell:
        figures = of[2]
        return Cell(f"{figures.attempts / figures.n_requests:.2f}" if figures.n_requests else "-", figures.attempts)

    def latency(name: str) -> Column:
        def cell(of: _Service) -> Cell:
            return latency_cell(of[2].latency_s[name], of[2].availability)

        return number(name, name, cell, unit="s", in_short=name == "p95")

    return table(
        (
            words("service", "service", itemgetter(0)),
            words("fleet", "fleet", fleet),
            number("visits", "visits", lambda of: of[2].n_requests),
            number("attempts each", "attempts", attempts, in_short=False),
            number("failed", "failed", lambda of: of[2].n_requests - of[2].endings["ok"], in_short=False),
            availabilities("available", "availability", lambda of: of[2].availability),
            *map(latency, ("p50", "p95", "p99")),
            shares("CPU used", "utilisation", lambda of: of[2].utilisation),
            shares("slots taken", "slots", lambda of: of[1].slots_taken),
            money(f"{currency}/month", "month", currency, lambda of: of[2].bill.month),
        ),
        [(name, one, one.figures()) for name, one in found.services.items()],
        notes=(f"Percentiles of visits are within {units.show_share(0.005, 1)}.",),
        name="services",
    )


_Service = tuple[str, ServiceOutcome, Figures]
