"""Sections about a search: the verdict, what was replayed and what was not, and the plans that count."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final

from libramen.outcome.story import and_list
from libramen.report.comparison import plans_section
from libramen.report.section import Section

if TYPE_CHECKING:
    from libramen.comparison.search import Search

_MOST: Final = 12
_REASONS: Final = 3
_NEAR: Final = 4


def search_sections(name: str, found: Search, *, front: bool = False) -> list[Section]:
    """What is cheapest, why that is proven, and the plans around it; `front`: those that nobody beats."""
    best, counts = found.cheapest, found.counts
    said = [found.verdict()]
    if found.near:
        names = [one.plan for one in sorted(found.near, key=lambda one: one.bill.month)]
        others = [f"{len(names) - _NEAR:,} more"] if len(names) > _NEAR else []
        said.append(f"Within 2 % of it: {and_list([*names[:_NEAR], *others])}.")
    said.append(
        f"{counts.combinations:,} combinations: {counts.replayed:,} replayed to the end, {counts.stopped:,} stopped "
        f"when they could not win any more, {counts.ruled_out:,} ruled out by what they cost or could do at the most"
        + (f", {counts.same:,} the same as one that reached its ceiling as little" if counts.same else "")
        + (f", {counts.impossible:,} impossible." if counts.impossible else ".")
    )
    reasons = sorted(found.reasons.items(), key=lambda entry: -entry[1])
    said += [f"  {n:,} impossible, such as: {why}" for why, n in reasons[:_REASONS]]
    shown = list(found.front if front else found.figures)
    if len(shown) > _MOST:
        # The cheapest first, and what is closest to it in money: there the choice is.
        of = (found.nearest if best is None else best).bill.month
        shown = sorted(sorted(shown, key=lambda one: abs(one.bill.month - of))[:_MOST], key=lambda one: one.bill.month)
    table = plans_section(shown, best=best)
    which = "Plans that nobody beats in money, p95 and availability at once:" if front else "Replayed to the end:"
    more = len(found.front if front else found.figures) - len(shown)
    rest = [Section(sentences=(f"and {more:,} more: see --json",))] if more else []
    return [Section(name, tuple(said), prose=True), Section(sentences=(which,)), table, *rest]
