"""Sections about releases and faults: what each cost, and what another way of doing it would have cost."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from libramen.base import units
from libramen.outcome.events import Event
from libramen.outcome.figures import Figures
from libramen.outcome.outcome import Outcome
from libramen.prices.lines import HOURS
from libramen.report.prose import and_list, clock, times, whose
from libramen.report.section import SERVICE, Cell, Column, Row, Section, row
from libramen.report.words import availability, demand_sections, duration
from libramen.rules.faults import BY_KIND

if TYPE_CHECKING:
    from libramen.questions.events import Events, Way, Ways

_SAME = 0.005
"""Hours of a replica, or money, below which nothing is said."""


def named(event: Event) -> str:
    """What an event is called: the release at 12:00, the zone_loss at 17:30, the crashes at random."""
    if event.is_release:
        return f"the {event.kind} release"
    one, many = BY_KIND[event.kind].names
    return f"the {one}" if event.table == "faults" else f"{many} at random"


def events_section(found: Outcome, happened: Sequence[Event]) -> list[Section]:
    """What each release and fault of a replay has cost, in a sentence and a row; nothing without any."""
    shown = [event for event in happened if event.failed is not None]
    if not shown:
        return []
    rows = [
        row([_where(found, event.service, event.kind) or "", _when(found, event), *_cells(event, found.bill.currency)])
        for event in shown
    ]
    return [
        Section(
            "Events",
            sentences=tuple(f"- {_whose(found, event)}{sentence(found, event)}" for event in shown),
            columns=(SERVICE, Column("event", "event", is_number=False), *_columns(found.bill.currency)),
            rows=tuple(rows),
            notes=("Each against a replay without it, on the same luck.",),
            name="events",
            prose=True,
        )
    ]


def _where(found: Outcome, service: str, kind: str) -> str | None:
    """Whose an event is: a fleet's, of several, or a region's, which is lost with all that stands there."""
    one = found.services[service]
    return one.hosting.region if kind == "region_loss" else one.label


def _whose(found: Outcome, event: Event) -> str:
    where = _where(found, event.service, event.kind)
    return f"{where}: " if where else ""


def sentence(found: Outcome | Figures, event: Event) -> str:
    """What an event costs: how many requests, how often, and how much of the error budget."""
    who = named(event)
    who = f"{who[0].upper()}{who[1:]}"
    when = "" if event.table == "at_random" else f" at {clock(found, event.at_s, seconds=False)}"
    if event.result == "skipped":
        return f"{who}{when} was skipped: twice the fleet is more than its tier or the account allows."
    if event.result == "not_begun":
        return f"{who}{when} never began."
    undone = ", and was undone" if event.result == "undone" else ""
    failed = event.failed or 0
    verb = "fail" if event.table == "at_random" else "fails"
    if event.overloaded:
        them = "them" if event.table == "at_random" else "it"
        without = event.failed_without or 0
        said = (
            f"{who}{when}: the plan is overloaded then with or without {them}, {times(without, 'request')} that arrive "
            f"meanwhile fail without {them}"
        )
        if failed <= 0:
            return f"{said}, and no more with {them}{undone}."
        return f"{said}, and {failed:,} more with {them}{undone}."
    many = times(failed, "request") if failed > 0 else "no request"
    if failed < 0:
        many = f"{times(-failed, 'request')} fewer"
    said = f"{who}{when} {verb} {many}{undone}"
    if failed > 0 and event.budget_share is not None:
        said += f"; {_how_often(event)}: {_share(event.budget_share)} of the month's error budget"
    if event.moved is not None and round(event.moved):
        said += f"; {times(round(event.moved), 'visitor')} had to move"
    return said + "."


def _how_often(event: Event) -> str:
    each = event.times_a_month / event.strikes
    if event.table == "at_random":
        return f"{times(event.strikes, 'time')} in the trace, about {_about(event.times_a_month)} in a month"
    if abs(each - 1) < 1e-9:
        return "once a month"
    if abs(each - HOURS / 24) < 1e-6:
        return "every day of the month"
    return f"{_about(each)} times a month"


def _about(number: float) -> str:
    return f"{number:,.0f}" if number >= 100 else f"{number:.3g}"


def _share(share: float) -> str:
    return f"{100 * share:.2g} %" if share < 0.1 else f"{100 * share:,.0f} %"


def _when(found: Outcome, event: Event) -> Cell:
    name = f"{event.kind.replace('_', ' ')}"
    if event.table == "at_random":
        return Cell(f"{name}, {times(event.strikes, 'time')}", event.kind)
    return Cell(f"{name} {clock(found, event.at_s, seconds=False)}", event.kind)


def _columns(currency: str) -> tuple[Column, ...]:
    return (
        Column("failed", "failed"),
        Column("lasts", "lasts", "s"),
        Column("p95 before", "p95_before", "s"),
        Column("during", "p95_during", "s"),
        Column("after", "p95_after", "s"),
        Column("of the budget", "budget_share", "share"),
        Column("replica-hours", "replica_hours"),
        Column("a month", "money", currency),
    )


def _cells(event: Event, currency: str) -> list[Cell | str]:
    p95_s = event.p95_s or {}
    return [
        _more_failed(event),
        duration(event.lasts_s),
        *(duration(p95_s.get(name)) for name in ("before", "during", "after")),
        Cell("-" if event.budget_share is None else _share(event.budget_share), event.budget_share),
        _signed(event.replica_hours, "{:+.2f}"),
        _signed(event.money, "{:+,.2f} " + currency),
    ]


def _more_failed(event: Event) -> Cell:
    failed = event.failed or 0
    text = f"{failed:,}" if failed >= 0 else f"{-failed:,} fewer"
    return Cell("overloaded" if event.overloaded and failed <= 0 else text, failed)


def _signed(value: float | None, form: str) -> Cell:
    if value is None:
        return Cell("-")
    return Cell("0" if abs(value) < _SAME else form.format(value), value)


# -- other ways of doing it ------------------------------------------------------------------------


def shown(found: Events) -> list[Section]:
    """What a notebook shows."""
    return ways_sections("events", found)


def ways_sections(name: str, found: Events) -> list[Section]:
    """Each event as planned and otherwise: a table, and what is best. `name`: of the study."""
    outcome = found.outcome
    title = f"{name}: releases and faults of plan {outcome.plan.name}"
    if not (found.entries or found.regions or found.tiers):
        return [Section(title, ("This plan has neither releases nor faults.",))]
    sections = [*(demand_sections(outcome.trace.demand) if outcome.has_trace else ()), Section(title)]
    sections += [_ways(outcome, entry) for entry in found.entries]
    sections += [_regions(found)] if found.regions else []
    sections += [_tiers(found)] if found.tiers else []
    counted = "Each counts once a month." if found.once else f"A month here is {outcome.bill.note}."
    compared = "Each is compared with a replay without it, with the same random numbers."
    return [*sections, Section(sentences=(compared, counted))]


def _regions(found: Events) -> Section:
    """What becomes of the plan when each of its regions is lost in the half hour that is its busiest."""
    said, rows = [], []
    for one in found.regions:
        when = clock(found.outcome, one.at_s, seconds=False)
        held = "the rest holds" if one.holds else "the rest does not hold"
        alone = _only_in(one.outcome, one.region)
        said.append(
            f"{one.region[0].upper()}{one.region[1:]} lost at {when} for {units.show_duration(one.lasts_s)}: "
            f"{_more_fail(one.failed)}, and {held} once it is known"
            + (f"; {and_list(alone)} {'stands' if len(alone) == 1 else 'stand'} there alone" if alone else "")
            + (f"; short of {and_list([times(n, 'replica') + f' of {name}' for name, n in one.short.items()])}."
               if one.short else ".")
        )  # fmt: skip
        rows.append(
            row([
                one.region,
                Cell(when, one.at_s),
                Cell(f"{one.failed:,}", one.failed),
                availability(one.availability),
                duration(one.p95_s),
                Cell("holds" if one.holds else "does not hold", one.holds),
                Cell(", ".join(f"{n} {name}" for name, n in one.short.items()), sum(one.short.values())),
            ])
        )  # fmt: skip
    return Section(
        "Each region lost in its busiest half hour",
        sentences=tuple(said),
        columns=(
            Column("region", "region", is_number=False),
            Column("at", "at_s", "s", is_number=False),
            Column("failed", "failed"),
            Column("available after", "availability", "share"),
            Column("p95 after", "p95", "s"),
            Column("the rest", "holds", is_number=False),
            Column("replicas short", "short", is_number=False),
        ),
        rows=tuple(rows),
        notes=("After: from when the loss is known, a minute later, and standbys in its place serve, up to its end.",),
        name="regions",
        prose=True,
    )


def _tiers(found: Events) -> Section:
    """What becomes of the plan when each tier of a mixed fleet takes all its machines back."""
    said, rows = [], []
    for one in found.tiers:
        when = clock(found.outcome, one.at_s, seconds=False)
        before, fewest = one.ready
        whole = (
            "no replica is missing meanwhile"
            if one.whole_s == 0
            else f"{units.show_duration(one.lasts_s)} later there are still fewer than before"
            if one.whole_s is None
            else f"as many are ready again after {units.show_duration(one.whole_s)}"
        )
        said.append(
            f"{one.tier} takes back {times(one.machines, 'machine')}{f' of {one.service}' if one.service else ''} at "
            f"{when}: {_more_fail(one.failed)}"
            + (f"; {fewest} of {before} replicas {'is' if fewest == 1 else 'are'} left" if fewest < before else "")
            + f"; {whole}"
            + (f"; {times(one.moved, 'order')} went to another tier." if one.moved else ".")
        )
        rows.append(
            row([
                one.tier,
                one.service or "",
                Cell(when, one.at_s),
                Cell(f"{one.machines:,}", one.machines),
                Cell(f"{one.failed:,}", one.failed),
                Cell(f"{fewest} of {before}", fewest),
                Cell("never") if one.whole_s is None else duration(one.whole_s),
                duration(one.p95_s),
                duration(one.p95_without_s),
            ])
        )  # fmt: skip
    return Section(
        "All machines of a tier taken back at once",
        sentences=tuple(said),
        columns=(
            Column("tier", "tier", is_number=False),
            Column("service", "service", is_number=False),
            Column("at", "at_s", "s", is_number=False),
            Column("machines", "machines"),
            Column("failed", "failed"),
            Column("ready", "ready"),
            Column("whole after", "whole", "s"),
            Column("p95", "p95", "s"),
            Column("without", "p95_without", "s"),
        ),
        rows=tuple(rows),
        notes=(
            "At the begin of the busiest half hour, of which p95 is. Others are ordered at the notice.",
            "A fault of kind no_stock says that the tier has none then.",
        ),
        name="tiers",
        prose=True,
    )


def _more_fail(n: int) -> str:
    """`1 more request fails`."""
    return f"{times(max(0, n), 'more request')} {'fails' if n == 1 else 'fail'}"


def _only_in(outcome: Outcome, region: str) -> list[str]:
    """The services that stand in a region and nowhere else."""
    fleets: dict[str, set[str | None]] = {}
    for hosted in outcome.system.hosted:
        fleets.setdefault(hosted.of, set()).add(hosted.region)
    return [name for name, regions in fleets.items() if regions == {region}]


def _ways(outcome: Outcome, entry: Ways) -> Section:
    rows: list[Row] = []
    for way in entry.ways:
        if not way.events:
            rows.append(row([way.name, Cell("-"), *[Cell("")] * 8]))
            continue
        for event in way.events:
            name = Cell(way.name if event is way.events[0] else "", way.name)
            when = "at random" if event.table == "at_random" else clock(outcome, event.at_s, seconds=False)
            rows.append(row([name, Cell(when, event.at_s), *_cells(event, outcome.bill.currency)]))
    of = whose(_where(outcome, entry.service, entry.kind))
    return Section(
        f"{of}{entry.kind} release" if entry.is_release else f"{of}{BY_KIND[entry.kind].names[0]}",
        sentences=tuple(_verdict(outcome, entry)),
        columns=(
            Column("", "way", is_number=False),
            Column("at", "at_s", "s", is_number=False),
            *_columns(outcome.bill.currency),
        ),
        rows=tuple(rows),
        notes=tuple(f"{way.name}: {_reason(way)}" for way in entry.ways if way.why_not),
        name=entry.kind,
        prose=True,
    )


def _reason(way: Way) -> str:
    return f"not possible: {way.why_not}"


def _verdict(outcome: Outcome, entry: Ways) -> list[str]:
    """What it costs as planned, and what the others would have cost."""
    said = [sentence(outcome, event) for event in entry.planned.events]
    others = [way for way in entry.ways[1:] if way.failed is not None]
    if not others:
        return said
    words = []
    for way in others:
        failed = way.failed or 0
        when = clock(outcome, way.events[0].at_s, seconds=False)
        how = way.name if way.name.startswith("without") else f"as {way.name}"
        how = f"at {when}" if way.name.startswith("quietest") else how
        words.append(f"{max(0, failed):,} {how}")
    return [*said, f"It would have failed {and_list(words)}."]
