"""What a rolling update is: the keys that all strategies have, and one update on its way."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from typing import Any, ClassVar, Protocol, Self, TypeVar

from pydantic import Field, model_validator

from libramen.base.delays import DelayField
from libramen.base.fields import AtLeastOne, Factor, Fraction, PositiveCount, PositiveSeconds, Seconds, Table
from libramen.base.times import At, Days


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

    @property
    def is_leaving(self) -> bool:
        """Whether it will be gone whatever the update does: its machine is being taken back, or it is replaced."""

    @property
    def is_standby(self) -> bool:
        """Whether it works, and serves nobody until it is promoted."""


_M = TypeVar("_M", bound=Member)


class RolloutFleet(Protocol[_M]):
    """What an update sees of a fleet, and does to it; the engine has it."""

    @property
    def n_ready(self) -> int:
        """How many replicas take requests."""

    @property
    def n_standby(self) -> int:
        """How many stand by beside those of the plan."""

    def alive(self) -> list[_M]:
        """Not gone yet, by number."""

    def of_version(self, version: int) -> list[_M]:
        """Not gone yet and of one version, by number."""

    def order(self, now_s: float, why: str, *, version: int | None = None, in_place: bool = False) -> object | None:
        """Order a replica; `in_place`: on a machine that an update has freed, if there is one. None: none can be."""

    def cancel(self, replica: _M, now_s: float, why: str) -> None:
        """Give up a replica that is on its way."""

    def drain(self, replica: _M, now_s: float, why: str) -> None:
        """Let a replica take nothing new, finish, and go."""

    def split(self, share: float, now_s: float) -> None:
        """From now on this share of all attempts goes to the new version of an update that splits traffic."""

    def wake(self, at_s: float) -> None:
        """Let the update take a step at this time."""


class Rollout(Table):
    """The keys of `[[plans.NAME.rollouts]]` that every strategy has."""

    splits: ClassVar[bool] = False
    """Whether the balancer splits traffic between the versions; a replacement then has the version it replaces."""

    strategy: str
    at: At = Field(description="when the release is due")
    daily: bool = Field(False, description="on every day of the trace, for a time of day")
    days: Days | None = Field(None, description="on these weekdays, for a time of day")
    build: Seconds = Field(0.0, description="it is built and shipped for so long before it begins")
    cpu_factor: Factor = Field(1.0, description="CPU work of the new version, against the service as written")
    memory_factor: Factor = Field(1.0, description="memory that the new version uses, against the service as written")
    error_rate: Fraction = Field(0.0, description="this share of the new version's attempts fails after its CPU work")
    start: DelayField | None = Field(None, description="start of the new version (default: the service's)")
    crashes_after: PositiveSeconds | None = Field(
        None, description="each replica of the new version dies so long after it became ready, again and again"
    )
    rollback_above: Fraction | None = Field(
        None, description="undone when more than this share of the new version's attempts failed (default: never)"
    )
    rollback_slower: AtLeastOne | None = Field(
        None,
        description="undone when the p95 of the new version's ok attempts is more than so many times that of the old "
        "one's, or, with too few of these, that of all before the release (default: never)",
    )
    watch: PositiveSeconds = Field(60.0, description="the attempts looked at are those that ended in so long")
    judge_every: PositiveSeconds = Field(5.0, description="how often that is looked at")
    judge_least: PositiveCount = Field(20, description="fewer attempts (ok ones, for their time) are no reason")
    keep_judging: Seconds | None = Field(
        None, description="it is looked at for so long after the release, too (default: watch)"
    )

    regions: tuple[str, ...] = Field(
        (), description="one region after the other, in this order (default: in all of the plan's at once)"
    )
    pause: Seconds = Field(0.0, description="from the end of one region's release to the begin of the next one's [s]")

    @model_validator(mode="after")
    def _goes_on_somewhere(self) -> Self:
        if self.pause and not self.regions:
            raise ValueError("pause has no effect without regions; allowed: regions, or to leave it out")
        if len(set(self.regions)) < len(self.regions):
            raise ValueError(f"regions: found {list(self.regions)}; allowed: names that differ")
        return self

    @model_validator(mode="after")
    def _one_calendar(self) -> Self:
        if self.days and self.daily:
            raise ValueError("days: with daily it is on every day; allowed: one of the two")
        return self

    def least_ready(self, n: int) -> int:  # noqa: ARG002  (of a fleet of n)
        """How many of a fleet of n stay ready at the least, by its own doing."""
        return 0

    def extra_replicas(self, n: int) -> int:  # noqa: ARG002  (of a fleet of n)
        """How many replicas more than a fleet of n there may be meanwhile."""
        return 0

    def problem(self, n: int, most: int | None) -> str | None:  # noqa: ARG002  (for those that have one)
        """Why it cannot be done with a fleet of n, of which the tier allows `most`; None: it can."""
        return None

    @property
    def is_judged(self) -> bool:
        """Whether anything may undo it."""
        return self.rollback_above is not None or self.rollback_slower is not None

    @property
    def keep_judging_used(self) -> float:
        """`keep_judging`, or `watch` [s]."""
        return self.watch if self.keep_judging is None else self.keep_judging

    def begin_rollback(self, fleet: RolloutFleet[Any], n: int, most: int | None, version: int, now_s: float) -> Update:
        """Start moving the n replicas of a fleet back to the old version, after the end: by the same strategy."""
        return self.begin(fleet, n, most, version, now_s)

    @abstractmethod
    def begin(self, fleet: RolloutFleet[Any], n: int, most: int | None, version: int, now_s: float) -> Update:
        """Start moving the n replicas of a fleet to another version, new or, where an update goes back, old."""


@dataclass
class Update(ABC):
    """One update under way. It acts whenever `step` is called, until that returns True."""

    fleet: RolloutFleet[Any]  # of whatever replicas the engine has
    n: int  # replicas of the fleet when it began
    version: int  # that it goes to
    in_place: bool

    @abstractmethod
    def step(self, now_s: float) -> bool:
        """Do what can be done now; return whether the update is over."""

    def undo(self, now_s: float) -> bool:  # noqa: ARG002  (for those that can)
        """Go back at once; False: it takes an update of its own, to the old version."""
        return False

    def order(self, now_s: float) -> bool:
        """Order a replica of the version it goes to, on a machine that was freed if it may. False: none can be."""
        return self.fleet.order(now_s, why="update", version=self.version, in_place=self.in_place) is not None

    def new(self) -> list[Any]:
        """The replicas of the version it goes to that are there or coming, and will stay."""
        of_version = self.fleet.of_version(self.version)
        return [replica for replica in of_version if not (replica.is_draining or replica.is_leaving)]

    def has_all(self, n: int) -> bool:
        """Whether there are n replicas of the version it goes to, all of them ready."""
        new = self.new()
        return len(new) >= n and all(replica.is_ready for replica in new)
