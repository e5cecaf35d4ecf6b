"""Sections of a comparison: the plans side by side, and the verdict."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import Final

from libramen.base import units
from libramen.outcome.figures import Figures
from libramen.questions.compare import Comparison
from libramen.report.columns import availabilities, data, money, number, shares, table, words
from libramen.report.prose import and_list, clock
from libramen.report.section import Cell, Column, Section, text
from libramen.report.story import FAILED_NOTE, latency_cell, miss
from libramen.report.words import beyond, demand_sections, fleet_range, heading
from libramen.study.objectives import Objective
from libramen.study.study import Study
from libramen.trust.doubt import Doubt, End, share_from

_MOST_NOTES: Final = 2
"""If plans have months of more kinds, they are said together."""


def comparison_sections(study: Study, found: Comparison) -> list[Section]:
    """The objectives, the table of the plans, the verdict, and what each plan misses."""
    wanted = study.objectives.describe(study.currency)
    misses = [
        f"  {figures.plan} misses {', '.join(miss(objective, study.currency) for objective in figures.missed)}"
        for figures in found.figures
        if figures.missed
    ]
    notes = list(months_said((figures.plan, figures.bill.note) for figures in found.figures))
    work = study.trace_table.work
    if work is not None:
        notes.append(
            f"How long a request takes was told (work: {work}), not logged: --doubt shows whether the verdict depends "
            "on it."
        )
    if share_from(study, found.trace).startswith("a guess"):
        notes.append(
            "How much of the work is CPU work is a guess (40 %): --doubt shows whether the verdict depends on it, "
            + ("cpu_use in [trace] measures it." if work is None else "cpu_share in [trace] says it.")
        )
    if found.evidence is not None and (said := beyond(found.evidence)):
        notes.insert(0, said)
    sure = how_sure(found)
    if sure:
        notes.append(sure)
    return [
        *demand_sections(found.trace.demand),
        heading(study, found.trace, *([f"Objectives: {'; '.join(wanted)}."] if wanted else [])),
        plans_section(found.figures, best=found.cheapest),
        Section(found.verdict(), tuple(misses), notes=tuple(notes)),
    ]


def months_said(notes_of: Iterable[tuple[str, str]]) -> Iterator[str]:
    """What the month of each plan is made of, by name; where that differs, that of most plans first."""
    plans: dict[str, list[str]] = {}
    for plan, note in notes_of:
        plans.setdefault(note, []).append(plan)
    notes = sorted(plans, key=lambda note: -len(plans[note]))
    bases = {note.partition(": ")[0] for note in notes}
    if len(notes) > _MOST_NOTES and len(bases) == 1 and all(": " not in note or " once, " in note for note in notes):
        rest = "of each plan its releases and faults at a single instant once, and the rest without them"
        yield f"A month here is {bases.pop()}: {rest}."
        return
    yield f"A month here is {notes[0]}."
    for note in notes[1:]:
        yield f"For {and_list(plans[note])} it is {note}."


def verdict(found: Comparison) -> str:
    """The cheapest plan that meets every objective, or the nearest and what it misses."""
    best = found.cheapest
    if best is None:
        near = found.nearest
        missed = [miss(objective, near.bill.currency) for objective in near.missed]
        return f"No plan meets every objective; {near.plan} comes nearest and misses {and_list(missed)}."
    cost = units.about_money(best.bill.month, best.bill.currency)
    what = "meets every objective" if best.objectives else "there is (no objectives are set)"
    return f"The cheapest plan that {what} is {best.plan}: {cost} a month, {best.bill.assumes}."


def shown(found: Comparison) -> list[Section]:
    """What a notebook shows: what speaks against it, and the table of the plans."""
    above = [] if found.evidence is None else demand_sections(found.evidence.demand)
    return [*above, plans_section(found.figures, best=found.cheapest)]


def how_sure(found: Comparison) -> str:
    """Which plan is the cheapest in months made of other days; empty: there are too few of them."""
    sure = found.resampled
    if sure is None:
        return ""
    told = [f"{plan} in {n:,}" for plan, n in sure.cheapest.items()] + ([f"none in {sure.none:,}"] if sure.none else [])
    return (
        f"Of {sure.months:,} months made of quarters of the {sure.days:,} days of the trace, the cheapest that meets "
        f"every objective is {', '.join(told)}."
    )


def verdict_there(end: End) -> str:
    """The verdict at one end of what is not known."""
    if end.holds:
        return "holds"
    if end.cheapest is None:
        return "changes to: no plan meets every objective"
    return f"changes to {end.cheapest}: {units.about_money(end.month or 0.0, end.currency)}"


def doubts_of_verdict(doubts: Sequence[Doubt]) -> list[Section]:
    """Whether the verdict holds at the ends of what is not known."""
    most = next((one for one in doubts if any(one.weight)), None)
    if most is None:
        said = "Nothing of this changes the verdict, or what any plan meets."
    elif most.weight[0]:
        said = f"What moves the answer most is {most.parameter}: find out more about that first."
    else:
        said = f"The verdict holds throughout. What moves single plans most is {most.parameter}."
    columns = (
        words("not known", "parameter"),
        words("now from", "from", lambda one: one.from_),
        words("low end", "low", lambda one: one.low.value),
        words("verdict there", "low_verdict", lambda one: one.low.verdict),
        words("high end", "high", lambda one: one.high.value),
        words("verdict there", "high_verdict", lambda one: one.high.verdict),
        number("plans changed", "changed", lambda one: one.low.changed + one.high.changed, form="{}"),
    )
    return [table(columns, doubts, notes=(said,), name="doubts")]


def plans_section(all_figures: Sequence[Figures], best: Figures | None = None) -> Section:
    """One row per plan.

    Args:
        all_figures: of the plans, one or more, replayed with the same objectives.
        best: the plan that stands out.
    """
    first = all_figures[0]
    limits = {str(goal.wanted): goal for goal in first.objectives if goal.within is not None and goal.name == goal.key}
    titles = {key: f"≤ {units.show_duration(float(goal.wanted))}" for key, goal in limits.items()}
    currency = first.bill.currency
    hosted, used = _fleets(first, joined=len({tuple(figures.services) for figures in all_figures}) > 1)
    return table(
        (
            words("plan", "plan"),
            *hosted,
            *(_latency(name) for name in ("p50", "p95", "p99")),
            *(_within(title, limits[key].key, key) for key, title in titles.items()),
            number("worst hour", "worst_hour", _worst_hour, unit="share"),
            data("worst_hour_at", lambda one: None if one.worst_hour is None else one.worst_hour.at_s, "s"),
            availabilities("available", "availability", lambda one: one.month.availability),
            *used,
            money(f"{currency}/month", "month", currency, lambda one: one.bill.month),
            number("of it used", "money_used", _used, unit="share", only_wide=True),
            words("objectives", "misses", lambda one: _met(one.missed, any_set=bool(one.objectives))),
        ),
        all_figures,
        stands_out=lambda one: one is best,
        notes=tuple(_notes(all_figures, list(titles.values()))),
        name="plans",
    )


def _latency(name: str) -> Column:
    def cell(figures: Figures) -> Cell:
        return latency_cell(figures.month.latency_s[name], figures.month.availability)

    return number(name, name, cell, unit="s", only_wide=name != "p95")


def _within(title: str, key: str, limit: str) -> Column:
    """The share that was answered within a limit."""

    def of(figures: Figures) -> float | None:
        return {str(goal.wanted): goal.within for goal in figures.objectives if goal.name == goal.key}[limit]

    return availabilities(title, f"within_{key}", of)


def _fleets(first: Figures, *, joined: bool) -> tuple[list[Column], list[Column]]:
    """What a plan runs on, and how far that is used; of several services each.

    Args:
        first: the figures of one of the plans.
        joined: whether the plans have not the same fleets, so that one column says all.
    """
    if joined:
        return [words("fleets", "fleets", _joined)], []
    if not first.services:
        hosted = [
            words("tier", "tier", in_short=False),
            words("size", "size", in_short=False),
            number("replicas", of=lambda one: text(fleet_range(one.replicas_min, one.replicas_max))),
            data("replicas_min"),
            data("replicas_max"),
        ]
        return hosted, [shares("utilised", "utilisation", in_short=False)]
    return [_fleet_of(name) for name in first.services], []


def _fleet_of(name: str) -> Column:
    def cell(figures: Figures) -> Cell:
        one = figures.services[name]
        fleet = fleet_range(one.replicas_min, one.replicas_max)
        short = f"{fleet} {one.size}"
        return Cell(f"{fleet} x {one.size}, {units.show_share(one.utilisation, 0)}", short, short)

    return words(name, f"{name}_fleet", cell)


def _joined(figures: Figures) -> str:
    """All fleets of a plan in a few words: `web 2+2 small, database 1 large`, a number a region."""
    named = figures.services or {next(iter(figures.regions.values()), ""): figures}
    of: dict[str, list[tuple[str, Figures]]] = {}
    for name, one in named.items():
        region = figures.regions.get(name, "")
        service = name.removesuffix(f" in {region}") if name != region else ""
        of.setdefault(service, []).append((region, one))
    said = []
    for service, fleets in of.items():
        sizes = list(dict.fromkeys(one.size or "" for _, one in fleets))
        ranges = [fleet_range(one.replicas_min, one.replicas_max) for _, one in fleets]
        where = f"in {' + '.join(region for region, _ in fleets)}" if not service and fleets[0][0] else ""
        said.append(" ".join(part for part in (service, "+".join(ranges), "/".join(sizes), where) if part))
    return ", ".join(said)


def _used(figures: Figures) -> Cell:
    """The share of the money for what requests used."""
    if figures.costs is None:
        return Cell("-")
    used = next(one.share for one in figures.costs.kinds if one.name == "used")
    return Cell(f"{100 * used:.0f} %", used)


def _worst_hour(figures: Figures) -> Cell:
    """The share of the worst hour, and when it began."""
    hour = figures.worst_hour
    if hour is None:
        return Cell("-")
    within = hour.within / hour.requests
    short = units.show_availability(within)
    when = "" if hour.within == hour.requests else f" {clock(figures, hour.at_s, seconds=False)}"
    return Cell(short + when, within, short)


def _met(missed: Sequence[Objective], *, any_set: bool) -> Cell:
    names = ", ".join(objective.name for objective in missed)
    if not missed:
        return Cell("all met" if any_set else "none set", names)
    return Cell(f"misses {names}", names, f"{len(missed)} missed")


def _notes(all_figures: Sequence[Figures], shares: list[str]) -> list[str]:
    notes = [FAILED_NOTE] if any(figures.hides_failures for figures in all_figures) else []
    if shares:
        answered = f"answered ok within {shares[0].removeprefix('≤ ')}"
        notes.append(f"{shares[0]}: share of all requests, failed ones too, that was {answered}.")
        notes.append(f"worst hour: the same share in the hour in which most requests were not {answered}.")
    else:
        notes.append("worst hour: share of the requests that were answered ok, in the hour in which most were not.")
    if any(figures.month.is_binned for figures in all_figures):
        notes.append(
            "Percentiles are within 0.5 %: [month] was changed after these replays were stored (--no-store replays "
            "again, and is exact)."
        )
    return notes
