"""What a rolling update is: the keys that all strategies have, and one update on its way."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from typing import Any, Protocol, TypeVar

from pydantic import Field

from libramen.fields import Table
from libramen.times import At


class Member(Protocol):
    """One replica, as far as an update looks at it."""

    @property
    def version(self) -> int:
        """The version that runs on it."""

    @property
    def is_ready(self) -> bool:
        """Whether the balancer believes that it takes requests."""

    @property
    def is_draining(self) -> bool:
        """Whether it finishes what it has and takes nothing new."""

    @property
    def is_coming(self) -> bool:
        """Whether it is ordered and not yet ready, or starting again."""


_M = TypeVar("_M", bound=Member)


class Fleet(Protocol[_M]):
    """What an update sees of a fleet, and does to it; the engine has it."""

    @property
    def version(self) -> int:
        """The version that a new order gets."""

    @property
    def n_ready(self) -> int:
        """How many replicas take requests."""

    def alive(self) -> list[_M]:
        """Not gone yet, by number."""

    def ready(self) -> list[_M]:
        """Taking requests, by number."""

    def of_version(self, version: int) -> list[_M]:
        """Not gone yet and of one version, by number."""

    def order(self, now_s: float, why: str, *, on_machine: bool = False) -> object:
        """Order a replica; `on_machine`: a machine is there already."""

    def cancel(self, replica: _M, now_s: float, why: str) -> None:
        """Give up a replica that is on its way."""

    def drain(self, replica: _M, now_s: float, why: str) -> None:
        """Let a replica take nothing new, finish, and go."""


class Rollout(Table):
    """The keys of `[[plans.NAME.rollouts]]` that every strategy has."""

    strategy: str
    at: At = Field(description="when the update begins")
    daily: bool = Field(False, description="on every day of the trace, for a time of day")

    def least_ready(self, n: int) -> int:  # noqa: ARG002  (of a fleet of n)
        """How many of a fleet of n stay ready at the least, by its own doing."""
        return 0

    def problem(self, n: int, most: int | None) -> str | None:  # noqa: ARG002  (for those that have one)
        """Why it cannot be done with a fixed fleet of n, of which the tier allows `most`; None: it can."""
        return None

    @abstractmethod
    def begin(self, fleet: Fleet[Any], n: int, most: int | None, now_s: float) -> Update:
        """Start moving the n replicas of a fleet, all of the old version, to the new version."""


@dataclass
class Update(ABC):
    """One update under way. It acts whenever `step` is called, until that returns True."""

    fleet: Fleet[Any]  # of whatever replicas the engine has
    n: int  # replicas of the fleet when it began
    version: int  # the new version
    in_place: bool
    machines: int = 0  # left by old replicas that the update drained, and not yet taken over

    @abstractmethod
    def step(self, now_s: float) -> bool:
        """Do what can be done now; return whether the update is over."""

    def left(self) -> None:
        """An old replica that the update had drained is gone: its machine is free."""
        self.machines += 1

    def order(self, now_s: float) -> None:
        """Order a replica of the new version, on a machine that was left if there is one."""
        takes_over = self.in_place and self.machines > 0
        self.machines -= takes_over
        self.fleet.order(now_s, why="update", on_machine=takes_over)
