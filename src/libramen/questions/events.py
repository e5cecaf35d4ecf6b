"""What each release and fault of a plan costs, and what it would have cost otherwise: replayed, not guessed."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import KW_ONLY, dataclass, replace
from typing import Any, Final, NamedTuple, Unpack

from libramen.base import heavy, units
from libramen.base.errors import ReplayError, StudyError
from libramen.base.shown import Shown, figure_of
from libramen.outcome.events import Event, difference, happened, once_a_month
from libramen.outcome.outcome import Outcome
from libramen.questions.context import Context, Reading
from libramen.questions.losses import RegionLost, TierTaken, taken_back, without_faults, without_region
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


@dataclass(frozen=True, eq=False)
class Events(Shown):
    """What the releases and faults of a plan cost.

    Attributes:
        outcome: of the plan as it is.
        entries: each with its ways, in the order in which they first happen.
        once: whether each counts once a month, and not as often as the trace has it.
        regions: of a plan in several regions each of them, lost in its busiest half hour.
        tiers: of mixed fleets each tier that may take its machines back, when it takes all of them.
    """

    outcome: Outcome
    entries: tuple[Ways, ...]
    _: KW_ONLY
    once: bool
    regions: tuple[RegionLost, ...] = ()
    tiers: tuple[TierTaken, ...] = ()

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
    whole = chosen.each(without_faults("region_loss")) if regions else chosen
    spared = outcome if whole == chosen else replayed(whole)
    for region in regions:
        found = without_region(study, spared, whole, region, replayed)
        lost += [found] if found is not None else []
    # The plan's own faults are left out, for they may strike just then; but not that there is no stock.
    whole = chosen.each(without_faults(*(kind for kind in BY_KIND if kind != "no_stock")))
    kept = outcome if whole == chosen or not any(one.hosting.mix for one in case.system.hosted) else replayed(whole)
    taken = [
        taken_back(kept, number, entry, replayed)
        for number, hosted in enumerate(case.system.hosted)
        for entry, stock in enumerate(hosted.hosting.mix)
        if stock.tier.interruptible
    ]
    context.report("events", 1.0)
    return Events(
        outcome, tuple(entries), once=once, regions=tuple(lost), tiers=tuple(one for one in taken if one is not None)
    )


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
