"""`target`: keep a measure near a target, in proportion."""

from __future__ import annotations

import math
from typing import Any, Literal

from pydantic import Field, field_validator

from libramen import units
from libramen.engine.plane import EPSILON_S
from libramen.engine.scaling.rule import Observation, Rule, Wanted
from libramen.errors import UnitError
from libramen.fields import PositiveCount, Share


class Target(Rule):
    """Want `ceil(ready * measured / target)` replicas, but do nothing within the dead band.

    Proportional control of a fleet: if the load per replica is the target times `r`, `r` times as
    many replicas bring it back to the target, as long as the load itself does not change.

    Example:
        >>> rule = Target(measure="cpu", target="60%")
        >>> rule.wanted(Observation(at_s=60.0, measured=0.9, ready=4, coming=0))
        Wanted(replicas=6, held_by='')
    """

    rule: Literal["target"] = Field("target", description="keep a measure near a target")
    measure: Literal["cpu", "in_progress"] = Field(
        description='"cpu": mean share of the cores in use; "in_progress": mean slots in use per replica'
    )
    target: float = Field(description="what the measure should be: a share for cpu, a number for in_progress")
    dead_band: Share = Field(0.1, description="nothing changes while measured / target is within 1 ± this")
    step_up: PositiveCount | None = Field(None, description="most replicas added at once (default: no limit)")
    step_down: PositiveCount | None = Field(None, description="most replicas removed at once (default: no limit)")

    @field_validator("target", mode="before")
    @classmethod
    def _read_target(cls, value: Any) -> float:
        number = units.parse_share(value)
        if number <= 0:
            raise UnitError(value, f"{units.SHARE} (cpu) or a number of slots (in_progress), above 0")
        return number

    def measure_of(self, cpu: float, in_progress: float) -> float:
        """Pick the rule's measure from the means per ready replica."""
        return cpu if self.measure == "cpu" else in_progress

    def wanted(self, seen: Observation) -> Wanted:
        """How many replicas the rule wants, before floor, ceiling and pauses."""
        have = seen.have
        if seen.measured is None:
            return Wanted(have, "no measure")
        ratio = seen.measured / self.target
        if abs(ratio - 1) <= self.dead_band + EPSILON_S:
            return Wanted(have, "dead_band")
        exact = math.ceil(seen.ready * ratio - EPSILON_S)
        if ratio > 1:
            most = have + self.step_up if self.step_up else exact
            return Wanted(max(have, min(exact, most)), "step_up" if most < exact else "")
        least = have - self.step_down if self.step_down else exact
        return Wanted(min(have, max(exact, least)), "step_down" if least > exact else "")
