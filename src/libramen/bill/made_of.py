"""What a month is made of, in half a sentence."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime
from typing import Final

from libramen.base import units
from libramen.base.times import WEEKDAYS, local_time
from libramen.bill.month import Day, Month
from libramen.prices.lines import HOURS
from libramen.study.terms import OTHER

_STRETCHES: Final = {"minute": 60.0, "hour": 3600.0, "day": 86400.0}
"""Stretches that have a name, each its length [s]."""
_NAMES: Final = ("Mondays", "Tuesdays", "Wednesdays", "Thursdays", "Fridays", "Saturdays", "Sundays")
_MANY: Final = 2


@dataclass(frozen=True)
class Single:
    """A release or a fault with a single instant: what, and when [s]."""

    kind: str
    at_s: float


def made_of(
    month: Month, start: datetime | None, singles: Sequence[Single], *, once: bool, why_not: str = ""
) -> tuple[str, str]:
    """What the month is made of, and the same in a clause: what must be true for it.

    Args:
        month: how the trace becomes a month.
        start: the instant 0 as a real time, None: not known.
        singles: releases and faults with a single instant, in order of time.
        once: whether they happen once; else as often as their hour.
        why_not: why they do not, where the study wants it.
    """
    note, assumes, stretch = _alone(month)
    if not singles:
        return note, assumes
    named = _named(singles, start)
    if once:
        them = "it" if len(singles) == 1 else "them"
        return f"{note}: {named} once, the {stretch} without {them} for the rest", f"{assumes}, with {named} once"
    often = "as often as its hour" if len(singles) == 1 else "as often as their hours"
    return f"{note}: {named} {often}{why_not}", f"{assumes}, {named} included"


def _alone(month: Month) -> tuple[str, str, str]:
    """The same without events, and what the trace is called."""
    if month.kind == "days":
        *others, last = map(_times, month.days)
        days = f"{', '.join(others)} and {last}" if others else last
        return days, f"if the month is {days}", "trace"
    if month.kind == "week":
        return "each hour of the week as in the trace", "if all weeks of the month are like the trace", "trace"
    covered = units.show_duration(month.span_s)
    stretch = next((name for name, length_s in _STRETCHES.items() if abs(month.span_s - length_s) < 1), None)
    times = HOURS * 3600 / month.span_s
    often = f"{times:,.0f}" if times >= 1000 else f"{times:.4g}"
    told = covered if stretch is None else stretch
    return (
        f"the trace of {covered}, {often} times over",
        f"if every {told} of the month is like the trace",
        stretch or "trace",
    )


def _times(day: Day) -> str:
    if day.name in WEEKDAYS:
        name = _NAMES[WEEKDAYS.index(day.name)]
    elif len(day.dates) == 1:
        name = _date(day.dates[0])
    else:
        name = "all other days" if day.name == OTHER else day.name
    return f"{name} once" if day.times == 1 else f"{name} {day.times:g} times"


def _date(day: date) -> str:
    return f"{day.day} {day:%B}"


def _named(singles: Sequence[Single], start: datetime | None) -> str:
    if len(singles) > _MANY:
        return f"each of the {len(singles)} single events"
    return " and ".join(f"the {single.kind} at {_when(single.at_s, start)}" for single in singles)


def _when(at_s: float, start: datetime | None) -> str:
    local = local_time(start, at_s)
    if local is None:
        return units.show_duration(at_s)
    return "noon" if (local.hour, local.minute) == (12, 0) else f"{local:%H:%M}"
