"""`ahead`: learn what the load is at this time of the day and the week, and order before it comes."""

from __future__ import annotations

import math
from collections import deque
from datetime import UTC, datetime, timedelta
from typing import Any, Final, Literal

import numpy as np
from pydantic import Field, ValidationInfo, field_validator

from libramen.base.fields import PositiveSeconds, Share
from libramen.base.times import EPSILON_S
from libramen.rules.scaling.rule import Needs, Observation, PeriodicRule, RuleSetting, Wanted
from libramen.rules.scaling.threshold import Threshold, replicas_for, threshold

_DAY_S: Final = 86400.0


class Ahead(PeriodicRule):
    """Want enough replicas for the highest load expected within one cold start, and for what is measured now.

    What is expected at a time is the mean load measured at that local time on the same weekday before, or, before a
    week has passed, on the days before (the seasonal naive forecast, averaged over seasons: Hyndman and
    Athanasopoulos, Forecasting: Principles and Practice, section 5.2). On its first day it has nothing to expect and
    follows what is measured. It is told nothing of the trace but what its own windows have shown.
    """

    rule: Literal["ahead"] = Field("ahead", description="learn the daily and weekly pattern and order ahead of it")
    measure: Literal["cpu", "in_progress", "rate"] = Field(
        description='what is learnt, as for other rules: "cpu", "in_progress" or "rate"'
    )
    target: Threshold = Field(description="what the measure should be: a share for cpu, else a number per replica")
    learn: PositiveSeconds = Field(28 * _DAY_S, description="how far back it looks [s]")
    margin: Share = Field(0.1, description="so much more than the load expected is ordered for")

    @field_validator("target", mode="before")
    @classmethod
    def _read_target(cls, value: Any, info: ValidationInfo) -> float:
        return threshold(value, info.data.get("measure"))

    @property
    def watches(self) -> str:
        """The measure that it learns."""
        return self.measure

    @property
    def threshold(self) -> float:
        """The value of the measure above which it wants more replicas."""
        return self.target

    def needed(self, load: np.ndarray) -> np.ndarray:
        """How many replicas keep the measure at the target."""
        return replicas_for(load, self.target)

    @property
    def needs(self) -> Needs:
        """What it must be told of."""
        return Needs(rate=self.measure == "rate")

    def begin(self, setting: RuleSetting) -> _Learning:
        """Begin to learn, with nothing learnt."""
        return _Learning(self, setting)


class _Learning:
    """The load of the whole fleet, in replicas that are as busy as can be, by local time in steps of `every`."""

    def __init__(self, rule: Ahead, setting: RuleSetting) -> None:
        self._rule, self._cold_start_s = rule, setting.cold_start_s
        self._clock = _Clock(setting.start)
        self._load: dict[int, float] = {}  # by local step
        # How many steps back the same local time was, in weeks and in days: of the step in which its middle lay.
        self._back = [
            [
                math.ceil(k * period_s / rule.every - 0.5 - EPSILON_S)
                for k in range(1, int(rule.learn / period_s + EPSILON_S) + 1)
            ]
            for period_s in (7 * _DAY_S, _DAY_S)
        ]
        self._expected: deque[tuple[int, float]] = deque()  # by local step, of those within one cold start

    def wanted(self, seen: Observation) -> Wanted:
        """How many replicas the rule wants, before floor, ceiling and pauses."""
        rule = self._rule
        measured, ready = seen.measures[rule.measure], seen.measures["ready"]
        load = 0.0
        if measured is not None and ready is not None:
            load = measured * ready
            end_s = seen.at_s - rule.lag
            self._learn((max(0.0, end_s - rule.window_used) + end_s) / 2, load)
        elif seen.have:
            load = -math.inf  # nothing is known of now
        expected = self._highest(seen.at_s)
        highest = max(load, expected)
        if highest < 0:
            return Wanted(seen.have, "no measure")
        return Wanted(math.ceil(highest * (1 + rule.margin) / rule.target - EPSILON_S))

    def _step(self, local_s: float) -> int:
        return math.floor(local_s / self._rule.every + EPSILON_S)

    def _learn(self, at_s: float, load: float) -> None:
        step = self._step(self._clock.local_s(at_s))
        self._load[step] = load
        self._load.pop(step - math.ceil(self._rule.learn / self._rule.every) - 1, None)

    def _highest(self, now_s: float) -> float:
        """The highest load expected from now to one cold start later; -infinity: nothing is known."""
        first, last = (self._step(self._clock.local_s(s)) for s in (now_s, now_s + self._cold_start_s))
        while self._expected and self._expected[0][0] < first:
            self._expected.popleft()
        begin = self._expected[-1][0] + 1 if self._expected else first
        # What was measured a day ago and more does not change any more, so each step is looked up once.
        self._expected.extend((step, self._at(step)) for step in range(begin, last + 1))
        return max((load for _, load in self._expected), default=-math.inf)

    def _at(self, step: int) -> float:
        load = self._load
        for seasons in self._back:
            before = [load[step - back] for back in seasons if step - back in load]
            if before:
                return sum(before) / len(before)
        return -math.inf


class _Clock:
    """Local seconds: seconds from the start, and what the clocks have been changed by since."""

    def __init__(self, start: datetime | None) -> None:
        self._start = start
        self._changes: dict[int, float] = {}  # by quarter of an hour of UTC: clocks are changed at their edges
        self._from_epoch_s = 0.0 if start is None else start.timestamp()

    def local_s(self, at_s: float) -> float:
        """The local time at an instant [s], 0 at the start."""
        if self._start is None:
            return at_s
        quarter = int((self._from_epoch_s + at_s) // 900)
        change_s = self._changes.get(quarter)
        if change_s is None:
            local = (self._start.astimezone(UTC) + timedelta(seconds=at_s)).astimezone(self._start.tzinfo)
            now, then = local.utcoffset(), self._start.utcoffset()
            assert now is not None
            assert then is not None
            change_s = self._changes[quarter] = (now - then).total_seconds()
        return at_s + change_s
