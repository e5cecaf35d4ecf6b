"""What a fault is: the keys that all kinds have, and what a fault does to a fleet."""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import Any, Protocol, TypeVar

from pydantic import Field

from libramen.fields import Table
from libramen.times import At


class Member(Protocol):
    """One replica, as far as a fault looks at it."""

    @property
    def number(self) -> int:
        """Its number."""

    @property
    def can_die(self) -> bool:
        """Whether its process runs: it is ready or draining, and not dead."""

    @property
    def is_draining(self) -> bool:
        """Whether it finishes what it has and takes nothing new."""


_M = TypeVar("_M", bound=Member)


class Fleet(Protocol[_M]):
    """What a fault sees of a fleet, and does to it; the engine has it."""

    def alive(self) -> list[_M]:
        """Not gone yet, by number."""

    def crash(self, replica: _M, now_s: float, *, detect_s: float | None, why: str) -> None:
        """The process of a replica dies; `detect_s`: until the balancer knows, None: as the tier says."""


class Fault(Table, ABC):
    """The keys of `[[plans.NAME.faults]]` that every kind has."""

    kind: str
    at: At = Field(description="when it happens")
    daily: bool = Field(False, description="on every day of the trace, for a time of day")

    @property
    def number(self) -> int:
        """Of the replica that it strikes, which says what comes first at one instant; 0: of none in particular."""
        return 0

    def outage_s(self, n: int, detect_s: float, start_s: float) -> float:  # noqa: ARG002  (for those that have one)
        """For how long a fleet of n has no replica that works, at the least, by its own doing [s].

        `detect_s`: the tier's; `start_s`: what a process takes to start.
        """
        return 0.0

    @abstractmethod
    def strike(self, fleet: Fleet[Any], now_s: float) -> None:
        """Let it happen."""
