"""From the time that a trace covers to a month of 730 hours."""

from __future__ import annotations

import math
from datetime import UTC, datetime, timedelta
from fractions import Fraction
from typing import Final

import numpy as np

from libramen.base.times import MONTH_H, into_hour_s

HOURS: Final = MONTH_H
_WEEK_S: Final = 7 * 86400.0
_SEEN_H: Final = 1e-9


class Month:
    """Scales what was measured in a trace to a month.

    A trace of less than a week stands for all of the month: factor 730 h / span_s. One of a week or
    more gives a mean for each hour of the week, in local time, and these are laid over the month.
    """

    def __init__(self, span_s: float, start: datetime | None) -> None:
        self.span_s, self._start = span_s, start
        self.by_hour_of_week = span_s >= _WEEK_S - 1e-9
        if self.by_hour_of_week:
            self._edges_s, self._label = _hours_of_week(span_s, start)

    def of_hours(self, amount: np.ndarray) -> Fraction:
        """The month's total of amounts that were added up by hour of the clock since the start (float64 (k,))."""
        if not self.by_hour_of_week:
            return self._scaled(Fraction(math.fsum(amount)))
        hours = np.zeros(len(self._label))
        hours[: len(amount)] = amount[: len(hours)]
        hours[-1] += amount[len(hours) :].sum()  # of an arrival at the very end
        return self._laid_over(hours)

    def of_one(self) -> np.ndarray:
        """What one thing in each hour of the clock since the start comes to in the month: float64 (hours,)."""
        if not self.by_hour_of_week:
            return np.full(len(clock_hours(self.span_s, self._start)) - 1, HOURS * 3600 / self.span_s)
        covered_h = self._covered_h()
        of_one: np.ndarray = HOURS / np.count_nonzero(covered_h > _SEEN_H) / covered_h[self._label]
        return of_one

    def _covered_h(self) -> np.ndarray:
        """How much of each hour of the week the trace covers [h]: float64 (168,)."""
        return np.bincount(self._label, weights=np.diff(self._edges_s) / 3600, minlength=168)

    def _scaled(self, quantity: Fraction) -> Fraction:
        return quantity * HOURS * 3600 / Fraction(self.span_s)

    def _laid_over(self, per_hour: np.ndarray) -> Fraction:
        """The mean of each hour of the week, times how often a month has it."""
        covered_h = self._covered_h()
        total = np.bincount(self._label, weights=per_hour, minlength=168)
        seen = covered_h > _SEEN_H  # a change of clocks can skip an hour of the only week
        return Fraction(float(np.mean(total[seen] / covered_h[seen]))) * HOURS


def clock_hours(span_s: float, start: datetime | None) -> np.ndarray:
    """Edges of the hours of the clock in a trace [s]: 0, the full hours, the end."""
    inner = np.arange(3600 - into_hour_s(start), span_s, 3600.0)
    return np.concatenate([[0.0], inner[inner > 0], [span_s]])


def _hours_of_week(span_s: float, start: datetime | None) -> tuple[np.ndarray, np.ndarray]:
    """Edges of the clock hours of a trace [s], and the hour of the week (0..167) of each."""
    edges = clock_hours(span_s, start)
    if start is None:
        return edges, (edges[:-1] // 3600).astype(np.int64) % 168
    utc = start.astimezone(UTC)
    middles = ((edges[:-1] + edges[1:]) / 2).tolist()
    local = [(utc + timedelta(seconds=middle)).astimezone(start.tzinfo) for middle in middles]
    return edges, np.array([time.weekday() * 24 + time.hour for time in local], np.int64)
