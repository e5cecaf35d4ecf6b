"""What several sections say in the same words."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final

from libramen import units
from libramen.report.section import Cell, Section
from libramen.trace.doubts import REMEDY

if TYPE_CHECKING:
    from libramen.study.study import Study
    from libramen.trace.trace import Trace

DOUBT: Final = "Do not trust what follows: this log was busy, and its queueing counts as work"
FROM_CACHE: Final = " (read from cache; --no-cache reads the files again)"


def heading(study: Study, trace: Trace, *more: str) -> Section:
    """The name of the study, and what is replayed."""
    when = "" if trace.start is None else f" from {trace.start:%a %d %b %Y %H:%M} ({study.time_zone})"
    said = f"{len(trace):,} requests over {units.show_duration(trace.span_s)}{when}, demand {trace.demand_in_words}"
    return Section(study.name, (said + (FROM_CACHE if trace.source.from_cache else ""), *more), prose=True)


def doubts_section(doubts: tuple[str, ...]) -> list[Section]:
    """What speaks against the work that was taken from a log, before anything that rests on it; empty: nothing."""
    if not doubts:
        return []
    said = tuple(f"- {doubt[0].upper()}{doubt[1:]}." for doubt in doubts)
    return [Section(DOUBT, (*said, f"What to do: {REMEDY}."), prose=True)]


def fleet_range(least: int | None, most: int | None) -> str:
    """`4`, or `2-20`."""
    if least is None or most is None:
        return "-"
    return str(least) if least == most else f"{least}-{most}"


def clock(trace: Trace, at_s: float) -> str:
    """A time of the trace: local where it is known, else from the start."""
    local = trace.local_time(at_s)
    return f"{units.show_duration(at_s)} after the start" if local is None else f"{local:%a %d %b %H:%M:%S}"


def duration(seconds: float | None) -> Cell:
    """A cell of a duration [s]."""
    return Cell(units.show_duration(seconds), seconds)


def count(n: int) -> Cell:
    """A cell of a count."""
    return Cell(f"{n:,}", n)


def share(of_one: float | None) -> Cell:
    """A cell of a share, from 0 to 1."""
    return Cell(units.show_share(of_one), of_one)


def availability(of_one: float | None) -> Cell:
    """A cell of a share that is near 1."""
    return Cell(units.show_availability(of_one), of_one)
