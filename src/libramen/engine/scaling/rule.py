"""What a scaling rule is: the keys that all rules have, what a rule sees, what it answers."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple, Self

from pydantic import Field, model_validator

from libramen.fields import Count, PositiveCount, PositiveSeconds, Seconds, Table


@dataclass(frozen=True, slots=True)
class Observation:
    """What a rule sees when it decides."""

    at_s: float
    """The instant of the decision [s from the start of the trace]."""
    measured: float | None
    """The rule's measure over its window, per ready replica; None: there is none."""
    ready: int
    """Replicas that take requests now."""
    coming: int
    """Replicas ordered and not yet ready."""

    @property
    def have(self) -> int:
        """Ready and coming."""
        return self.ready + self.coming


class Wanted(NamedTuple):
    """What a rule answers: a number of replicas, and what kept it from wanting another number."""

    replicas: int
    held_by: str = ""


class Rule(Table):
    """The keys of `[plans.NAME.scaling]` that every rule that decides has."""

    every: PositiveSeconds = Field(20.0, description="time between two decisions [s]")
    window: PositiveSeconds | None = Field(
        None, description="what is measured is a mean over this long [s] (default: every)"
    )
    lag: Seconds = Field(0.0, description="the window ends this long before the decision [s]")
    pause_up: Seconds = Field(0.0, description="after an order no order for this long [s]")
    pause_down: Seconds = Field(0.0, description="after an order or a drain no drain for this long [s]")
    floor: Count | None = Field(None, description="fewest replicas wanted (default: the tier's least)")
    ceiling: PositiveCount | None = Field(None, description="most replicas wanted (default: the tier's most)")

    @property
    def window_used(self) -> float:
        """`window`, or `every` [s]."""
        return self.every if self.window is None else self.window

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if self.floor is not None and self.ceiling is not None and self.floor > self.ceiling:
            raise ValueError(f"floor = {self.floor} is above ceiling = {self.ceiling}; allowed: floor at or below it")
        return self

    def measure_of(self, cpu: float, in_progress: float) -> float:
        """Pick the rule's measure from the means per ready replica: cores in use, slots in use."""
        raise AssertionError(f"{type(self).__name__} does not measure {cpu}, {in_progress}")

    def wanted(self, seen: Observation) -> Wanted:
        """How many replicas the rule wants, before floor, ceiling and pauses."""
        return Wanted(seen.have)
