"""What a scaling rule is: the keys that all rules have, what a rule sees, what it answers.

A rule is a table of the study: its fields are the keys of `[plans.NAME.scaling]`, and descriptions,
messages and schema come from them. Most rules are a `PeriodicRule`: asked at every, 2 every, ... they
answer with a number of replicas; the engine takes their measures, holds them within their limits and acts. What the
rest of the program must know of a rule it asks the rule.
"""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Mapping
from datetime import datetime
from pathlib import Path
from typing import Annotated, Any, ClassVar, Final, Literal, NamedTuple, Protocol, Self

import numpy as np
from pydantic import Field, model_validator

from libramen.base.fields import PositiveReplicas, PositiveSeconds, Replicas, Seconds, Table, usually
from libramen.base.times import local_time
from libramen.rules.scaling.timetable import Entry

MeasureName = Literal["cpu", "in_progress", "rate", "waiting", "latency"]
PercentileName = Literal["p50", "p90", "p95", "p99", "p999"]

MEASURES: Final = (
    '"cpu": mean share of the cores in use; per ready replica, "in_progress": mean slots in use, "rate": arrivals '
    'per second, "waiting": mean requests that wait; "latency": a percentile of the answers'
)


class HasWaiting(Protocol):
    """Something that knows how many requests wait, if it is asked: a data plane."""

    @property
    def waiting(self) -> int:
        """Requests that wait now."""


class Observation:
    """What a rule sees when it decides.

    Attributes:
        at_s: the instant of the decision [s from the start of the trace].
        ready: replicas that take requests now.
        coming: replicas ordered and not yet ready.
        leaving: of both those whose machine is being taken back, so that others are ordered in their place.
        measures: over the window of the decision, each computed when it is asked for, None where there is none:
            `"cpu"` (share of the cores in use), `"in_progress"`, `"rate"` [1/s] and `"waiting"` (all three per ready
            replica), `"ready"` (mean ready replicas), and of the latencies of the answers given `"p50"`, `"p90"`,
            `"p95"`, `"p99"`, `"p999"` [s].
        floor, ceiling: between them the fleet is kept.
        state: empty at the start of a replay, and the rule's own.
        views: an observation for each view of the rule, where it has several; else empty.
    """

    __slots__ = (
        "_start", "_waiting", "at_s", "ceiling", "coming", "floor", "leaving", "measures", "ready", "state", "views",
    )  # fmt: skip

    def __init__(
        self,
        at_s: float = 0.0,
        ready: int = 1,
        coming: int = 0,
        measures: Mapping[str, float | None] | None = None,
        waiting: int | HasWaiting = 0,
        floor: int = 0,
        ceiling: int = 1000,
        state: dict[str, Any] | None = None,
        start: datetime | None = None,
        leaving: int = 0,
    ) -> None:
        self.at_s, self.ready, self.coming, self.leaving = at_s, ready, coming, leaving
        self.measures = {} if measures is None else measures
        self.views: tuple[Observation, ...] = ()
        self._waiting, self.floor, self.ceiling = waiting, floor, ceiling
        self.state = {} if state is None else state
        self._start = start

    @property
    def have(self) -> int:
        """Ready and coming, but for those that are leaving."""
        return self.ready + self.coming - self.leaving

    @property
    def waiting(self) -> int:
        """Requests that wait now, at ready replicas or in the shared or held queue."""
        return self._waiting if isinstance(self._waiting, int) else self._waiting.waiting

    @property
    def local_time(self) -> datetime | None:
        """The instant of the decision as a local time, None where the start of the trace is not known."""
        return local_time(self._start, self.at_s)


class Wanted(NamedTuple):
    """What a rule answers: a number of replicas, what kept it from wanting another number, and which view it is of."""

    replicas: int
    held_by: str = ""
    view: int = 0


class View(NamedTuple):
    """What a rule looks at: a window of this length that ends so long before the decision [s]."""

    lag_s: float
    window_s: float


class RuleSetting(NamedTuple):
    """What a rule is told when a replay begins.

    Attributes:
        cold_start_s: from an order to ready; where that varies, 19 of 20 take no longer [s].
        cores: of a replica.
        start: the instant 0, None: not known.
    """

    cold_start_s: float
    cores: float
    start: datetime | None


class Decider(Protocol):
    """What is asked at every decision of one replay."""

    def wanted(self, seen: Observation) -> Wanted:
        """How many replicas the rule wants, before floor, ceiling and pauses."""


class Needs(NamedTuple):
    """What a rule must be told of beyond integrals and counts: the engine writes it down only where it is needed."""

    latency: bool = False  # latencies of the answers
    rate: bool = False  # how many attempts there were before an instant, calls too
    idle: bool = False  # when a replica becomes idle


class AnyRule(Table):
    """The key of `[plans.NAME.scaling]` that every rule has, and what others ask of a rule.

    Attributes:
        asked: when it is asked, and so what of the engine runs it: "never" (only its timetable matters), "at_times" (at
            every, 2 every, ...) or "on_arrival" (when a request finds no slot).
        comes_and_goes: replicas are meant to be ordered and soon given back.
        watches: the measure that it looks at, empty: none, or whatever it likes.
    """

    asked: ClassVar[Literal["never", "at_times", "on_arrival"]] = "never"
    comes_and_goes: ClassVar[bool] = False

    rule: str
    timetable: tuple[Entry, ...] = Field(
        (), description="other floors and ceilings at times of the week, each until the next"
    )
    down_after: Seconds = Field(
        0.0,
        description="shrink only to the greatest number wanted in the last so long [s]; not for `on_arrival`",
    )

    @property
    def decides(self) -> bool:
        """Whether it can ever change the number of replicas."""
        return True

    @property
    def needs_autoscaling(self) -> bool:
        """Whether the tier must run it: no person does."""
        return True

    def may_run(self) -> None:
        """See that nothing stands against running it.

        Raises:
            StudyError: it is code of a study, without consent.
        """

    def beside(self, folder: Path, *, trusted: bool) -> Self:  # noqa: ARG002  (for rules that are code)
        """The rule as it is in a study that stands in a folder.

        Args:
            folder: where modules of the study's own are looked for.
            trusted: whether whoever loaded the study has consented to run them.
        """
        return self

    @property
    def needs(self) -> Needs:
        """What it must be told of."""
        return Needs()

    @property
    def bounds(self) -> tuple[int | None, int | None] | None:
        """Its floor and ceiling, each None: the tier's. None: it keeps what the plan begins with."""
        return None

    @property
    def numbers(self) -> dict[str, int | None]:
        """The numbers of replicas that it names, each of which its tier must allow, by key."""
        floor, ceiling = self.bounds or (None, None)
        found = {"scaling.floor": floor, "scaling.ceiling": ceiling}
        for place, entry in enumerate(self.timetable, start=1):
            where = f"scaling.timetable[{place}]"
            found |= {f"{where}.floor": entry.floor, f"{where}.ceiling": entry.ceiling}
        return found

    def problem(self, tier: str, *, autoscaling: bool, is_limited: bool) -> str | None:
        """Why it does not fit a tier; None: it does, if the tier allows its `numbers`.

        Args:
            tier: its name.
            autoscaling: whether the tier has any.
            is_limited: whether the tier says how many replicas it allows at most.
        """
        if self.needs_autoscaling and not autoscaling:
            return f"scaling: tier {tier!r} has no autoscaling; allowed: rule = 'fixed', which people change by hand"
        if self.bounds is not None and self.bounds[1] is None and not is_limited:
            return "scaling.ceiling is missing, and the tier does not say how many it allows at most"
        return None

    def conflict(self, ceiling: int) -> str | None:
        """What its timetable says against its ceiling, which is the tier's where it has none; None: nothing."""
        for place, entry in enumerate(self.timetable, start=1):
            upper = ceiling if entry.ceiling is None else entry.ceiling
            if entry.floor > upper:
                return f"scaling.timetable[{place}]: the floor of {entry.floor} is above the ceiling of {upper}"
        return None

    @property
    def interval_s(self) -> float:
        """Time between two decisions [s]; 0: it is not asked at times."""
        return 0.0

    @property
    def lag_s(self) -> float:
        """How far behind what it sees is [s]."""
        return 0.0

    @property
    def watches(self) -> str:
        """The measure that it looks at; empty: none, or whatever it likes."""
        return ""

    @property
    def reads(self) -> str:
        """The name of that measure among those of an `Observation`."""
        return self.watches

    @property
    def threshold(self) -> float | None:
        """The value of the measure above which it wants more replicas, None: it has none."""
        return None

    def needed(self, load: np.ndarray) -> np.ndarray | None:  # noqa: ARG002  (for those that can say)
        """How many replicas keep the measure where it should be, before its limits; None: it cannot be said.

        Args:
            load: float64 (k,), the measure times the ready replicas.
        """
        return None


class Rule(AnyRule):
    """The keys of every rule that has a floor and a ceiling."""

    floor: Replicas | None = Field(None, description="fewest replicas wanted (default: the tier's least)")
    ceiling: PositiveReplicas | None = Field(None, description="most replicas wanted (default: the tier's most)")

    @property
    def bounds(self) -> tuple[int | None, int | None]:
        """Its floor and ceiling, each None: that of the tier."""
        return self.floor, self.ceiling

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if self.floor is not None and self.ceiling is not None and self.floor > self.ceiling:
            raise ValueError(f"floor = {self.floor} is above ceiling = {self.ceiling}; allowed: floor at or below it")
        return self


class PeriodicRule(Rule):
    """The keys of every rule that is asked at every, 2 every, ..."""

    asked: ClassVar[Literal["never", "at_times", "on_arrival"]] = "at_times"

    every: Annotated[PositiveSeconds, usually(7200.0)] = Field(20.0, description="time between two decisions [s]")
    window: PositiveSeconds | None = Field(
        None, description="what is measured is a mean over this long [s] (default: every)"
    )
    lag: Annotated[Seconds, usually(7200.0)] = Field(
        0.0, description="the window ends this long before the decision [s]"
    )
    pause_up: Seconds = Field(0.0, description="after an order no order for this long [s]")
    pause_down: Seconds = Field(0.0, description="after an order or a drain no drain for this long [s]")

    @property
    def interval_s(self) -> float:
        """Time between two decisions [s]."""
        return self.every

    @property
    def lag_s(self) -> float:
        """How far behind what it sees is [s]."""
        return self.lag

    @property
    def views(self) -> tuple[View, ...]:
        """What it looks at."""
        return (View(self.lag, self.window_used),)

    @property
    def window_used(self) -> float:
        """`window`, or `every` [s]."""
        return self.every if self.window is None else self.window

    @abstractmethod
    def begin(self, setting: RuleSetting) -> Decider:
        """What is asked in one replay. A rule that remembers nothing is asked itself."""
