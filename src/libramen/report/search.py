"""Sections about a search: the verdict, what was replayed and what was not, and the plans that count."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from dataclasses import replace
from typing import Final

from libramen.outcome.figures import Figures
from libramen.questions.search import OnlyAtStart, Search
from libramen.report.columns import availabilities, money, number, table, words
from libramen.report.comparison import months_said, plans_section
from libramen.report.prose import and_list
from libramen.report.repeats import repeats_sections
from libramen.report.section import Cell, Section
from libramen.report.story import latency_cell
from libramen.report.words import beyond, demand_sections

_MOST: Final = 12
_REASONS: Final = 3
_NEAR: Final = 4


def search_sections(name: str, found: Search, *, front: bool = False) -> list[Section]:
    """What is cheapest, why that is proven, and the plans around it, for each load.

    Args:
        name: of the study.
        found: the search.
        front: show those that nobody beats.
    """
    sections = [] if found.evidence is None else demand_sections(found.evidence.demand)
    if len(found.scenarios) > 1:
        sections.append(loads_section(name, found))
    for one in found.scenarios:
        load = f": {one.scale:g} times the load" if len(found.scenarios) > 1 else ""
        sections += _sections(f"{name}{load}", one, front=front)
    return sections


def loads_section(name: str, found: Search) -> Section:
    """The cheapest that holds at each load."""

    def shown(one: Search) -> Figures:
        return one.nearest if one.cheapest is None else one.cheapest

    def cheapest(one: Search) -> Cell:
        label = one.label(shown(one))
        return Cell(f"none; {label} comes nearest") if one.cheapest is None else Cell(label, label)

    def p95(one: Search) -> Cell:
        month = shown(one).month
        return latency_cell(month.latency_s["p95"], month.availability)

    currency = found.figures[0].bill.currency
    return table(
        (
            number("times the load", "scale", form="{:g}"),
            words("cheapest that meets all", "cheapest", cheapest),
            money(f"{currency} a month", "month", currency, lambda one: shown(one).bill.month),
            availabilities("available", "availability", lambda one: shown(one).month.availability),
            number("p95 (ok)", "p95", p95, unit="s"),
            number("replayed to the end", "replayed", lambda one: one.counts.replayed, form="{}"),
        ),
        found.scenarios,
        title=name,
        sentences=("The cheapest that holds at each load: " + "; ".join(winners(found)) + ".",),
        prose=True,
        name="loads",
    )


def winners(found: Search) -> Iterator[str]:
    """Who wins at which loads; loads next to each other together."""
    named = [(one.scale, "none" if one.cheapest is None else one.label(one.cheapest)) for one in found.scenarios]
    for winner, some in itertools.groupby(named, key=lambda entry: entry[1]):
        yield f"{winner} at {and_list([f'{scale:g}' for scale, _ in some])}"


def only_at_start(found: OnlyAtStart) -> str:
    """What one should know of a key that was varied."""
    return (
        f"{found.key} is only the number at the start of a plan that scales. To vary the fewest it keeps, vary "
        f"{found.floor}."
    )


def _sections(name: str, found: Search, *, front: bool) -> list[Section]:
    best = found.cheapest
    shown = list(found.front if front else found.figures)
    if len(shown) > _MOST:
        # The cheapest first, and what is closest to it in money: there the choice is.
        of = (found.nearest if best is None else best).bill.month
        shown = sorted(sorted(shown, key=lambda one: abs(one.bill.month - of))[:_MOST], key=lambda one: one.bill.month)
    # By what was varied alone: what they have in common would only make them long.
    rest_of_them = [one for one in (found.front if front else found.figures) if not any(one is each for each in shown)]
    named = {id(one): replace(one, plan=found.label(one)) for one in (*shown, *rest_of_them)}
    table = plans_section(list(named.values()), best=None if best is None else named.get(id(best)))
    table = replace(table, rows=table.rows[: len(shown)], more=table.rows[len(shown) :])
    which = "Plans that nobody beats in money, p95 and availability at once:" if front else "Replayed to the end:"
    more = len(found.front if front else found.figures) - len(shown)
    rest = [Section(sentences=(f"and {more:,} more: see --json or --csv",))] if more else []
    if found.repeats is not None:
        rest += repeats_sections(found.repeats)
    return [Section(name, tuple(_said(found)), prose=True), Section(sentences=(which,)), table, *rest]


def _said(found: Search) -> Iterator[str]:
    counts = found.counts
    yield found.verdict()
    if found.near:
        names = [one.plan for one in sorted(found.near, key=lambda one: one.bill.month)]
        others = [f"{len(names) - _NEAR:,} more"] if len(names) > _NEAR else []
        yield f"Within 2 % of it: {and_list([*names[:_NEAR], *others])}."
    parts = [
        (counts.replayed, "replayed to the end"),
        (counts.stopped, "stopped when they could not win any more"),
        (counts.same, "differing from a replayed one only in prices or in a ceiling that was not reached"),
        (counts.ruled_out, "ruled out by what they cost at the least or can do at the most"),
        (counts.impossible, "impossible"),
    ]
    yield f"{counts.combinations:,} combinations: " + ", ".join(f"{n:,} {what}" for n, what in parts if n) + "."
    reasons = sorted(found.reasons.items(), key=lambda entry: -entry[1])
    for why, n in reasons[:_REASONS]:
        yield f"  {n:,} impossible, such as: {why}"
    yield from found.notes
    if found.figures:
        yield from months_said((found.label(figures), figures.bill.note) for figures in found.figures)
    if found.evidence is not None and (said := beyond(found.evidence)):
        yield said
