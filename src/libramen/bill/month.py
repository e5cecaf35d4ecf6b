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
_SEEN_S: Final = 1e-6


class Weights:
    """How often each hour of the clock of a replay stands in the month.

    Args:
        alike: hours since the start that stand in it alike, int (k,), and how often they do; all others do not.
        hours: how many there are, the first and the last perhaps not whole.
    """

    def __init__(self, alike: Iterable[tuple[Fraction, np.ndarray]], hours: int) -> None:
        together: dict[Fraction, list[np.ndarray]] = {}
        for weight, some in alike:
            if weight:
                together.setdefault(weight, []).append(some)
        self.alike = [(weight, np.sort(np.concatenate(some))) for weight, some in together.items()]
        self.hours = hours

    @cached_property
    def floats(self) -> np.ndarray:
        """The same as numbers: float64 (hours,)."""
        found = np.zeros(self.hours)
        for weight, some in self.alike:
            found[some] = float(weight)
        return found

    @property
    def is_even(self) -> bool:
        """Whether all hours stand in it alike."""
        return len(self.alike) == 1 and len(self.alike[0][1]) == self.hours

    def folded(self, amount: np.ndarray) -> np.ndarray:
        """Amounts by hour along the last axis, as many as there are hours: what came at the very end is of the last."""
        n, have = self.hours, amount.shape[-1]
        if have == n:
            return amount
        if have < n:
            return np.concatenate([amount, np.zeros((*amount.shape[:-1], n - have), amount.dtype)], axis=-1)
        return np.concatenate([amount[..., : n - 1], amount[..., n - 1 :].sum(axis=-1, keepdims=True)], axis=-1)

    def of_hours(self, amount: np.ndarray) -> Fraction:
        """The month's total of what there was in each hour: float64 (hours,)."""
        there = self.folded(np.asarray(amount))
        return sum((weight * Fraction(math.fsum(there[some])) for weight, some in self.alike), Fraction(0))

    def of_rows(self, amounts: np.ndarray) -> list[Fraction]:
        """The same of each row: float64 (k, hours)."""
        there = self.folded(np.asarray(amounts))
        totals = [(weight, there[:, some].sum(axis=1).tolist()) for weight, some in self.alike]
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
        self.alike, self.hours = [], len(of_hour)

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
        length_s: float64 (hours,), how much of each hour is covered [s].
    """

    span_s: float
    weights: Weights
    kind: str
    days: tuple[Day, ...]
    length_s: np.ndarray

    @property
    def split(self) -> tuple[Weights, Weights]:
        """Where events happen once: of the hours of the replay with them, and of the one without."""
        alike = self.weights.alike
        covered = sum(
            (max(Fraction(1), weight) * Fraction(math.fsum(self.length_s[some])) for weight, some in alike),
            Fraction(0),
        )
        scale = HOURS * 3600 / covered  # 1, unless some hour stands in the month less than once
        rest = [(scale * max(Fraction(0), weight - 1), some) for weight, some in alike]
        return Weights(((scale, some) for _, some in alike), self.weights.hours), Weights(rest, self.weights.hours)


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
    length_s = np.diff(edges_s)
    for from_s, to_s in gaps:
        length_s[(edges_s[:-1] >= from_s) & (edges_s[1:] <= to_s)] = 0.0
    days: tuple[Day, ...] = ()
    if table is not None and table.days:
        if start is None:
            raise StudyError(
                "[month] days: this trace does not say when it starts; allowed: to leave them out, or a trace with "
                "dates"
            )
        local = local_times(edges_s, start)
        days, kind = _days(table.days, [when.date() for when in local], length_s), "days"
        labels, times = _of_days(days, local)
    elif span_s >= WEEK_S - 1e-9:
        labels, times, kind = _of_week(edges_s, start), [Fraction(1)] * 168, "week"
    else:
        labels, times, kind = np.zeros(len(length_s), np.int64), [Fraction(1)], "alike"
    return Month(span_s, _weights(labels, times, length_s), kind, days, length_s)


def _weights(labels: np.ndarray, times: Sequence[Fraction], length_s: np.ndarray) -> Weights:
    """Each label so many times, over how much of it is covered; all scaled to 730 h.

    Args:
        labels: int64 (hours,), of each hour, from 0; below 0: it has none, and does not count.
        times: of each label.
        length_s: float64 (hours,), how much of each is covered.
    """
    lengths, which = np.unique(length_s, return_inverse=True)
    keys = np.where((labels >= 0) & (length_s > 0), labels * len(lengths) + which, -1)
    order = np.argsort(keys, kind="stable")
    parts = np.split(order, np.flatnonzero(np.diff(keys[order])) + 1)
    alike = [(divmod(int(keys[some[0]]), len(lengths)), some) for some in parts if len(some) and keys[some[0]] >= 0]
    covered_s: dict[int, Fraction] = {}
    for (label, length), some in alike:
        covered_s[label] = covered_s.get(label, Fraction(0)) + Fraction(float(lengths[length])) * len(some)
    # Hours of one label share its times; so many hours of the month are covered in all.
    whole = sum((times[label] for label in covered_s), Fraction(0))
    if not whole:
        raise StudyError("[month]: nothing of the trace is left in it; allowed: times above 0 for a day that it has")
    return Weights(
        (
            (times[label] / covered_s[label] * HOURS * 3600 / whole, some)
            for (label, _), some in alike
            if covered_s[label] > _SEEN_S
        ),
        len(length_s),
    )


def local_times(edges_s: np.ndarray, start: datetime) -> list[datetime]:
    """The local time in the middle of each hour."""
    utc = start.astimezone(UTC)
    middles = ((edges_s[:-1] + edges_s[1:]) / 2).tolist()
    return [(utc + timedelta(seconds=middle)).astimezone(start.tzinfo) for middle in middles]


def _of_week(edges_s: np.ndarray, start: datetime | None) -> np.ndarray:
    """The hour of the week of each hour, from 0: int64 (hours,)."""
    if start is None:
        labels: np.ndarray = (edges_s[:-1] // 3600).astype(np.int64) % 168
        return labels
    return np.array([when.weekday() * 24 + when.hour for when in local_times(edges_s, start)], np.int64)


def _days(entries: Iterable[DayTimes], dates: list[date], length_s: np.ndarray) -> tuple[Day, ...]:
    """Each entry with the dates of the trace that it stands for; a date goes before its weekday, that before other.

    Raises:
        StudyError: an entry stands for none.
    """
    entries = list(entries)
    left = list(dict.fromkeys(when for when, length in zip(dates, length_s.tolist(), strict=True) if length))
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


def _of_days(days: Sequence[Day], local: list[datetime]) -> tuple[np.ndarray, list[Fraction]]:
    """The label of each hour, one for each entry and hour of the day, and how often a month has it."""
    of_date = {when: place for place, day in enumerate(days) for when in day.dates}
    labels = [24 * of_date[when.date()] + when.hour if when.date() in of_date else -1 for when in local]
    return np.array(labels, np.int64), [Fraction(str(day.times)) for day in days for _ in range(24)]
