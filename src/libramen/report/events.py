"""Sections about releases and faults: what each cost, and what another way of doing it would have cost."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from libramen.base import units
from libramen.outcome.events import Event
from libramen.outcome.figures import Figures
from libramen.outcome.outcome import Outcome
from libramen.prices.lines import HOURS
from libramen.report.columns import availabilities, duration, durations, number, service, table, words
from libramen.report.prose import and_list, clock, times, whose
from libramen.report.section import Cell, Column, Section
from libramen.report.words import demand_sections
from libramen.rules.faults import BY_KIND

if TYPE_CHECKING:
    from libramen.questions.events import Events, Way, Ways
    from libramen.questions.losses import RegionLost, TierTaken

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
    return [
        table(
            (
                service(lambda event: _where(found, event.service, event.kind)),
                words("event", "event", lambda event: _when(found, event)),
                *_columns(found.bill.currency),
            ),
            shown,
            title="Events",
            sentences=tuple(f"- {_whose(found, event)}{sentence(found, event)}" for event in shown),
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
    """What an event cost."""

    def p95(title: str, when: str) -> Column:
        return durations(title, f"p95_{when}", lambda event: (event.p95_s or {}).get(when))

    def budget(event: Event) -> Cell:
        return Cell("-" if event.budget_share is None else _share(event.budget_share), event.budget_share)

    return (
        number("failed", "failed", _more_failed),
        durations("lasts", "lasts", lambda event: event.lasts_s),
        p95("p95 before", "before"),
        p95("during", "during"),
        p95("after", "after"),
        number("of the budget", "budget_share", budget, unit="share"),
        number("replica-hours", "replica_hours", lambda event: _signed(event.replica_hours, "{:+.2f}")),
        number("a month", "money", lambda event: _signed(event.money, "{:+,.2f} " + currency), unit=currency),
    )


def _more_failed(event: Event) -> Cell:
    failed = event.failed or 0
    text = f"{failed:,}" if failed >= 0 else f"{-failed:,} fewer"
    return Cell("overloaded" if event.overloaded and failed <= 0 else text, failed)


def _signed(value: float | None, form: str) -> Cell:
    if value is None:
        return Cell("-")
    return Cell("0" if abs(value) < _SAME else form.format(value), value)


# -- other ways of doing it ------------------------------------------------------------------------


def ways_sections(found: Events, name: str = "events") -> list[Section]:
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
    return table(
        (
            words("region", "region"),
            _at(found.outcome),
            number("failed", "failed"),
            availabilities("available after", "availability"),
            durations("p95 after", "p95", lambda one: one.p95_s),
            words("the rest", "holds", lambda one: Cell("holds" if one.holds else "does not hold", one.holds)),
            words("replicas short", "short", _replicas_short),
        ),
        found.regions,
        title=f"Each region lost in its busiest {_stretch(found.regions[0].lasts_s)}",
        sentences=tuple(_lost(found.outcome, one) for one in found.regions),
        notes=("After: from when the loss is known, a minute later, and standbys in its place serve, up to its end.",),
        name="regions",
        prose=True,
    )


def _at(outcome: Outcome) -> Column:
    """When something happens."""
    return words("at", "at_s", lambda one: Cell(clock(outcome, one.at_s, seconds=False), one.at_s), unit="s")


def _stretch(lasts_s: float) -> str:
    """How long something is looked at: half an hour, or of a short trace less."""
    return "half hour" if lasts_s == 1800 else units.show_duration(lasts_s)


def _replicas_short(one: RegionLost) -> Cell:
    return Cell(", ".join(f"{n} {name}" for name, n in one.short.items()), sum(one.short.values()))


def _lost(outcome: Outcome, one: RegionLost) -> str:
    when = clock(outcome, one.at_s, seconds=False)
    held = "the rest holds" if one.holds else "the rest does not hold"
    alone = _only_in(one.outcome, one.region)
    short = and_list([times(n, "replica") + f" of {name}" for name, n in one.short.items()]) if one.short else ""
    return (
        f"{one.region[0].upper()}{one.region[1:]} lost at {when} for {units.show_duration(one.lasts_s)}: "
        f"{_more_fail(one.failed)}, and {held} once it is known"
        + (f"; {and_list(alone)} {'stands' if len(alone) == 1 else 'stand'} there alone" if alone else "")
        + (f"; short of {short}." if short else ".")
    )


def _tiers(found: Events) -> Section:
    """What becomes of the plan when each tier of a mixed fleet takes all its machines back."""
    return table(
        (
            words("tier", "tier"),
            words("service", "service"),
            _at(found.outcome),
            number("machines", "machines"),
            number("failed", "failed"),
            number("ready", "ready", lambda one: Cell(f"{one.ready[1]} of {one.ready[0]}", one.ready[1])),
            number("whole after", "whole", _whole_after, unit="s"),
            durations("p95", "p95", lambda one: one.p95_s),
            durations("without", "p95_without", lambda one: one.p95_without_s),
        ),
        found.tiers,
        title="All machines of a tier taken back at once",
        sentences=tuple(_taken(found.outcome, one) for one in found.tiers),
        notes=(
            f"At the begin of the busiest {_stretch(found.tiers[0].lasts_s)}, of which p95 is.",
            "Others are ordered at the notice.",
            "A fault of kind no_stock says that the tier has none then.",
        ),
        name="tiers",
        prose=True,
    )


def _whole_after(one: TierTaken) -> Cell:
    return Cell("never") if one.whole_s is None else duration(one.whole_s)


def _taken(outcome: Outcome, one: TierTaken) -> str:
    before, fewest = one.ready
    whole = (
        "no replica is missing meanwhile"
        if one.whole_s == 0
        else f"{units.show_duration(one.lasts_s)} later there are still fewer than before"
        if one.whole_s is None
        else f"as many are ready again after {units.show_duration(one.whole_s)}"
    )
    return (
        f"{one.tier} takes back {times(one.machines, 'machine')}{f' of {one.service}' if one.service else ''} at "
        f"{clock(outcome, one.at_s, seconds=False)}: {_more_fail(one.failed)}"
        + (f"; {fewest} of {before} replicas {'is' if fewest == 1 else 'are'} left" if fewest < before else "")
        + f"; {whole}"
        + (f"; {times(one.moved, 'order')} went to another tier." if one.moved else ".")
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
    tried: list[tuple[Way, Event | None]] = [(way, event) for way in entry.ways for event in way.events or (None,)]

    def way_name(of: tuple[Way, Event | None]) -> Cell:
        way, event = of
        return Cell("" if way.events and event is not way.events[0] else way.name, way.name)

    def when(of: tuple[Way, Event | None]) -> Cell:
        event = of[1]
        if event is None:
            return Cell("-")
        return Cell(
            "at random" if event.table == "at_random" else clock(outcome, event.at_s, seconds=False), event.at_s
        )

    of = whose(_where(outcome, entry.service, entry.kind))
    return table(
        (
            words("", "way", way_name),
            words("at", "at_s", when, unit="s"),
            *(_of_event(column) for column in _columns(outcome.bill.currency)),
        ),
        tried,
        title=f"{of}{entry.kind} release" if entry.is_release else f"{of}{BY_KIND[entry.kind].names[0]}",
        sentences=tuple(_verdict(outcome, entry)),
        notes=tuple(f"{way.name}: {_reason(way)}" for way in entry.ways if way.why_not),
        name=entry.kind,
        prose=True,
    )


def _of_event(column: Column) -> Column:
    """A column of an event, of a way in which there may be none."""
    cell = column.cell
    assert cell is not None
    return column._replace(cell=lambda of: Cell("") if of[1] is None else cell(of[1]))


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
