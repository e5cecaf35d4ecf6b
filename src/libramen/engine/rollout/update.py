"""What a rolling update is: the keys that all strategies have, and one update on its way."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from pydantic import Field

from libramen.fields import Table
from libramen.study.moments import At

if TYPE_CHECKING:
    from libramen.engine.fleet import Fleet


class Rollout(Table):
    """The keys of `[[plans.NAME.rollouts]]` that every strategy has."""

    strategy: str
    at: At = Field(description="when the update begins")
    daily: bool = Field(False, description="on every day of the trace, for a time of day")

    def begin(self, fleet: Fleet, n: int, most: int | None, now_s: float) -> Update:
        """Start moving the n replicas of a fleet, all of the old version, to the new version."""
        raise AssertionError(f"{type(self).__name__} begins with {fleet}, {n}, {most} at {now_s}")


@dataclass
class Update:
    """One update under way. It acts whenever `step` is called, until that returns True."""

    fleet: Fleet
    n: int  # replicas of the fleet when it began
    version: int  # the new version
    in_place: bool
    machines: int = 0  # left by old replicas that the update drained, and not yet taken over

    def step(self, now_s: float) -> bool:
        """Do what can be done now; return whether the update is over."""
        raise AssertionError(f"{type(self).__name__} steps at {now_s}")

    def left(self) -> None:
        """An old replica that the update had drained is gone: its machine is free."""
        self.machines += 1

    def order(self, now_s: float) -> None:
        """Order a replica of the new version, on a machine that was left if there is one."""
        takes_over = self.in_place and self.machines > 0
        self.machines -= takes_over
        self.fleet.order(now_s, why="update", on_machine=takes_over)
