"""`steps`: add or remove so many replicas when a measure passes a threshold."""

from __future__ import annotations

from typing import Any, Literal, Self

from pydantic import Field, ValidationInfo, field_validator, model_validator

from libramen.base.fields import PositiveCount, Table
from libramen.base.times import EPSILON_S
from libramen.rules.scaling.rule import Observation, Wanted
from libramen.rules.scaling.threshold import MeasuredRule, Threshold, threshold


class Up(Table):
    """Above a value of the measure, add so many."""

    above: Threshold = Field(description="a value of the measure")
    add: PositiveCount = Field(description="replicas to add")


class Down(Table):
    """Below a value of the measure, remove so many."""

    below: Threshold = Field(description="a value of the measure")
    remove: PositiveCount = Field(description="replicas to remove")


class Steps(MeasuredRule):
    """Of the bands that the measure has passed, the outermost says how many to add to or take from what there is.

    Example:
        >>> rule = Steps(measure="cpu", up=[{"above": 0.7, "add": 1}, {"above": 0.9, "add": 4}])
        >>> rule.wanted(Observation(ready=3, measures={"cpu": 0.95}))
        Wanted(replicas=7, held_by='', view=0)
    """

    rule: Literal["steps"] = Field("steps", description="add or remove at thresholds of a measure")
    up: tuple[Up, ...] = Field((), description="bands to add in, such as [{ above = 0.7, add = 2 }]")
    down: tuple[Down, ...] = Field((), description="bands to remove in, such as [{ below = 0.3, remove = 1 }]")

    @field_validator("up", "down", mode="before")
    @classmethod
    def _read_bands(cls, value: Any, info: ValidationInfo) -> Any:
        key = "above" if info.field_name == "up" else "below"
        if not isinstance(value, list | tuple):
            return value
        return [
            {**band, key: threshold(band[key], info.data.get("measure"))}
            if isinstance(band, dict) and key in band
            else band
            for band in value
        ]

    @model_validator(mode="after")
    def _has_bands(self) -> Self:
        if not self.up and not self.down:
            raise ValueError("up and down are missing; allowed: one of them or both")
        if self.up and self.down:
            lowest, highest = min(band.above for band in self.up), max(band.below for band in self.down)
            if highest > lowest:
                raise ValueError(
                    f"below = {highest:g} is higher than above = {lowest:g}, so both would hold at once; "
                    "allowed: every below at or under every above"
                )
        return self

    @property
    def threshold(self) -> float | None:
        """The value of the measure above which it wants more replicas; None: it never does."""
        return min((band.above for band in self.up), default=None)

    def wanted(self, seen: Observation) -> Wanted:
        """How many replicas the rule wants, before floor, ceiling and pauses."""
        measured, have = seen.measures[self.reads], seen.have
        if measured is None:
            return Wanted(have, "no measure")
        passed_up = [band for band in self.up if measured > band.above + EPSILON_S]
        passed_down = [band for band in self.down if measured < band.below - EPSILON_S]
        if passed_up:
            return Wanted(have + max(passed_up, key=lambda band: band.above).add)
        if passed_down:
            return Wanted(max(0, have - min(passed_down, key=lambda band: band.below).remove))
        return Wanted(have, "no band")
