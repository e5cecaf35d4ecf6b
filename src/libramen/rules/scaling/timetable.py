"""`timetable`: other floors and ceilings at times of the week, laid over any rule."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from datetime import datetime, time, timedelta
from itertools import islice
from typing import Annotated, Any, Final, Literal

from pydantic import BeforeValidator, Field, PlainSerializer, WithJsonSchema

from libramen.base.errors import UnitError
from libramen.base.fields import PositiveReplicas, Replicas, Table
from libramen.base.times import existing, seconds_between, time_of_day

_DAYS: Final = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
_TIME: Final = 'a time of day such as "07:00"'


def _time_of_day(value: Any) -> time:
    found = time_of_day(value)
    if found is None:
        raise UnitError(value, _TIME)
    return found


class Entry(Table):
    """From a local time on some days of the week: a floor, and perhaps a ceiling, until the next entry."""

    days: tuple[Literal["mon", "tue", "wed", "thu", "fri", "sat", "sun"], ...] = Field(
        _DAYS, min_length=1, description="days of the week (default: all)"
    )
    at: Annotated[
        time,
        BeforeValidator(_time_of_day),
        PlainSerializer(lambda at: at.isoformat("minutes" if not at.second else "seconds")),
        WithJsonSchema({"type": "string", "description": _TIME}),
    ] = Field(description="local time from which it holds")
    floor: Replicas = Field(description="fewest replicas from then on")
    ceiling: PositiveReplicas | None = Field(None, description="most replicas from then on (default: the rule's)")


def occurrences(entries: Sequence[Entry], start: datetime) -> Iterator[tuple[float, Entry]]:
    """When each entry begins, from the week before the start on and for ever: seconds from the start, entry.

    A local time that a change of clocks skips is the next that exists; one that occurs twice is its first.
    """
    in_order = sorted(entries, key=lambda entry: entry.at)
    assert start.tzinfo is not None
    day = start.date() - timedelta(days=8)
    while True:
        for entry in in_order:
            if _DAYS[day.weekday()] in entry.days:
                wall = datetime.combine(day, entry.at)
                yield seconds_between(start, existing(wall, start.tzinfo)), entry
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

    def standing(self, _now_s: float) -> list[object]:
        """What it would go on with: see `engine.sameness`."""
        return [self.floor, self.ceiling, self.next_s, self._base, self._entries, self._start]

    def _take_next(self) -> None:
        self.next_s, self._entry = next(self._changes)
        self._taken += 1

    def advance(self, now_s: float) -> None:
        """Let all entries begin that are due."""
        while self.next_s <= now_s:
            self.floor = self._entry.floor
            self.ceiling = self._base[1] if self._entry.ceiling is None else self._entry.ceiling
            self._take_next()
