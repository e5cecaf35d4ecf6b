"""The bill of a month: lines that say quantity, unit, unit price and amount, and that add up."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from decimal import Decimal
from fractions import Fraction
from typing import Annotated, Any, Final

from pydantic import Field

from libramen.base import units
from libramen.base.results import Result
from libramen.bill.lines import BillLine, total
from libramen.bill.month import HOURS, Month
from libramen.bill.prices import lines_of
from libramen.bill.usage import Counted, usage_of
from libramen.engine.record import ServiceRun
from libramen.study.plan import Hosting

_STRETCHES: Final = {"minute": 60.0, "hour": 3600.0, "day": 86400.0}
"""Stretches that have a name, each its length [s]."""


@dataclass(frozen=True)
class Bill(Result):
    """What a plan costs in a month of 730 hours."""

    currency: str
    lines: tuple[BillLine, ...]
    note: str
    """How the month was made of the trace."""
    assumes: str
    """The same in a clause: what must be true for the amount to be."""
    used: Annotated[dict[str, Fraction], Field(exclude=True)] = field(default_factory=dict, compare=False, repr=False)
    """What was used in the month, by item as in `usage.Used`, where one service is billed."""

    def to_dict(self) -> dict[str, Any]:
        """As the JSON of the command line; `used` is left out."""
        return super().to_dict() | {"month": float(self.month)}

    @property
    def month(self) -> Decimal:
        """The total: the sum of the rounded lines."""
        return total(self.lines)


def bill(run: ServiceRun, hosting: Hosting, counted: Counted, currency: str = "EUR") -> Bill:
    """What a run costs in a month: what it used, laid over a month, at the prices of its plan.

    Args:
        run: the replay.
        hosting: its tier has the prices.
        counted: what is billed of its requests.
        currency: name of the money, for the reader.
    """
    month = Month(run.span_s, run.start)
    used: dict[str, Fraction] = {}
    for row in usage_of(run, hosting, counted):
        amount = Fraction(int(row.amount[0])) if row.item == "replicas_at_once" else month.of_hours(row.amount)
        used[row.item] = used.get(row.item, Fraction(0)) + amount
    return Bill(currency, lines_of(hosting, used), *_notes(run.span_s, month), used)


def summed(bills: Mapping[str, Bill]) -> Bill:
    """One bill of all services, of which each line says whose it is; of one service its own."""
    first = next(iter(bills.values()))
    if len(bills) == 1:
        return first
    lines = tuple(replace(line, item=f"{name}: {line.item}") for name, bill in bills.items() for line in bill.lines)
    return replace(first, lines=lines, used={})


def _notes(span_s: float, month: Month) -> tuple[str, str]:
    """How the trace became a month, and what that assumes."""
    if month.by_hour_of_week:
        return (
            f"each hour of the week in the trace, laid over a month of {HOURS} h",
            "if all weeks of the month are like the trace",
        )
    times = HOURS * 3600 / span_s
    covered = units.show_duration(span_s)
    stretch = next((name for name, length_s in _STRETCHES.items() if abs(span_s - length_s) < 1), covered)
    return (
        f"the trace of {covered}, {times:.4g} times over, as a month of {HOURS} h: one-off events are scaled too",
        f"if every {stretch} of the month is like the trace, one-off events included",
    )
