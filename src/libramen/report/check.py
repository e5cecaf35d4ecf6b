"""Sections of a check: what was understood, and the problems of each plan."""

from __future__ import annotations

from libramen.base import units
from libramen.questions.check import Check, PlanCheck
from libramen.report.columns import data, durations, number, service, table, words
from libramen.report.load import demand_section
from libramen.report.prose import whose
from libramen.report.section import Cell, Column, Section
from libramen.report.words import demand_sections, fleet_range, heading


def check_sections(found: Check) -> list[Section]:
    """What was understood, and the problems of each plan."""
    problems = [
        f"{plan.hosting.plan}: {whose(plan.service)}{problem.text}" for plan in found.plans for problem in plan.problems
    ]
    meant = tuple(f"- {doubt[0].upper()}{doubt[1:]}" for doubt in found.doubts)
    return [
        *([Section("Can this be meant?", meant, prose=True)] if meant else []),
        *demand_sections(found.trace.demand),
        heading(found.study, found.trace, *(f"  {note}" for note in found.trace.source.notes)),
        *demand_section(found.trace),
        _plans(found),
        Section(sentences=(f"A month here is {found.made_of}.",)),
        Section(sentences=tuple(problems or ["No problems found."])),
    ]


def _plans(found: Check) -> Section:
    currency = found.study.currency

    def limit(key: str, at: int) -> Column:
        return data(key, lambda one: one.hosting.limits[at])

    return table(
        (
            words("plan", "plan", lambda one: one.hosting.plan),
            service(lambda one: one.service),
            words("tier", "tier", lambda one: one.hosting.tier_name),
            words("size", "size", lambda one: one.hosting.size_name),
            words("replicas", of=lambda one: fleet_range(*one.hosting.limits)),
            limit("replicas_min", 0),
            limit("replicas_max", 1),
            number("CPU needs", "needs_cpu", form="{}"),
            number("slots need", "needs_slots", form="{}"),
            durations("p95 alone", "alone_p95", lambda one: one.alone_p95_s),
            number(f"least {currency}/month", "least_month", _least, unit=f"{currency}/month"),
            words("updates at", "updates_at", lambda one: _updates_at(found, one)),
            number(
                "problems", of=lambda one: Cell(str(len(one.problems) or "none"), len(one.problems)), key="problems"
            ),
        ),
        found.plans,
        name="plans",
    )


def _least(plan: PlanCheck) -> Cell:
    return Cell(f"{units.to_cent(plan.least_month):,}", float(plan.least_month))


def _updates_at(found: Check, plan: PlanCheck) -> Cell:
    at = [found.trace.local_time(at_s) for at_s in plan.rollouts_s]
    times = [
        units.show_duration(at_s) if local is None else f"{local:%H:%M}"
        for local, at_s in zip(at, plan.rollouts_s, strict=True)
    ]
    return Cell(", ".join(times) or "-", ", ".join(times) or None)
