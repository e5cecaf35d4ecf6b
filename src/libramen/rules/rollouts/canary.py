"""`canary`: a small share of the traffic first."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from libramen.base.fields import Fraction, Seconds, Table
from libramen.rules.rollouts.switch import SplitUpdate, TwoFleets
from libramen.rules.rollouts.update import RolloutFleet, Update


class Step(Table):
    """One step: a share of the traffic, for a while."""

    share: Fraction = Field(description="of all attempts that goes to the new version")
    hold: Seconds = Field(description="for how long, from when its replicas are ready")


class Canary(TwoFleets):
    """A share of the traffic goes to new replicas beside the old ones, then more, in the end all.

    Example:
        >>> Canary(at="12:00", steps=[{"share": "5%", "hold": "10m"}]).steps[0].hold
        600.0
    """

    strategy: Literal["canary"] = Field("canary", description="a small share of the traffic first")
    steps: tuple[Step, ...] = Field(min_length=1, description='such as [{ share = "5%", hold = "10m" }, ...]')

    def begin(self, fleet: RolloutFleet[Any], n: int, most: int | None, version: int, now_s: float) -> Update:  # noqa: ARG002
        """All old ones stay."""
        steps = tuple((step.share, step.hold) for step in self.steps)
        return SplitUpdate(fleet, n, version, in_place=False, steps=steps)
