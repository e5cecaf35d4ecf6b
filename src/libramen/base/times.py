"""Times: instants as a replay compares them, local times, and times as a study writes them.

A study writes `"12:00"`, `"2031-06-07T12:00"`, `"6h"` or `"quietest 30m"`; all of them become seconds from the start
of a trace once the trace is known.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta, tzinfo
from typing import Annotated, Final, Literal, Protocol
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

import numpy as np
from pydantic import BeforeValidator, Field, PlainSerializer, WithJsonSchema

from libramen.base import units
from libramen.base.errors import StudyError, UnitError

MONTH_H: Final = 730
"""A month, in hours: a twelfth of 365 days."""
EPSILON_S: Final = 1e-9
"""Instants less than this apart count as one [s], up to `EXACT_S`."""
EXACT_S: Final = 90 * 86400.0
"""Beyond this two float64 that follow each other are further apart than `EPSILON_S`."""


def tolerance_s(at_s: float) -> float:
    """How little apart two instants are that count as one: `EPSILON_S`, beyond 90 days two steps of float64 [s].

    Without the latter an event at 1e8 s would never be due: 1e8 + 1e-9 is 1e8.
    """
    return 2 * math.ulp(at_s) if EXACT_S < at_s < math.inf else EPSILON_S


WEEKDAYS: Final = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
"""As a study writes them, in the order of `datetime.weekday`."""
MOMENT = (
    'a time of day such as "12:00" or "Wed 17:30", an ISO time, an offset from the start such as "6h", "quietest 30m", '
    '"busiest 30m", or "peak"'
)
_TIME_OF_DAY = re.compile(r"\d{1,2}:\d{2}(:\d{2})?")
_MONTHS: Final = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
_DAY_AND_TIME = re.compile(
    rf"(?P<weekday>{'|'.join(WEEKDAYS)})(?: (?P<day>\d{{1,2}}) (?P<month>{'|'.join(_MONTHS)}))?"
    r" (?P<time>\d{1,2}:\d{2}(?::\d{2})?)",
    re.IGNORECASE,
)
"""As outputs write it: `Wed 17:30`, or `Wed 05 Jun 17:30:00`."""
PEAK_S: Final = 60.0
"""How long the peak is: the busiest minute [s]."""


Days = Annotated[tuple[Literal["mon", "tue", "wed", "thu", "fri", "sat", "sun"], ...], Field(min_length=1)]
"""A field of a table: weekdays."""


class Timeline(Protocol):
    """What must be known of a trace to place a moment on it."""

    @property
    def at_s(self) -> np.ndarray:
        """Arrivals [s from the start], ascending."""

    @property
    def span_s(self) -> float:
        """The time that it covers [s]."""

    @property
    def start(self) -> datetime | None:
        """The instant 0, None: not known."""


@dataclass(frozen=True)
class Moment:
    """A time as written, to be resolved against a trace."""

    text: str
    offset_s: float | None = None
    time_of_day: time | None = None
    instant: datetime | None = None
    quiet_s: float | None = None
    busy_s: float | None = None
    weekday: int | None = None
    day: tuple[int, int] | None = None
    is_peak: bool = False

    @property
    def is_daily(self) -> bool:
        """Whether it is a time of any day."""
        return self.time_of_day is not None and self.weekday is None

    @property
    def needs_arrivals(self) -> bool:
        """Whether only a whole trace can tell when it is."""
        return self.quiet_s is not None or self.busy_s is not None or self.is_peak

    def offsets(self, trace: Timeline, *, daily: bool, where: str, days: Sequence[str] | None = None) -> list[float]:
        """When it is, in seconds from the start of the trace.

        Args:
            trace: arrivals, span and start.
            daily: every day of the trace for a time of day, instead of the first one.
            days: those weekdays of the trace for a time of day.
            where: the table and key, for messages.

        Raises:
            StudyError: it does not occur in the trace, or needs a start that the trace has not.
        """
        if days and self.time_of_day is None:
            raise StudyError(f'{where} = "{self.text}": days needs a time of day; allowed: such as "12:00"')
        if self.offset_s is not None:
            found = [self.offset_s]
        elif self.quiet_s is not None:
            found = [quietest(trace, self.quiet_s, where)]
        elif self.busy_s is not None:
            found = [busiest(trace, self.busy_s)]
        elif self.is_peak:
            found = [busiest(trace, PEAK_S)]
        elif trace.start is None:
            raise StudyError(
                f'{where} = "{self.text}" needs to know when the trace starts, and this trace does not say; '
                'allowed: an offset from the start such as "6h"'
            )
        elif self.instant is not None:
            instant = self.instant
            if instant.tzinfo is None:
                instant = existing(instant, _zone_of(trace.start))
            found = [seconds_between(trace.start, instant)]
        else:
            found = list(self._times_of_day(trace, trace.start))
            if days:
                times = [(at_s, local_time(trace.start, at_s)) for at_s in found]
                found = [at_s for at_s, when in times if when is not None and WEEKDAYS[when.weekday()] in days]
        found = [offset for offset in found if 0 <= offset < trace.span_s]
        if not found:
            raise StudyError(f'{where} = "{self.text}" is not in the trace, which covers {_covered(trace)}')
        return found if daily or days else found[:1]

    def lies_at(self, trace: Timeline, where: str) -> float:
        """When it is, in seconds from the start of the trace; before 0 or beyond its end too where it says so.

        Raises:
            StudyError: a time of day is not in the trace, or it needs a start that the trace has not.
        """
        if self.offset_s is not None:
            return self.offset_s
        if self.instant is None or trace.start is None:
            return self.offsets(trace, daily=False, where=where)[0]
        zoned = self.instant if self.instant.tzinfo else existing(self.instant, _zone_of(trace.start))
        return seconds_between(trace.start, zoned)

    def _times_of_day(self, trace: Timeline, start: datetime) -> Iterator[float]:
        assert self.time_of_day is not None
        zone = _zone_of(start)
        day = start.date()
        while True:
            offset_s = seconds_between(start, existing(datetime.combine(day, self.time_of_day), zone))
            if offset_s >= trace.span_s:
                return
            if self.weekday in {None, day.weekday()} and self.day in {None, (day.month, day.day)}:
                yield offset_s
            day = date.fromordinal(day.toordinal() + 1)


def time_of_day(value: object) -> time | None:
    """A local time of day as a study writes it, `"07:00"`; None: it is none."""
    try:
        found = parse_moment(value)
    except UnitError:
        return None
    return found.time_of_day if found.is_daily else None


def parse_moment(value: object) -> Moment:
    """Read a time as a study writes it.

    Raises:
        UnitError: it is none of these kinds.
    """
    if isinstance(value, Moment):
        return value
    if isinstance(value, datetime):  # TOML has dates of its own
        return Moment(value.isoformat(), instant=value)
    if isinstance(value, time):
        return Moment(value.isoformat(), time_of_day=value)
    try:
        if isinstance(value, str) and value.startswith("quietest "):
            length_s = units.parse_duration(value.removeprefix("quietest "))
            if length_s > 0:
                return Moment(value, quiet_s=length_s)
        elif isinstance(value, str) and value.startswith("busiest "):
            length_s = units.parse_duration(value.removeprefix("busiest "))
            if length_s > 0:
                return Moment(value, busy_s=length_s)
        elif value == "peak":
            return Moment(value, is_peak=True)
        elif isinstance(value, str) and _TIME_OF_DAY.fullmatch(value):
            return Moment(value, time_of_day=_time(value))
        elif isinstance(value, str) and (told := _DAY_AND_TIME.fullmatch(value)):
            day = None
            if told["day"] is not None:
                day = _MONTHS.index(told["month"].lower()) + 1, int(told["day"])
            return Moment(
                value, time_of_day=_time(told["time"]), weekday=WEEKDAYS.index(told["weekday"].lower()), day=day
            )
        elif isinstance(value, str) and re.match(r"\d{4}-\d{2}-\d{2}[T ]", value):
            return Moment(value, instant=datetime.fromisoformat(value))
        else:
            return Moment(str(value), offset_s=units.parse_duration(value))
    except ValueError:
        pass
    raise UnitError(value, MOMENT)


def _time(text: str) -> time:
    return time.fromisoformat(text.zfill(len(text) + (text[1] == ":")))


At = Annotated[
    Moment,
    BeforeValidator(parse_moment),
    PlainSerializer(lambda moment: moment.text),
    WithJsonSchema(
        {
            "anyOf": [{"type": "number", "minimum": 0}, {"type": "string", "pattern": r"[0-9]|^\s*peak\s*$"}],
            "description": MOMENT,
        }
    ),
]


def daily_edges(
    begin: time, end: time, start: datetime, span_s: float, on: Callable[[date], bool] = lambda _day: True
) -> list[float]:
    """When a local time of day is that lasts from `begin` to `end`, every day: from, to, from, to, ... [s].

    Half-open; it may cross midnight. Times are seconds from the start of a trace, ascending, up to its end; `on` says
    on which days it begins.
    """
    zone, day = _zone_of(start), start.date() - timedelta(days=1)
    edges: list[float] = []
    while True:
        last = day + timedelta(days=end <= begin)
        from_s = seconds_between(start, existing(datetime.combine(day, begin), zone))
        to_s = seconds_between(start, existing(datetime.combine(last, end), zone))
        if from_s > span_s:
            return edges
        if to_s > max(0.0, from_s) and on(day):
            edges += [max(0.0, from_s), to_s]
        day += timedelta(days=1)


def quietest(trace: Timeline, length_s: float, where: str) -> float:
    """Start of the stretch with the fewest arrivals: whole-minute starts, the earliest among equals.

    Raises:
        StudyError: the trace is shorter than that.
    """
    last_start = trace.span_s - length_s
    if last_start < -1e-9:
        raise StudyError(f"{where} asks for {units.show_duration(length_s)}, and the trace covers {_covered(trace)}")
    starts = np.arange(int(last_start / 60 + 1e-9) + 1) * 60.0
    arrivals = np.searchsorted(trace.at_s, starts + length_s) - np.searchsorted(trace.at_s, starts)
    return float(starts[np.argmin(arrivals)])


def busiest(trace: Timeline, length_s: float) -> float:
    """Start of the stretch with the most arrivals: whole-minute starts, the earliest among equals."""
    starts = np.arange(max(1, int((trace.span_s - length_s) / 60 + 1e-9) + 1)) * 60.0
    arrivals = np.searchsorted(trace.at_s, starts + length_s) - np.searchsorted(trace.at_s, starts)
    return float(starts[np.argmax(arrivals)])


def existing(wall: datetime, zone: tzinfo) -> datetime:
    """The instant of a local time; one that a change of clocks skips is the next that exists.

    A local time that occurs twice is its first occurrence.
    """
    instant = wall.replace(tzinfo=zone)
    if instant.astimezone(UTC).astimezone(zone).replace(tzinfo=None) == wall:
        return instant
    # In a gap, fold = 1 reads the time with the later offset, which puts it before the change.
    low = wall.replace(tzinfo=zone, fold=1).astimezone(UTC)
    high = instant.astimezone(UTC)
    after = high.astimezone(zone).utcoffset()
    while high - low > timedelta(seconds=1):
        middle = low + (high - low) // 2
        if middle.astimezone(zone).utcoffset() == after:
            high = middle
        else:
            low = middle
    return high.replace(microsecond=0).astimezone(zone)


def seconds_between(earlier: datetime, later: datetime) -> float:
    """Real seconds: two times of one zone would be subtracted by the clock on the wall."""
    return (later.astimezone(UTC) - earlier.astimezone(UTC)).total_seconds()


def local_time(start: datetime | None, offset_s: float) -> datetime | None:
    """The local time at an offset from a start, None where the start is not known."""
    if start is None:
        return None
    return (start.astimezone(UTC) + timedelta(seconds=offset_s)).astimezone(start.tzinfo)


def into_hour_s(start: datetime | None) -> float:
    """How far into an hour of the clock an instant is [s]; None: 0."""
    return 0.0 if start is None else start.minute * 60 + start.second + start.microsecond / 1e6


def parse_zone(value: object) -> str:
    """The name of a time zone that exists.

    Raises:
        UnitError: there is no such zone.
    """
    try:
        if isinstance(value, str) and value:
            ZoneInfo(value)
            return value
    except (ZoneInfoNotFoundError, ValueError, OSError):
        pass
    raise UnitError(value, 'a time zone such as "Europe/Lisbon" or "UTC"')


ZoneName = Annotated[str, BeforeValidator(parse_zone), WithJsonSchema({"type": "string"})]


def _zone_of(start: datetime) -> tzinfo:
    assert start.tzinfo is not None
    return start.tzinfo


def _covered(trace: Timeline) -> str:
    span = units.show_duration(trace.span_s)
    if trace.start is None:
        return span
    end = (trace.start.astimezone(UTC) + timedelta(seconds=trace.span_s)).astimezone(trace.start.tzinfo)
    return f"{span}, from {trace.start:%Y-%m-%d %H:%M} to {end:%Y-%m-%d %H:%M}"
