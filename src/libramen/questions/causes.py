"""What runs out where a plan misses an objective: one word for what the findings of a replay say."""

from __future__ import annotations

from typing import Final

from libramen.outcome.findings import SHORT
from libramen.outcome.outcome import Outcome

_CPU_GONE: Final = 0.98
"""Of the CPU in use in some minute: slots fill because of it."""
_FULL: Final = 0.5
"""Of the CPU or the slots in use in some minute, below which neither has run out."""

_MOST: Final = 0.5
"""Of a limit, or of the time of the slowest requests: it is what keeps them."""

_CAUSES: Final = {
    "cpu_full": "CPU",
    "bank_empty": "CPU",
    "slots_full": "slots",
    "slots_and_cpu_full": "CPU and slots",
    "out_of_memory": "memory",
    "connections_exhausted": "connections",
    "pool_too_small": "connections",
    "bottleneck": "CPU",
    "cold_starts_cost": "cold starts",
    "reacted_late": "cold starts",
    "first_visitor_waited": "cold starts",
    "out_of_stock": "stock",
}


def because(outcome: Outcome, breaks: str | None) -> str:
    """What runs out: money, or what the most costly finding is about; without one what is used most."""
    if breaks == "month":
        return "money"
    # A fleet at its ceiling runs out of CPU and slots as well, and callers that wait for connections run out of slots:
    # the ceiling and the connections are the cause.
    for finding in outcome.findings:
        if finding.kind == "at_the_ceiling":
            return "tier limit" if finding.limit == "tier" else "ceiling"
    for finding in sorted(outcome.findings, key=lambda finding: _CAUSES.get(finding.kind) != "connections"):
        if finding.kind in _CAUSES:
            return _CAUSES[finding.kind]
    return _most_used(outcome, breaks)


def _most_used(outcome: Outcome, breaks: str | None) -> str:
    """CPU or slots, whichever was nearest to full in any minute, in any service; an event, if neither nearly was."""
    cpu = slots = 0.0
    for one in outcome.services.values():
        series = one.series_of_counts()
        there = series["ready"] * one.service.slots
        cpu = max(cpu, float(max(series["utilisation"][series["ready"] > 0], default=0.0)))
        in_use = series["in_progress"][there > 0] / there[there > 0]
        slots = max(slots, float(max(in_use, default=0.0)))
    if max(cpu, slots) < _FULL and any(one.run.updates or one.run.faults for one in outcome.services.values()):
        return "event"
    if max(cpu, slots) < SHORT and outcome.system.is_placed and _is_far(outcome, breaks):
        return "distance"
    if SHORT <= cpu < _CPU_GONE and slots >= SHORT:
        return "CPU and slots"  # neither is ruled out
    return "CPU" if cpu >= slots else "slots"


def _is_far(outcome: Outcome, breaks: str | None) -> bool:
    """Whether it is the way that takes most: of the limit of an area, or else of the time of the slowest requests."""
    goal = next((one for one in outcome.objectives if one.name == breaks), None)
    _, _, area = (breaks or "").partition("areas.")
    if goal is not None and area:
        system, name = outcome.system, area.rpartition(".")[0]
        called = {made.callee for made in system.calls}
        ways = [
            system.round_trips.between(name, str(one.region)) * one.service.exchanges
            for first, one in zip(system.first, system.hosted, strict=True)
            if first not in called and one.hosting.heir_of is None
        ]
        return bool(ways) and min(ways) > _MOST * float(goal.wanted)
    slowest = outcome.where.stretches
    on_the_way = sum(one.slowest_s for one in slowest if one.part == "overhead")
    return on_the_way > _MOST * sum(one.slowest_s for one in slowest)
