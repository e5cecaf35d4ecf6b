"""What becomes of a plan when a region is lost, or a tier takes its machines back, at the worst time: replayed."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, Final, NamedTuple

import numpy as np

from libramen.base.times import EPSILON_S
from libramen.outcome.outcome import Outcome
from libramen.questions.check import check_plan
from libramen.questions.expected_load import loads_of
from libramen.study.hosting import Hosting
from libramen.study.plan import Plan
from libramen.study.study import Study
from libramen.trace.trace import Trace

_LOST_S: Final = 1800.0
_DETECT_S: Final = 60.0
"""Of a region that is lost to see whether the rest holds: for how long, and how soon that is known."""


class RegionLost(NamedTuple):
    """A region of the plan, lost for its busiest half hour, or a quarter of a short trace: does the rest hold?

    Attributes:
        region: its name.
        at_s: when it is lost, for `lasts_s` [s].
        lasts_s: for how long [s].
        failed: requests more that failed than without the loss.
        availability: of the requests that came after it was known, and standbys in its place served, up to the end of
            the loss; None: none came.
        p95_s: of those that were answered [s], None: none was.
        holds: whether these meet the study's objectives on all requests.
        short: by fleet how many replicas it is short of at the busiest minute of the loss; those that have enough are
            left out.
        outcome: of the plan with the loss.
    """

    region: str
    at_s: float
    lasts_s: float
    failed: int
    availability: float | None
    p95_s: float | None
    holds: bool
    short: dict[str, int]
    outcome: Outcome

    def to_dict(self) -> dict[str, Any]:
        """As in the JSON of the command line."""
        return {name: value for name, value in self._asdict().items() if name != "outcome"}


class TierTaken(NamedTuple):
    """All machines of one tier of a mixed fleet, taken back at once: does the rest bear it until others are there?

    Attributes:
        tier: whose machines.
        service: of which fleet; None: of the only one.
        at_s, lasts_s: when, and for how long it is looked at: the fleet's busiest half hour [s].
        machines: how many were taken.
        moved: how many orders in that time went to another tier, since this one could not meet them.
        failed: requests more that failed than without it.
        ready: replicas just before, and the fewest that were ready at an instant of that time.
        whole_s: from then to when as many were ready as before [s]; None: not by the end of that time.
        p95_s: of the requests of that time; `p95_without_s`: of the same without it [s]; None: none was answered.
        outcome: of the plan with it.
    """

    tier: str
    service: str | None
    at_s: float
    lasts_s: float
    machines: int
    moved: int
    failed: int
    ready: tuple[int, int]
    whole_s: float | None
    p95_s: float | None
    p95_without_s: float | None
    outcome: Outcome

    def to_dict(self) -> dict[str, Any]:
        """As in the JSON of the command line."""
        return {name: value for name, value in self._asdict().items() if name != "outcome"}


def without_region(
    study: Study, outcome: Outcome, plan: Plan, region: str, replayed: Callable[[Plan], Outcome]
) -> RegionLost | None:
    """What becomes of a plan when a region is lost in the half hour that is its busiest; None: nothing comes there."""
    system, trace = outcome.system, outcome.trace
    mine = [at for at, one in enumerate(system.hosted) if one.region == region]
    busiest = _busiest(outcome, mine)
    if busiest is None:
        return None
    at_s, lasts_s = busiest
    loss = {"kind": "region_loss", "region": region, "at": at_s, "lasts": lasts_s, "detect": _DETECT_S}
    first = system.hosted[mine[0]].of
    changed = plan.each(lambda name, one: one.replace(faults=[*one.faults, loss]) if name == first else one)
    other = replayed(changed)
    promote_s = max((one.hosting.promote.percentile(0.95) for one in system.hosted if one.hosting.heir_of), default=0.0)
    from_s = min(at_s + _DETECT_S + promote_s, at_s + lasts_s - 60)
    after = other.stretch(min(from_s, trace.span_s - 60), min(at_s + lasts_s, trace.span_s))
    goals = [goal for goal in study.objectives.goals() if "." not in goal.name]
    within = [after.within.get(goal.name, 1.0) >= (goal.share or 0.0) - EPSILON_S for goal in goals if goal.share]
    wanted = [float(goal.wanted) for goal in goals if goal.key == "availability"]
    available = after.availability is None or all(after.availability >= share - EPSILON_S for share in wanted)
    rows = slice(int(np.searchsorted(trace.at_s, at_s)), int(np.searchsorted(trace.at_s, at_s + lasts_s)))
    return RegionLost(
        region, at_s, lasts_s, other.n_requests - other.endings["ok"] - (outcome.n_requests - outcome.endings["ok"]),
        after.availability, after.latency_s["p95"], available and all(within),
        _short(study, plan, trace.part(rows), region), other,
    )  # fmt: skip


def _busiest(outcome: Outcome, fleets: Sequence[int]) -> tuple[float, float] | None:
    """When the busiest half hour of some fleets begins, and how long it is [s]; None: nothing comes there.

    Of a trace of less than two hours it is a quarter of it, in whole minutes.
    """
    trace, loads = outcome.trace, loads_of(outcome.trace, outcome.system)
    visits = sum((loads.of[at].visits for at in fleets), np.zeros(len(trace)))
    lasts_s = min(_LOST_S, trace.span_s // 240 * 60)
    if not visits.any() or lasts_s < _DETECT_S:
        return None
    starts = np.arange(max(1, int((trace.span_s - lasts_s) / 60 + 1e-9) + 1)) * 60.0
    up_to = np.append(0.0, np.cumsum(visits))
    came = up_to[np.searchsorted(trace.at_s, starts + lasts_s)] - up_to[np.searchsorted(trace.at_s, starts)]
    return float(starts[int(np.argmax(came))]), lasts_s


def taken_back(outcome: Outcome, number: int, entry: int, replayed: Callable[[Plan], Outcome]) -> TierTaken | None:
    """What becomes of a plan when all machines of one entry of a fleet are taken back; None: nothing comes there."""
    hosted, busiest = outcome.system.hosted[number], _busiest(outcome, [number])
    if busiest is None:
        return None
    (at_s, lasts_s), tier = busiest, hosted.hosting.mix[entry].tier.plain_name
    fault = {"kind": "reclaim", "tier": tier, "share": 1, "at": at_s}

    def struck(name: str, one: Hosting) -> Hosting:
        if name != hosted.of:
            return one
        if hosted.region is None:
            return one.replace(faults=[*one.faults, fault])
        there = [fault for fault in hosted.hosting.faults if fault.kind != "region_loss"]
        keys = {**one.regions[hosted.region], "faults": [*there, fault]}
        return one.replace(regions={**one.regions, hosted.region: keys})

    other = replayed(outcome.plan.each(struck))
    run, to_s = other.services[hosted.name].run, min(at_s + lasts_s, outcome.trace.span_s)
    mine = [one for one in run.replicas if one.entry == entry and one.ordered_s <= at_s]
    there = [(from_s, n) for from_s, n in run.ready_steps() if from_s < to_s]
    before = next((n for from_s, n in reversed(there) if from_s < at_s or from_s == 0), 0)
    after = [(from_s, n) for from_s, n in there if from_s > at_s]
    fewest = min([before, *(n for _, n in after)])
    short = next((place for place, (_, n) in enumerate(after) if n < before), None)
    whole = None if short is None else next((from_s for from_s, n in after[short:] if n >= before), None)
    with_it, without = (one.stretch(at_s, to_s).latency_s["p95"] for one in (other, outcome))
    return TierTaken(
        tier, hosted.label, at_s, to_s - at_s, sum((one.notice_s or 0.0) >= at_s for one in mine if one.is_reclaimed),
        sum(one.moved_from == entry and at_s <= one.ordered_s < to_s for one in run.replicas),
        (other.n_requests - other.endings["ok"]) - (outcome.n_requests - outcome.endings["ok"]), (before, fewest),
        0.0 if short is None else None if whole is None else whole - at_s, with_it, without, other,
    )  # fmt: skip


def without_faults(*kinds: str) -> Callable[[str, Hosting], Hosting]:
    """A change of what a service runs on: it has no faults of these kinds."""

    def change(_name: str, one: Hosting) -> Hosting:
        regions = {
            name: keys | ({"faults": [fault for fault in keys["faults"] if _kind(fault) not in kinds]})
            if "faults" in keys
            else keys
            for name, keys in one.regions.items()
        }
        return one.replace(faults=[fault for fault in one.faults if fault.kind not in kinds], regions=regions)

    return change


def _kind(fault: Any) -> str:
    """Of a fault, or of the keys of one."""
    return str(fault["kind"] if isinstance(fault, dict) else fault.kind)


def _short(study: Study, plan: Plan, trace: Trace, region: str) -> dict[str, int]:
    """By fleet how many replicas the others are short of while a region is lost, at the busiest minute."""

    def rest(_name: str, one: Hosting) -> Hosting:
        left = {name: keys for name, keys in one.regions.items() if name != region}
        return one.replace(regions=left or one.regions)

    left = study.system(plan.each(rest))
    found = {}
    if not len(trace) or len(left.hosted) == 0:
        return {}
    for one in check_plan(study, trace, left):
        needs, most = max(one.needs_cpu, one.needs_slots), one.hosting.limits[1]
        if needs > most:
            found[one.service or one.hosting.region or ""] = needs - most
    return found
