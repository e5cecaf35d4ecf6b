"""`target`: keep a measure near a target, in proportion."""

from __future__ import annotations

import math
from typing import Any, Literal

import numpy as np
from pydantic import Field, ValidationInfo, field_validator

from libramen.base.fields import PositiveCount, Share
from libramen.base.times import EPSILON_S
from libramen.rules.scaling.rule import Observation, Wanted
from libramen.rules.scaling.threshold import MeasuredRule, Threshold, replicas_for, threshold


class Target(MeasuredRule):
    """Want `ceil(ready * measured / target)` replicas, but do nothing within the dead band.

    Proportional control of a fleet: if the load per replica is the target times `r`, `r` times as
    many replicas bring it back to the target, as long as the load itself does not change. (A latency
    or a number of waiting requests is not proportional to the load; the rule then still moves the right way.)

    Example:
        >>> rule = Target(measure="cpu", target="60%")
        >>> rule.wanted(Observation(at_s=60.0, ready=4, measures={"cpu": 0.9}))
        Wanted(replicas=6, held_by='', view=0)
    """

    rule: Literal["target"] = Field("target", description="keep a measure near a target")
    target: Threshold = Field(description="what the measure should be: a share for cpu, a duration for latency")
    dead_band: Share = Field(0.1, description="nothing changes while measured / target is within 1 ± this")
    step_up: PositiveCount | None = Field(None, description="most replicas added at once (default: no limit)")
    step_down: PositiveCount | None = Field(None, description="most replicas removed at once (default: no limit)")

    @field_validator("target", mode="before")
    @classmethod
    def _read_target(cls, value: Any, info: ValidationInfo) -> float:
        return threshold(value, info.data.get("measure"))

    @property
    def threshold(self) -> float:
        """The value of the measure above which it wants more replicas."""
        return self.target * (1 + self.dead_band)

    def needed(self, load: np.ndarray) -> np.ndarray | None:
        """How many replicas keep the measure at the target; a latency is not shared out, so of it one cannot say."""
        return None if self.measure == "latency" else replicas_for(load, self.target)

    def wanted(self, seen: Observation) -> Wanted:
        """How many replicas the rule wants, before floor, ceiling and pauses."""
        measured, have = seen.measures[self.reads], seen.ready + seen.coming
        if measured is None:
            return Wanted(have, "no measure")
        ratio = measured / self.target
        if abs(ratio - 1) <= self.dead_band + EPSILON_S:
            return Wanted(have, "dead_band")
        exact = math.ceil(seen.ready * ratio - EPSILON_S)
        if ratio > 1:
            most = have + self.step_up if self.step_up else exact
            return Wanted(max(have, min(exact, most)), "step_up" if most < exact else "")
        least = have - self.step_down if self.step_down else exact
        return Wanted(min(have, max(exact, least)), "step_down" if least > exact else "")
