"""What each release and fault of a plan costs, and what it would have cost otherwise: replayed, not guessed."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Any, Final, NamedTuple, Unpack

from libramen.base import heavy, units
from libramen.base.errors import ReplayError, StudyError
from libramen.base.shown import Shown, figure_of
from libramen.outcome.events import Event, difference, happened, once_a_month
from libramen.outcome.outcome import Outcome
from libramen.questions.context import Context, Reading
from libramen.rules.rollouts import CLASSES
from libramen.rules.rollouts.update import Rollout
from libramen.runs.cases import Case
from libramen.study.plan import Hosting, Plan
from libramen.study.study import Study
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


class Events(Shown):
    """What the releases and faults of a plan cost.

    Attributes:
        outcome: of the plan as it is.
        entries: each with its ways, in the order in which they first happen.
        once: whether each counts once a month, and not as often as the trace has it.
    """

    def __init__(self, outcome: Outcome, entries: tuple[Ways, ...], *, once: bool) -> None:
        self.outcome, self.entries, self.once = outcome, entries, once

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
        for name, changed, why_not in _otherwise(chosen, key, trace):
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
    context.report("events", 1.0)
    return Events(outcome, tuple(entries), once=once)


def _otherwise(plan: Plan, key: tuple[str, str, int | str], trace: Trace) -> Iterator[tuple[str, Plan | None, str]]:
    """Other ways of doing it: what each is called, the plan with it, and why it cannot be."""
    service, table, place = key
    if table == "at_random" or not isinstance(place, int):
        return
    entry = getattr(plan.of(service), table)[place]
    quiet_s = min(_QUIET_S, trace.span_s // 240 * 60)
    if quiet_s >= 60 and entry.at.quiet_s is None:
        name = f"quietest {units.show_duration(quiet_s).replace(' ', '')}"
        given = {key: getattr(entry, key) for key in entry.model_fields_set} | {"at": f"quietest {quiet_s:g}s"}
        given = {key: value for key, value in given.items() if key not in {"daily", "days"}}
        yield _changed(plan, service, table, place, name, given)
    if table != "rollouts":
        return
    common = entry.model_fields_set & set(Rollout.model_fields) - {"strategy"}
    same = {name: getattr(entry, name) for name in common}
    in_place = {"strategy": "rolling", "spare": 0, "keep": 0, "in_place": True}
    if any(getattr(entry, key, None) != value for key, value in in_place.items()):
        yield _changed(plan, service, table, place, "rolling in place", same | in_place)
    for strategy in CLASSES:
        name = strategy.model_fields["strategy"].default
        if name != entry.strategy:
            more: dict[str, Any] = {"steps": _STEPS} if name == "canary" else {}
            if name == "switch" and entry.is_judged:
                more = {"keep_old": _KEPT_S}  # else it would be over before anything could be judged
            yield _changed(plan, service, table, place, name, same | {"strategy": name} | more)


def _changed(
    plan: Plan, service: str, table: str, place: int, name: str, entry: dict[str, Any]
) -> tuple[str, Plan | None, str]:
    def change(of: str, one: Hosting) -> Hosting:
        if of != service:
            return one
        entries: list[Any] = list(getattr(one, table))
        entries[place] = entry
        return one.replace(**{table: entries})

    try:
        return name, plan.each(change), ""
    except StudyError as error:
        return name, None, str(error)
