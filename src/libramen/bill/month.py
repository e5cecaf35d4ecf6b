"""The month: how often each hour of the clock of a trace stands in it."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from fractions import Fraction
from functools import cached_property
from typing import Final

import numpy as np

from libramen.base.errors import StudyError
from libramen.base.times import WEEKDAYS, into_hour_s
from libramen.prices.lines import HOURS
from libramen.study.terms import OTHER, DayTimes, MonthTable

WEEK_S: Final = 7 * 86400.0
LONGEST_WITH_EVENTS_S: Final = 4 * WEEK_S
"""Up to this long a trace may be, for single events to be put once into a month."""
_SEEN_H: Final = 1e-9


class Weights:
    """How often each hour of the clock of a replay stands in the month.

    Args:
        of_hour: of each hour since the start, the first and the last perhaps not whole.
    """

    def __init__(self, of_hour: Sequence[Fraction]) -> None:
        self.of_hour = tuple(of_hour)
        hours: dict[Fraction, list[int]] = {}
        for hour, weight in enumerate(self.of_hour):
            hours.setdefault(weight, []).append(hour)
        self._alike = [(weight, np.array(there)) for weight, there in hours.items()]

    @cached_property
    def floats(self) -> np.ndarray:
        """The same as numbers: float64 (hours,)."""
        return np.array([float(weight) for weight in self.of_hour])

    @property
    def is_even(self) -> bool:
        """Whether all hours stand in it alike."""
        return len(self._alike) == 1

    def folded(self, amount: np.ndarray) -> np.ndarray:
        """Amounts by hour along the last axis, as many as there are hours: what came at the very end is of the last."""
        n, have = len(self.of_hour), amount.shape[-1]
        if have == n:
            return amount
        if have < n:
            return np.concatenate([amount, np.zeros((*amount.shape[:-1], n - have), amount.dtype)], axis=-1)
        return np.concatenate([amount[..., : n - 1], amount[..., n - 1 :].sum(axis=-1, keepdims=True)], axis=-1)

    def of_hours(self, amount: np.ndarray) -> Fraction:
        """The month's total of what there was in each hour: float64 (hours,)."""
        there = self.folded(np.asarray(amount))
        return sum((weight * Fraction(math.fsum(there[hours])) for weight, hours in self._alike if weight), Fraction(0))

    def of_rows(self, amounts: np.ndarray) -> list[Fraction]:
        """The same of each row: float64 (k, hours)."""
        there = self.folded(np.asarray(amounts))
        totals = [(weight, there[:, hours].sum(axis=1).tolist()) for weight, hours in self._alike if weight]
        return [sum((weight * Fraction(row[k]) for weight, row in totals), Fraction(0)) for k in range(there.shape[0])]

    def over(self, counts: np.ndarray) -> np.ndarray:
        """The month's total of counts by hour along the first axis, as floats: (hours, ...) -> (...)."""
        there = np.moveaxis(self.folded(np.moveaxis(np.asarray(counts), 0, -1)), -1, 0)
        total: np.ndarray = np.tensordot(self.floats, there.astype(np.float64), axes=(0, 0))
        return total


class Rough(Weights):
    """The same in floats, for many months of which none is a bill.

    Args:
        of_hour: float64 (hours,).
    """

    def __init__(self, of_hour: np.ndarray) -> None:
        self.__dict__["floats"] = of_hour
        self.of_hour = tuple(of_hour)

    @property
    def is_even(self) -> bool:
        """Nobody asks."""
        return False

    def of_hours(self, amount: np.ndarray) -> Fraction:
        """The month's total of what there was in each hour: float64 (hours,)."""
        return Fraction(max(0.0, float(self.floats @ self.folded(np.asarray(amount)))))

    def of_rows(self, amounts: np.ndarray) -> list[Fraction]:
        """The same of each row: float64 (k, hours)."""
        return [Fraction(max(0.0, one)) for one in (self.folded(np.asarray(amounts)) @ self.floats).tolist()]


@dataclass(frozen=True)
class Day:
    """A part of a month by days.

    Attributes:
        name: a date, a weekday, or "other".
        times: how many such days the month has.
        dates: of the trace, that it stands for.
    """

    name: str
    times: float
    dates: tuple[date, ...]


@dataclass(frozen=True)
class Month:
    """How a trace becomes a month.

    Attributes:
        span_s: the time that the trace covers.
        weights: of its hours, events as often as their hour.
        kind: "alike", all hours; "week", by the hour of the week; "days", as the study says.
        days: of the third.
        length_h: how much of each hour is covered [h].
    """

    span_s: float
    weights: Weights
    kind: str
    days: tuple[Day, ...] = ()
    length_h: tuple[Fraction, ...] = ()

    @property
    def split(self) -> tuple[Weights, Weights]:
        """Where events happen once: of the hours of the replay with them, and of the one without."""
        hours = list(zip(self.weights.of_hour, self.length_h, strict=True))
        with_events = [Fraction(weight > 0) for weight, _ in hours]
        without = [max(Fraction(0), weight - 1) for weight, _ in hours]
        covered = sum(
            (length * (one + rest) for (_, length), one, rest in zip(hours, with_events, without, strict=True)),
            Fraction(0),
        )
        scale = HOURS / covered  # 1, unless some hour stands in the month less than once
        return Weights([one * scale for one in with_events]), Weights([rest * scale for rest in without])


def clock_hours(span_s: float, start: datetime | None) -> np.ndarray:
    """Edges of the hours of the clock in a trace [s]: 0, the full hours, the end."""
    inner = np.arange(3600 - into_hour_s(start), span_s, 3600.0)
    return np.concatenate([[0.0], inner[inner > 0], [span_s]])


def month_of(
    span_s: float,
    start: datetime | None,
    table: MonthTable | None = None,
    gaps: Iterable[tuple[float, float]] = (),
) -> Month:
    """How a trace becomes a month.

    Args:
        span_s: the time that it covers.
        start: the instant 0 as a real time, None: not known.
        table: what the study says of it.
        gaps: between its files, from when to when [s]: hours of the clock that lie within one are not covered.

    Raises:
        StudyError: a day is not in the trace, or nothing is left of it.
    """
    edges_s = clock_hours(span_s, start)
    length_h = [Fraction(float(width)) / 3600 for width in np.diff(edges_s)]
    for from_s, to_s in gaps:
        inside = np.flatnonzero((edges_s[:-1] >= from_s) & (edges_s[1:] <= to_s)).tolist()
        for hour in inside:
            length_h[hour] = Fraction(0)
    if table is not None and table.days:
        if start is None:
            raise StudyError(
                "[month] days: this trace does not say when it starts; allowed: to leave them out, or a trace with "
                "dates"
            )
        local = _local(edges_s, start)
        days = _days(table.days, [when.date() for when in local], length_h)
        raw = _of_days(days, local, length_h)
        kind = "days"
    elif span_s >= WEEK_S - 1e-9:
        raw, days, kind = _of_week(edges_s, start, length_h), (), "week"
    else:
        raw, days, kind = [Fraction(length > 0) for length in length_h], (), "alike"
    covered = sum((weight * length for weight, length in zip(raw, length_h, strict=True)), Fraction(0))
    if not covered:
        raise StudyError("[month]: nothing of the trace is left in it; allowed: times above 0 for a day that it has")
    return Month(span_s, Weights([weight * HOURS / covered for weight in raw]), kind, days, tuple(length_h))


def _local(edges_s: np.ndarray, start: datetime) -> list[datetime]:
    """The local time in the middle of each hour."""
    utc = start.astimezone(UTC)
    middles = ((edges_s[:-1] + edges_s[1:]) / 2).tolist()
    return [(utc + timedelta(seconds=middle)).astimezone(start.tzinfo) for middle in middles]


def _of_week(edges_s: np.ndarray, start: datetime | None, length_h: list[Fraction]) -> list[Fraction]:
    """Each hour of the week once, however often the trace has it."""
    if start is None:
        labels = ((edges_s[:-1] // 3600).astype(np.int64) % 168).tolist()
    else:
        labels = [when.weekday() * 24 + when.hour for when in _local(edges_s, start)]
    return _once_each(labels, length_h)


def _once_each(labels: Sequence[object], length_h: Sequence[Fraction]) -> list[Fraction]:
    """One over how much of each hour's label is covered [1/h]."""
    covered: dict[object, Fraction] = {}
    for label, length in zip(labels, length_h, strict=True):
        covered[label] = covered.get(label, Fraction(0)) + length
    return [
        1 / covered[label] if length and covered[label] > _SEEN_H else Fraction(0)
        for label, length in zip(labels, length_h, strict=True)
    ]


def _days(entries: Iterable[DayTimes], dates: list[date], length_h: list[Fraction]) -> tuple[Day, ...]:
    """Each entry with the dates of the trace that it stands for; a date goes before its weekday, that before other.

    Raises:
        StudyError: an entry stands for none.
    """
    entries = list(entries)
    left = list(dict.fromkeys(when for when, length in zip(dates, length_h, strict=True) if length))
    span = f"{left[0]} to {left[-1]}" if len(left) > 1 else f"{left[0]}"
    found: dict[str, tuple[date, ...]] = {}
    for rank in (
        lambda name: name not in {*WEEKDAYS, OTHER},
        lambda name: name in WEEKDAYS,
        lambda name: name == OTHER,
    ):
        for entry in entries:
            if rank(entry.day):
                mine = tuple(when for when in left if _is_of(entry.day, when))
                if not mine:
                    raise StudyError(
                        f"[month] days: found {entry.day!r}, of which the trace ({span}) has no day that is not named "
                        "otherwise; allowed: a day that it has, a weekday, or other"
                    )
                found[entry.day] = mine
                left = [when for when in left if when not in mine]
    return tuple(Day(entry.day, entry.times, found[entry.day]) for entry in entries)


def _is_of(name: str, when: date) -> bool:
    return name == OTHER or name in {when.isoformat(), WEEKDAYS[when.weekday()]}


def _of_days(days: Iterable[Day], local: list[datetime], length_h: list[Fraction]) -> list[Fraction]:
    """Of each entry each hour of the day so many times, whatever of it the trace covers."""
    of_date = {when: day for day in days for when in day.dates}
    labels = [(of_date[when.date()].name, when.hour) if when.date() in of_date else None for when in local]
    once = _once_each(labels, length_h)
    return [
        Fraction(0) if label is None else weight * Fraction(str(of_date[when.date()].times))
        for label, weight, when in zip(labels, once, local, strict=True)
    ]
