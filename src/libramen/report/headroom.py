"""The section about headroom: how much more load each plan takes, and what breaks first."""

from __future__ import annotations

from datetime import date
from typing import TYPE_CHECKING, Final

from libramen.base import units
from libramen.load.evidence import Evidence
from libramen.report.columns import data, number, table, words
from libramen.report.comparison import months_said
from libramen.report.section import Cell, Column, Section
from libramen.report.words import BEYOND, demand_sections

if TYPE_CHECKING:
    from libramen.questions.headroom import Headroom
    from libramen.questions.limits import Room

_BEYOND_SAYS: Final = f" {BEYOND.strip()} marks loads above that: there nothing but the model says what happens."


def headroom_sections(found: Headroom, name: str = "headroom") -> list[Section]:
    """A row a plan; `name`: of the study."""
    return [*demand_sections(found.evidence.demand), _rooms(name, found)]


def _rooms(name: str, found: Headroom) -> Section:
    goals = list(dict.fromkeys(name for room in found.plans for name in room.limits))
    repeated = max((len(room.repeats) for room in found.plans), default=0)

    def holds_to(room: Room) -> Cell:
        return Cell(factor_said(room) + (BEYOND if _is_beyond(room, found.evidence) else ""), room.holds_to)

    def limits(room: Room) -> str:
        return ", ".join(f"{name} {_limit(limit)}" for name, limit in room.limits.items())

    def limit(goal: str) -> Column:
        return data(f"limit_{goal}", lambda room: room.limits.get(goal))

    return table(
        (
            words("plan", "plan"),
            number("holds to", "holds_to", holds_to),
            words("breaks first", "breaks", lambda room: Cell(room.breaks or "-", room.breaks)),
            words("because of", "because", lambda room: Cell(room.because or "-", room.because)),
            number("next at", "next_at", form="{:.2f}"),
            words("each holds to", "limits", limits, only_wide=True),
            *map(limit, goals),
            *([words(f"in {repeated} seeds", "repeats", _span_of)] if repeated else []),
            *([] if found.grow is None else _grows(found.grow)),
        ),
        found.plans,
        title=f"{name}: headroom",
        sentences=tuple(_changes(found)),
        prose=True,
        notes=_notes(found),
        name="plans",
    )


def _notes(found: Headroom) -> tuple[str, ...]:
    """How the table is to be read."""
    seen = found.evidence
    bent = [room.plan for room in found.plans if not room.monotone]
    steps = "Times the load of the trace, in steps of 1 %: the last one before the first that misses an objective."
    notes = [f"{steps} -: the objective is met up to four times that load."]
    if any(room.holds_to is None for room in found.plans):
        notes.append(
            "never: missed even at the smallest load that is tried, a hundredth of the trace or twenty requests. Of a "
            "plan that never holds, the limits of other objectives are sought up to four times the load of the trace."
        )
    if bent:
        notes.append(
            "What is missed at some load is met again at a greater one, so take the limits for rough ones: "
            f"{', '.join(bent)}."
        )
    if seen.up_to is not None:
        said = (
            f"The log has seen up to {units.show_rate(seen.logged or 0.0)} (its busiest minute), "
            f"{seen.up_to:.2f} times the busiest minute of this load."
        )
        if any(_is_beyond(room, seen) for room in found.plans):
            said += _BEYOND_SAYS
        notes.insert(0, said)
    looked_to = [room.looked_to for room in found.plans if room.looked_to is not None and room.breaks is None]
    if looked_to:
        notes.append(
            f"Loads of more than {min(looked_to):.3g} times the trace's were not looked at: they have too many "
            "requests, or need more memory than replays may take (--memory)."
        )
    counted_from = [room.counted_from for room in found.plans if room.counted_from is not None]
    if counted_from:
        notes.append(
            f"From {min(counted_from):.3g} times the load on percentiles are within 0.5 %: to keep each request "
            "needs more memory than replays may take (--memory)."
        )
    return (*notes, *months_said((room.plan, room.made_of) for room in found.plans))


def _is_beyond(room: Room, seen: Evidence) -> bool:
    return room.holds_to is not None and seen.is_beyond(room.holds_to)


def _grows(grow: tuple[float, float]) -> list[Column]:
    """What is said of growth."""
    return [
        number(f"months at {_growth(grow)}", "month", lambda room: _months(room, grow)),
        data("month_latest", is_number=False),
        words("until", "date_soonest", _until, if_any=True),
        data("date_latest", lambda room: None if room.dates is None else room.dates[1], is_number=False),
    ]


def _growth(grow: tuple[float, float]) -> str:
    return " to ".join(dict.fromkeys(f"{100 * each:g} %" for each in grow))


def _months(room: Room, grow: tuple[float, float]) -> Cell:
    soonest, latest = room.month, room.month_latest
    if soonest is None or latest is None:
        return Cell("-")
    if room.breaks is not None and not latest:
        return Cell("already past", soonest)
    said = f"{soonest:.1f}" if grow[0] == grow[1] else f"{soonest:.1f} to {latest:.1f}"
    return Cell(said if room.breaks is not None else f"{said} and more", soonest)


def _until(room: Room) -> Cell:
    return Cell("") if room.dates is None else Cell(dates_said(room.dates), room.dates[0])


def dates_said(dates: tuple[str, str]) -> str:
    """`5 Jun 2031`, or two of them."""
    days = [date.fromisoformat(each) for each in dict.fromkeys(dates)]
    return " to ".join(f"{day.day} {day:%b %Y}" for day in days)


def _changes(found: Headroom) -> list[str]:
    """When to change to which plan."""
    steps = found.changes
    if found.grow is None or not steps:
        return []
    said = [room.plan if room.breaks is None else f"{room.plan} suffices for {_lasts(room)}" for room in steps]
    ends = "" if steps[-1].breaks is None else "; then no plan does"
    return [f"At {_growth(found.grow)} more a month, of the cheapest that hold: {', then '.join(said)}{ends}."]


def _lasts(room: Room) -> str:
    """For how long a plan suffices."""
    said = " to ".join(dict.fromkeys(f"{each or 0.0:.1f}" for each in (room.month, room.month_latest)))
    return f"{said} months" + ("" if room.dates is None else f" (until {dates_said(room.dates)})")


def _span_of(room: Room) -> str:
    """The least and the greatest limit of some seeds."""
    some = sorted(limit or 0.0 for limit in room.repeats)
    return f"{some[0]:.2f} to {some[-1]:.2f}" if some[0] else f"never to {some[-1]:.2f}" if some[-1] else "never"


def _limit(factor: float | None) -> str:
    return "-" if factor is None else f"{factor:.2f}" if factor else "never"


def factor_said(room: Room) -> str:
    """Up to which load a plan holds: `1.22`, `never`, `100 and more`."""
    if room.holds_to is None:
        return "never"
    return f"{room.holds_to:.2f}" if room.breaks is not None else f"{room.holds_to:.3g} and more"


def in_words(room: Room) -> str:
    """What was found of a plan, in a sentence as it comes."""
    if room.holds_to is None:
        return f"{room.plan}: never holds, {room.breaks} is missed because of {room.because}"
    if room.breaks is None:
        return f"{room.plan}: holds to {units.show_count(float(f'{room.holds_to:.3g}'))} times the load and more"
    return f"{room.plan}: holds to {room.holds_to:.2f} times the load; then {room.breaks} is missed ({room.because})"
