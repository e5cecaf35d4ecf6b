"""The section about money: where it goes."""

from __future__ import annotations

from typing import Final

from libramen.base import units
from libramen.bill.costs import Cost, Costs
from libramen.report.columns import data, money, number, table, words
from libramen.report.section import Cell, Section

KIND_NAMES: Final = {
    "used": "used by requests",
    "idle": "ready, and idle",
    "starting": "starting, or dead",
    "leaving": "draining, and rounded up",
    "committed": "committed, not used",
    "standing": "standing charges",
}
_ROUTES_SHOWN: Final = 8
_NOTABLE: Final = 0.05
_MORE: Final = 2.0
"""So many times its share of the attempts a route must cost, to be told."""


def costs_section(costs: Costs) -> Section:
    """What is paid for, and the routes that cost most."""
    routes = sorted((one for one in costs.routes if one.requests), key=lambda one: -one.amount)
    routes = routes if len(routes) > 1 else []
    rows = [("kind", KIND_NAMES[one.name], one) for one in costs.kinds if one.amount]
    rows += [("route", f"  {one.name}", one) for one in routes[:_ROUTES_SHOWN]]
    several = costs.services if counted(costs) == "attempts" else ()
    rows += [("service", f"{one.name} (all of it)", one) for one in several]
    left = [("route", f"  {one.name}", one) for one in routes[_ROUTES_SHOWN:]]
    left += [("hour", one.name, one) for one in costs.hours]
    more = len(routes) - _ROUTES_SHOWN
    notes = [f"and {more} more routes: see --json or --csv"] if more > 0 else []
    if several:
        notes.append("attempts: what the balancers of all services got, with calls between services and repeats.")
    return table(
        (
            words("where the money goes", "name", lambda of: Cell(of[1], of[2].name)),
            data("by", lambda of: of[0], is_number=False),
            money(f"{costs.currency}/month", "amount", costs.currency, lambda of: of[2].amount),
            number("of the bill", "share", lambda of: Cell(percent(of[2].share), of[2].share), unit="share"),
            number(f"of the {counted(costs)}", "requests", lambda of: _requests(of[2]), unit="share"),
        ),
        (*rows, *left),
        most=len(rows),
        name="costs",
        notes=(*(f"{sentence[0].upper()}{sentence[1:]}." for sentence in said(costs)), *notes),
    )


def _requests(cost: Cost) -> Cell:
    return Cell("" if cost.requests is None else percent(cost.requests), cost.requests)


def counted(costs: Costs) -> str:
    """What shares of use are of: a request to one service is an attempt at several, and each is counted."""
    return "requests" if len(costs.services) == 1 else "attempts"


def percent(share: float) -> str:
    """A share of money or of requests, to a tenth of a percent."""
    return f"{100 * share:.1f} %"


def said(costs: Costs) -> list[str]:
    """What stands out: the nights and week-ends, what is idle, and a route that costs more than its share."""
    told = []
    if costs.quiet is not None and costs.quiet.amount:
        when = "nights and week-ends" if costs.quiet.with_week_ends else "nights (22:00 to 06:00)"
        amount = units.about_money(costs.quiet.amount, costs.currency)
        answers = percent(costs.quiet.requests)
        told.append(f"{when} cost {amount} and get {answers} of the {counted(costs)}")
    used = [one for one in costs.routes if one.requests is not None]
    whole = sum(float(one.amount) for one in used)
    dear = [
        one for one in used
        if whole and float(one.amount) / whole >= max(_NOTABLE, _MORE * (one.requests or 0.0)) and one.share >= 0.01
    ]  # fmt: skip
    for one in sorted(dear, key=lambda one: -one.amount)[:2]:
        of_money, of_attempts = percent(float(one.amount) / whole), percent(one.requests or 0.0)
        told.append(f"{one.name} is {of_attempts} of the {counted(costs)} and {of_money} of the money that is used")
    return told


def in_short(costs: Costs) -> str:
    """What of the money is used, in a few words: `38 % used, 51 % idle`."""
    kinds = sorted((one for one in costs.kinds if one.share >= 0.005), key=lambda one: -one.share)
    return ", ".join(f"{percent(one.share)} {one.name}" for one in kinds[:3])
