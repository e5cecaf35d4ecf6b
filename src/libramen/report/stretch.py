"""What came of a stretch of a replay, in words: over its picture, under it, and as text."""

from __future__ import annotations

from collections.abc import Iterator

from libramen.base import units
from libramen.outcome.outcome import Outcome
from libramen.outcome.stretch import FleetMeanwhile, StretchFigures
from libramen.report.prose import clock, times, whose
from libramen.report.replay import latency_section
from libramen.report.section import Section
from libramen.report.story import show_latency
from libramen.report.words import fleet_range, heading
from libramen.rules.faults import BY_KIND
from libramen.study.study import Study


def stretch_title(outcome: Outcome, found: StretchFigures) -> str:
    """`brisk, 17:45:00 to 18:30:00: 92.1 % within 400 ms, 99.2 % of requests answered`."""
    when = f"{clock(outcome, found.from_s)} to {clock(outcome, found.to_s)}"
    if not found.n_requests:
        return f"{outcome.plan.name}, {when}: no requests"
    return (
        f"{outcome.plan.name}, {when}: {_in_time(outcome, found)}, "
        f"{units.show_availability(found.availability)} of requests answered"
    )


def stretch_notes(outcome: Outcome, found: StretchFigures) -> list[str]:
    """What happened in it, a sentence each."""
    said = [_failures(outcome, found)]
    for name, fleet in found.fleets.items():
        one = outcome.services[name]
        said += [whose(one.label) + sentence for sentence in _of_fleet(one.service.slots, fleet)]
    for event in found.events:
        what = f"{event.kind} release" if event.is_release else BY_KIND[event.kind].names[0]
        said.append(f"At {clock(outcome, event.at_s)}: {what}.")
    return said


def stretch_sections(study: Study, outcome: Outcome, found: StretchFigures) -> list[Section]:
    """A stretch of a replay as text, and nothing of the rest."""
    shown = {name: found.latency_s[name] for name in ("mean", "p50", "p95", "p99", "max")}
    return [
        heading(study, outcome.trace, f"{stretch_title(outcome, found)}."),
        Section(sentences=tuple(stretch_notes(outcome, found)), prose=True),
        latency_section(shown, found.availability),
        Section(sentences=("All of this is about that stretch; without --from and --to it is about the whole trace.",)),
    ]


def _in_time(outcome: Outcome, found: StretchFigures) -> str:
    for goal in outcome.objectives:
        if goal.name in found.within:
            return (
                f"{units.show_availability(found.within[goal.name])} within {units.show_duration(float(goal.wanted))}"
            )
    return f"p95 {show_latency(found.latency_s['p95'], hides_failures=found.hides_failures)}"


def _failures(outcome: Outcome, found: StretchFigures) -> str:
    if not found.n_requests:
        return "No request arrived."
    if found.first_failed_s is None or found.last_failed_s is None or found.worst_minute_s is None:
        return f"All {times(found.n_requests, 'request')} were answered."
    kinds = ", ".join(f"{n:,} {name.replace('_', ' ')}" for name, n in found.endings.items() if name != "ok" and n)
    return (
        f"{found.failed:,} of {times(found.n_requests, 'request')} failed ({kinds}), from "
        f"{clock(outcome, found.first_failed_s)} to {clock(outcome, found.last_failed_s)}; the worst minute began at "
        f"{clock(outcome, found.worst_minute_s)}."
    )


def _of_fleet(slots: int, fleet: FleetMeanwhile) -> Iterator[str]:
    changed = ", ".join(
        f"{n:,} {what}" for n, what in ((fleet.ordered, "ordered"), (fleet.gone, "gone"), (fleet.died, "died")) if n
    )
    many = "replica" if fleet.least == fleet.most == 1 else "replicas"
    used = "" if fleet.cpu is None else f"; {units.show_share(fleet.cpu, 0)} of the CPU in use"
    yield f"{fleet_range(fleet.least, fleet.most)} {many} ready{f' ({changed})' if changed else ''}{used}."
    if fleet.full_s >= 1:
        yield (
            f"All {slots} slots of every replica were taken for {units.show_duration(fleet.full_s)}, with "
            f"{units.show_share(fleet.full_cpu, 0)} of the CPU in use then."
        )
