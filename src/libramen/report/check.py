"""Sections of a check: what was understood, and the problems of each plan."""

from __future__ import annotations

from libramen.base import units
from libramen.questions.check import Check, PlanCheck
from libramen.report.load import demand_section
from libramen.report.prose import whose
from libramen.report.section import SERVICE, Cell, Column, Section, row
from libramen.report.words import demand_sections, duration, fleet_range, heading


def check_sections(found: Check) -> list[Section]:
    """What was understood, and the problems of each plan."""
    currency = found.study.currency
    alone = ("mean alone", "alone_mean") if any(plan.service for plan in found.plans) else ("p95 alone", "alone_p95")
    problems = [
        f"{plan.hosting.plan}: {whose(plan.service)}{problem.text}" for plan in found.plans for problem in plan.problems
    ]
    columns = (
        Column("plan", "plan", is_number=False),
        SERVICE,
        Column("tier", "tier", is_number=False),
        Column("size", "size", is_number=False),
        Column("replicas", is_number=False),
        Column("", "replicas_min", in_text=False),
        Column("", "replicas_max", in_text=False),
        Column("CPU needs", "needs_cpu"),
        Column("slots need", "needs_slots"),
        Column(*alone, "s"),
        Column(f"least {currency}/month", "least_month", f"{currency}/month"),
        Column("updates at", "updates_at", is_number=False),
        Column("problems", "problems"),
    )
    meant = tuple(f"- {doubt[0].upper()}{doubt[1:]}" for doubt in found.doubts)
    return [
        *([Section("Can this be meant?", meant, prose=True)] if meant else []),
        *demand_sections(found.trace.demand),
        heading(found.study, found.trace, *(f"  {note}" for note in found.trace.source.notes)),
        *demand_section(found.trace),
        Section(columns=columns, rows=tuple(row(_plan(found, plan)) for plan in found.plans), name="plans"),
        Section(sentences=(f"A month here is {found.made_of}.",)),
        Section(sentences=tuple(problems or ["No problems found."])),
    ]


def _plan(found: Check, plan: PlanCheck) -> list[Cell | str]:
    at = [found.trace.local_time(at_s) for at_s in plan.rollouts_s]
    times = [
        units.show_duration(at_s) if local is None else f"{local:%H:%M}"
        for local, at_s in zip(at, plan.rollouts_s, strict=True)
    ]
    return [
        plan.hosting.plan,
        plan.service or "",
        plan.hosting.tier_name,
        plan.hosting.size_name,
        fleet_range(*plan.hosting.limits),
        *(Cell("", limit) for limit in plan.hosting.limits),
        Cell(str(plan.needs_cpu), plan.needs_cpu),
        Cell(str(plan.needs_slots), plan.needs_slots),
        duration(plan.alone_p95_s),
        Cell(f"{units.to_cent(plan.least_month):,}", float(plan.least_month)),
        Cell(", ".join(times) or "-", ", ".join(times) or None),
        Cell(str(len(plan.problems)) if plan.problems else "none", len(plan.problems)),
    ]
