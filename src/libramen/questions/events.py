"""What each release and fault of a plan costs, and what it would have cost otherwise: replayed, not guessed."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from typing import Any, Final, NamedTuple, Unpack

import numpy as np

from libramen.base import heavy, units
from libramen.base.errors import ReplayError, StudyError
from libramen.base.shown import Shown, figure_of
from libramen.base.times import EPSILON_S
from libramen.outcome.events import Event, difference, happened, once_a_month
from libramen.outcome.outcome import Outcome
from libramen.questions.check import check_plan
from libramen.questions.context import Context, Reading
from libramen.questions.expected_load import loads_of
from libramen.rules.faults import BY_KIND
from libramen.rules.rollouts import CLASSES
from libramen.rules.rollouts.update import Rollout
from libramen.runs.cases import Case
from libramen.study.hosting import Hosting
from libramen.study.plan import Plan
from libramen.study.study import Study
from libramen.study.system import Hosted, System
from libramen.trace.trace import Trace

_QUIET_S: Final = 1800.0
_LOST_S: Final = 1800.0
_DETECT_S: Final = 60.0
"""Of a region that is lost to see whether the rest holds: for how long, and how soon that is known."""
_STEPS: Final = ({"share": "10%", "hold": "5m"},)
"""Of a canary that the plan does not have."""
_KEPT_S: Final = 300.0
"""So long a switch that may be undone keeps the old replicas."""


class Way(NamedTuple):
    """One way of doing it.

    Attributes:
        name: "as planned", "quietest 30m", a strategy, or "rolling in place": one after the other, on its machine.
        events: what it costs, one for each time; empty: it cannot be done.
        why_not: why it cannot.
        outcome: of the plan with it.
    """

    name: str
    events: tuple[Event, ...]
    why_not: str = ""
    outcome: Outcome | None = None

    @property
    def failed(self) -> int | None:
        """Requests that failed because of it; None: it cannot be done."""
        return sum(event.failed or 0 for event in self.events) if self.events else None


class Ways(NamedTuple):
    """One entry of a plan's releases or faults, or its random faults of a kind: as planned, and otherwise."""

    kind: str
    service: str
    is_release: bool
    ways: tuple[Way, ...]

    @property
    def planned(self) -> Way:
        """As the plan has it."""
        return self.ways[0]


class RegionLost(NamedTuple):
    """A region of the plan, lost for its busiest half hour: does the rest hold?

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


class Events(Shown):
    """What the releases and faults of a plan cost.

    Attributes:
        outcome: of the plan as it is.
        entries: each with its ways, in the order in which they first happen.
        once: whether each counts once a month, and not as often as the trace has it.
        regions: of a plan in several regions each of them, lost in its busiest half hour.
        tiers: of mixed fleets each tier that may take its machines back, when it takes all of them.
    """

    def __init__(
        self,
        outcome: Outcome,
        entries: tuple[Ways, ...],
        *,
        once: bool,
        regions: tuple[RegionLost, ...] = (),
        tiers: tuple[TierTaken, ...] = (),
    ) -> None:
        self.outcome, self.entries, self.once, self.regions, self.tiers = outcome, entries, once, regions, tiers

    def to_dict(self) -> dict[str, Any]:
        """The JSON of the command line."""
        return {
            "plan": self.outcome.plan.name,
            "once": self.once,
            "events": [
                {
                    "kind": entry.kind,
                    "service": entry.service,
                    "ways": [
                        {
                            "way": way.name,
                            "why_not": way.why_not or None,
                            "failed": way.failed,
                            "times": [event.to_dict() for event in way.events],
                        }
                        for way in entry.ways
                    ],
                }
                for entry in self.entries
            ],
            **({"regions": [lost.to_dict() for lost in self.regions]} if self.regions else {}),
            **({"tiers": [taken.to_dict() for taken in self.tiers]} if self.tiers else {}),
        }

    def plot(self, entry: int = 0) -> heavy.Figure:
        """One event in each of its ways: what failed, what was slow, and which replicas there were, around it.

        Args:
            entry: place of the event in `entries` (from 0).

        Returns:
            A Matplotlib figure: `figure.savefig("events.png")` keeps it (or .svg), and a notebook shows it.

        Raises:
            ReplayError: there is no such event.
        """
        if not 0 <= entry < len(self.entries):
            raise ReplayError(f"events: found {entry!r}; allowed: the place of one of {len(self.entries)} events")
        return figure_of(self, self.entries[entry])


def events(
    study: Study,
    plan: str | Plan,
    *,
    trace: Trace | None = None,
    once: bool = False,
    **asked: Unpack[Reading],
) -> Events:
    """Replay each release and each fault of a plan as planned, and as it might be instead.

    As planned; in the quietest window; a release also with each other strategy that the plan allows. Each is compared
    with a replay without it, on the same luck; random faults of a kind are left out together, and not moved.
    Of a plan in several regions each is also lost in its busiest half hour, whether or not the plan says so; of a mixed
    fleet all machines of each tier that may take them back are also taken at once, as its busiest half hour begins.

    Args:
        study: from `load_study`.
        plan: name of one of its plans, or a plan.
        trace: what is replayed. Default: the study's own.
        once: count each event once a month, and not as often as the trace stands for.
        **asked: seed, cache, progress; see `Context`.

    Raises:
        StudyError: there is no such plan, or it cannot be replayed on this trace.

    Example:
        >>> from libramen import load_study
        >>> found = events(load_study("landing/study.toml"), "lone")
        >>> found.entries[0].planned.failed
        149
    """
    context = replace(Context.of(study, asked, Reading), trace=trace)
    case, trace = Case.of(study, context.plan(plan), context.seed), context.load

    def replayed(changed: Plan) -> Outcome:
        return Case.of(study, changed, context.seed).replay(trace)

    outcome, chosen = case.replay(trace), case.plan
    first: dict[tuple[str, str, int | str], list[Event]] = {}
    for event in happened(outcome):
        first.setdefault(event.key, []).append(event)
    counted = once_a_month if once else list
    entries = []
    for number, (key, planned) in enumerate(first.items()):
        context.report("events", number / len(first))
        without = outcome.without(key)
        ways = [Way("as planned", tuple(counted(difference(outcome, without, planned))), outcome=outcome)]
        for name, changed, why_not in _otherwise(case.system, key, trace):
            if changed is None:
                ways.append(Way(name, (), why_not))
                continue
            other = replayed(changed)
            again = [event for event in happened(other) if event.key == key]
            skipped = [event for event in again if event.result == "skipped"]
            if skipped:
                ways.append(Way(name, (), "twice the fleet is more than the tier allows"))
            else:
                ways.append(Way(name, tuple(counted(difference(other, without, again))), outcome=other))
        entries.append(Ways(planned[0].kind, key[0], planned[0].is_release, tuple(ways)))
    lost = []
    regions = case.system.regions if len(case.system.regions) > 1 else ()
    whole = chosen.each(_without("region_loss")) if regions else chosen
    spared = outcome if whole == chosen else replayed(whole)
    for region in regions:
        found = _without_region(study, spared, whole, region, replayed)
        lost += [found] if found is not None else []
    # The plan's own faults are left out, for they may strike just then; but not that there is no stock.
    whole = chosen.each(_without(*(kind for kind in BY_KIND if kind != "no_stock")))
    kept = outcome if whole == chosen or not any(one.hosting.mix for one in case.system.hosted) else replayed(whole)
    taken = [
        _taken_back(kept, number, entry, replayed)
        for number, hosted in enumerate(case.system.hosted)
        for entry, stock in enumerate(hosted.hosting.mix)
        if stock.tier.interruptible
    ]
    context.report("events", 1.0)
    return Events(
        outcome, tuple(entries), once=once, regions=tuple(lost), tiers=tuple(one for one in taken if one is not None)
    )


def _without_region(
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
    """When the busiest half hour of some fleets begins, and how long it is [s]; None: nothing comes there."""
    trace, loads = outcome.trace, loads_of(outcome.trace, outcome.system)
    visits = sum((loads.of[at].visits for at in fleets), np.zeros(len(trace)))
    lasts_s = min(_LOST_S, trace.span_s // 240 * 60)
    if not visits.any() or lasts_s < _DETECT_S:
        return None
    starts = np.arange(max(1, int((trace.span_s - lasts_s) / 60 + 1e-9) + 1)) * 60.0
    up_to = np.append(0.0, np.cumsum(visits))
    came = up_to[np.searchsorted(trace.at_s, starts + lasts_s)] - up_to[np.searchsorted(trace.at_s, starts)]
    return float(starts[int(np.argmax(came))]), lasts_s


def _taken_back(outcome: Outcome, number: int, entry: int, replayed: Callable[[Plan], Outcome]) -> TierTaken | None:
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


def _without(*kinds: str) -> Callable[[str, Hosting], Hosting]:
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


def _otherwise(system: System, key: tuple[str, str, int | str], trace: Trace) -> Iterator[tuple[str, Plan | None, str]]:
    """Other ways of doing it: what each is called, the plan with it, and why it cannot be."""
    plan, (service, table, place) = system.plan, key
    if table == "at_random" or not isinstance(place, int):
        return
    hosted = next(one for one in system.hosted if one.name == service)
    entry = getattr(hosted.hosting, table)[place]
    quiet_s = min(_QUIET_S, trace.span_s // 240 * 60)
    if quiet_s >= 60 and entry.at.quiet_s is None:
        name = f"quietest {units.show_duration(quiet_s).replace(' ', '')}"
        given = {key: getattr(entry, key) for key in entry.model_fields_set} | {"at": f"quietest {quiet_s:g}s"}
        given = {key: value for key, value in given.items() if key not in {"daily", "days"}}
        yield _changed(plan, hosted, table, place, name, given)
    if table == "faults" and hosted.hosting.standing_by:
        yield "without a standby", plan.each(_without_standby(hosted)), ""
    if table != "rollouts":
        return
    common = entry.model_fields_set & set(Rollout.model_fields) - {"strategy"}
    same = {name: getattr(entry, name) for name in common}
    in_place = {"strategy": "rolling", "spare": 0, "keep": 0, "in_place": True}
    if any(getattr(entry, key, None) != value for key, value in in_place.items()):
        yield _changed(plan, hosted, table, place, "rolling in place", same | in_place)
    for strategy in CLASSES:
        name = strategy.model_fields["strategy"].default
        if name == "handover" and not hosted.hosting.standing_by:
            continue
        if name != entry.strategy:
            more: dict[str, Any] = {"steps": _STEPS} if name == "canary" else {}
            if name == "switch" and entry.is_judged:
                more = {"keep_old": _KEPT_S}  # else it would be over before anything could be judged
            yield _changed(plan, hosted, table, place, name, same | {"strategy": name} | more)


def _without_standby(hosted: Hosted) -> Callable[[str, Hosting], Hosting]:
    def change(of: str, one: Hosting) -> Hosting:
        # Releases are left out: they would need one.
        return one.replace(standby=0, promote=0, rollouts=()) if of == hosted.of else one

    return change


def _changed(
    plan: Plan, hosted: Hosted, table: str, place: int, name: str, entry: dict[str, Any]
) -> tuple[str, Plan | None, str]:
    def change(of: str, one: Hosting) -> Hosting:
        if of != hosted.of:
            return one
        entries: list[Any] = list(getattr(hosted.hosting, table))
        entries[place] = entry
        if hosted.region is None:
            return one.replace(**{table: entries})
        # In one of its regions; a lost region stands among the faults of the plan.
        regions = {**one.regions, hosted.region: {**one.regions[hosted.region], table: entries}}
        faults = [fault for fault in one.faults if getattr(fault, "region", None) != hosted.region]
        return one.replace(regions=regions, faults=faults)

    try:
        return name, plan.each(change), ""
    except StudyError as error:
        return name, None, str(error)
