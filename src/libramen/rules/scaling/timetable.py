"""`timetable`: other floors and ceilings at times of the week, or once, laid over any rule."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from datetime import datetime, time, timedelta
from heapq import merge
from itertools import islice
from operator import itemgetter
from typing import Annotated, Any, Final, Literal, Self

from pydantic import BeforeValidator, Field, PlainSerializer, WithJsonSchema, model_validator

from libramen.base.errors import UnitError
from libramen.base.fields import PositiveReplicas, Replicas, Table
from libramen.base.times import existing, parse_moment, seconds_between

_DAYS: Final = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
_TIME: Final = 'a time of day such as "07:00", or a date and time such as "2031-06-05T17:30"'


def _when(value: Any) -> time | datetime:
    try:
        found = parse_moment(value)
    except UnitError:
        raise UnitError(value, _TIME) from None
    if found.instant is not None:
        return found.instant
    if not found.is_daily:
        raise UnitError(value, _TIME)
    assert found.time_of_day is not None
    return found.time_of_day


class Entry(Table):
    """From a local time on some days of the week, or once: a floor, and perhaps a ceiling, until the next entry."""

    days: tuple[Literal["mon", "tue", "wed", "thu", "fri", "sat", "sun"], ...] = Field(
        _DAYS, min_length=1, description="days of the week, for a time of day (default: all)"
    )
    at: Annotated[
        time | datetime,
        BeforeValidator(_when),
        PlainSerializer(lambda at: at.isoformat(timespec="minutes" if not at.second else "seconds")),
        WithJsonSchema({"type": "string", "description": _TIME}),
    ] = Field(description="local time from which it holds; with a date: once")
    floor: Replicas = Field(description="fewest replicas from then on")
    ceiling: PositiveReplicas | None = Field(None, description="most replicas from then on (default: the rule's)")

    @model_validator(mode="after")
    def _of_one_kind(self) -> Self:
        if isinstance(self.at, datetime) and "days" in self.model_fields_set:
            raise ValueError(f"days: at = {self.at.isoformat()} has a date; allowed: to leave days out")
        return self


def occurrences(entries: Sequence[Entry], start: datetime) -> Iterator[tuple[float, Entry]]:
    """When each entry begins, in order: seconds from the start, entry.

    Those of times of day from the week before the start on and for ever, those with a date once. A local time that a
    change of clocks skips is the next that exists; one that occurs twice is its first. Of two at one time the later in
    the list comes last.
    """
    assert start.tzinfo is not None
    once = []
    for place, entry in enumerate(entries):
        if isinstance(entry.at, datetime):
            instant = entry.at if entry.at.tzinfo else existing(entry.at, start.tzinfo)
            once.append((seconds_between(start, instant), place, entry))
    daily = [(entry.at, place, entry) for place, entry in enumerate(entries) if not isinstance(entry.at, datetime)]
    in_order = merge(
        sorted(once, key=itemgetter(0, 1)), _daily(sorted(daily, key=itemgetter(0, 1)), start), key=itemgetter(0, 1)
    )
    return ((at_s, entry) for at_s, _, entry in in_order)


def _daily(in_order: list[tuple[time, int, Entry]], start: datetime) -> Iterator[tuple[float, int, Entry]]:
    assert start.tzinfo is not None
    day = start.date() - timedelta(days=8)
    while in_order:
        for at, place, entry in in_order:
            if _DAYS[day.weekday()] in entry.days:
                yield seconds_between(start, existing(datetime.combine(day, at), start.tzinfo)), place, entry
        day += timedelta(days=1)


class Limits:
    """Floor and ceiling of a fleet as time goes on.

    Attributes:
        floor, ceiling: from the latest change on.
        next_s: when they change next [s], infinity: never.
    """

    def __init__(self, floor: int, ceiling: int, entries: Sequence[Entry] = (), start: datetime | None = None) -> None:
        self.floor, self.ceiling = floor, ceiling
        self._base = (floor, ceiling)
        self.next_s = math.inf
        self._entries, self._start, self._taken = entries, start, 0
        if entries:
            self._begin()
            self._take_next()
            self.advance(0.0)

    def _begin(self) -> None:
        assert self._start is not None
        self._changes = islice(occurrences(self._entries, self._start), self._taken, None)

    def __getstate__(self) -> dict[str, Any]:
        """All but the iterator, which is begun anew."""
        return {name: value for name, value in vars(self).items() if name != "_changes"}

    def __setstate__(self, state: dict[str, Any]) -> None:
        """A copy, at the same entry."""
        vars(self).update(state)
        if self._entries:
            self._begin()

    def comparable(self, _now_s: float) -> list[object]:
        """What decides its future: see `engine.sameness`."""
        return [self.floor, self.ceiling, self.next_s, self._base, self._entries, self._start]

    def _take_next(self) -> None:
        self.next_s, self._entry = next(self._changes, (math.inf, self._entries[0]))
        self._taken += 1

    def advance(self, now_s: float) -> None:
        """Let all entries begin that are due."""
        while self.next_s <= now_s:
            self.floor = self._entry.floor
            self.ceiling = self._base[1] if self._entry.ceiling is None else self._entry.ceiling
            self._take_next()
