"""Rules that look at one measure, and thresholds written in its unit."""

from __future__ import annotations

from typing import Any, Self

from pydantic import Field, model_validator

from libramen import units
from libramen.engine.scaling.rule import (
    MEASURES,
    MeasureName,
    Observation,
    PercentileName,
    PeriodicRule,
    Setting,
    Wanted,
)
from libramen.errors import UnitError
from libramen.fields import latency_limit


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


class MeasuredRule(PeriodicRule):
    """The keys of every rule that looks at one measure and remembers nothing."""

    measure: MeasureName = Field(description=MEASURES)
    percentile: PercentileName | None = Field(None, description="which percentile, for latency (default: p95)")

    @property
    def reads(self) -> str:
        """Its name among the measures of an `Observation`."""
        return self.percentile or "p95" if self.measure == "latency" else self.measure

    @property
    def sees_latency(self) -> bool:
        """Whether latencies of answers must be written down for it."""
        return self.measure == "latency"

    def begin(self, setting: Setting) -> Self:  # noqa: ARG002  (it remembers nothing)
        """It is asked itself."""
        return self

    def wanted(self, seen: Observation) -> Wanted:
        """How many replicas the rule wants, before floor, ceiling and pauses."""
        raise AssertionError(f"{type(self).__name__} wants nothing of {seen}")

    @model_validator(mode="after")
    def _percentile_of_latency(self) -> Self:
        if self.percentile is not None and self.measure != "latency":
            raise ValueError(f"percentile needs measure = 'latency'; found measure = {self.measure!r}")
        return self
