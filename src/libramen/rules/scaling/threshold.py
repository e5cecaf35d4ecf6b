"""Rules that look at one measure, and thresholds written in its unit."""

from __future__ import annotations

from abc import abstractmethod
from typing import Annotated, Any, Final, Self

import numpy as np
from pydantic import Field, model_validator

from libramen.base import units
from libramen.base.errors import UnitError
from libramen.base.fields import latency_limit, text_or_number
from libramen.rules.scaling.rule import (
    MEASURES,
    MeasureName,
    Needs,
    Observation,
    PercentileName,
    PeriodicRule,
    RuleSetting,
    Wanted,
)


def threshold(value: Any, measure: str | None) -> float:
    """A value of a measure as people write it: a duration for latency, else a share or a number.

    Raises:
        UnitError: it cannot be read, or is not above 0.
    """
    if measure == "latency":
        return latency_limit(value)
    allowed = f"{units.SHARE} (cpu) or a number (in_progress, waiting, rate in requests a second; per replica)"
    try:
        number = units.parse_share(value)
    except UnitError:
        raise UnitError(value, f"{allowed}, above 0") from None
    if number <= 0:
        raise UnitError(value, f"{allowed}, above 0")
    if measure == "cpu" and number > 1:
        meant = f'; did you mean "{number:g}%"?' if number <= 100 else ""
        raise UnitError(
            value, f"a share of the cores in use of at most 100%, and this is {units.show_share(number, 0)}{meant}"
        )
    return number


_READ: Final = "a value of the measure: a share for cpu, a duration for latency, else a number"
Threshold = Annotated[
    float,
    text_or_number(_READ, rf"{units.SHARE_PATTERN}|{units.DURATION_PATTERN}|{units.MONEY_PATTERN}", exclusiveMinimum=0),
]
"""A value of the measure of a rule, which the rule reads with `threshold`."""


def replicas_for(load: np.ndarray, target: float) -> np.ndarray:
    """Replicas that share a load so that each has the target: float64 (k,)."""
    import numpy as np

    needed: np.ndarray = np.ceil(load / target - 1e-6)
    return needed


class MeasuredRule(PeriodicRule):
    """The keys of every rule that looks at one measure and remembers nothing."""

    measure: MeasureName = Field(description=MEASURES)
    percentile: PercentileName | None = Field(None, description="which percentile, for latency (default: p95)")

    @property
    def reads(self) -> str:
        """Its name among the measures of an `Observation`."""
        return self.percentile or "p95" if self.measure == "latency" else self.measure

    @property
    def watches(self) -> str:
        """The measure that it looks at."""
        return self.measure

    @property
    def needs(self) -> Needs:
        """What it must be told of."""
        return Needs(latency=self.measure == "latency", rate=self.measure == "rate")

    def begin(self, setting: RuleSetting) -> Self:  # noqa: ARG002  (it remembers nothing)
        """It is asked itself."""
        return self

    @abstractmethod
    def wanted(self, seen: Observation) -> Wanted:
        """How many replicas the rule wants, before floor, ceiling and pauses."""

    @model_validator(mode="after")
    def _percentile_of_latency(self) -> Self:
        if self.percentile is not None and self.measure != "latency":
            raise ValueError(f"percentile needs measure = 'latency'; found measure = {self.measure!r}")
        return self
