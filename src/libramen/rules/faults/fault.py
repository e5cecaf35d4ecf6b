"""What a fault is: the keys that all kinds have, and what a fault does to a fleet."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from typing import Annotated, Any, ClassVar, Literal, NamedTuple, Protocol, Self, TypeAlias, TypeVar

from pydantic import BeforeValidator, Field, WithJsonSchema, model_validator

from libramen.base.errors import UnitError
from libramen.base.fields import PositiveCount, PositiveSeconds, Table, nearest
from libramen.base.times import At, Days


class Times(NamedTuple):
    """What a fault meets, as far as it is known beforehand."""

    n: int  # replicas
    zones: tuple[str, ...]  # over which they are spread
    detect_s: float  # until the balancer knows of a death
    provision_s: float  # until a new machine is there
    start_s: float  # what a process takes to start
    at_once: bool  # whether a dead one is started again before the balancer knows of it
    notice_s: float  # from when a machine is called back to when it is gone
    drain_s: float  # what a replica takes to drain, at the most
    serves_on: bool  # whether one under notice serves until another is ready


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

    @property
    def is_reclaimed(self) -> bool:
        """Whether its machine is being taken back."""

    @property
    def is_standby(self) -> bool:
        """Whether it works, and serves nobody until it is promoted."""

    @property
    def is_held_up(self) -> bool:
        """Whether it has no machine, since the tier is out of stock."""


_M = TypeVar("_M", bound=Member)


def _number_or_any(value: Any) -> Any:
    if value in {None, "any"} or (isinstance(value, int) and not isinstance(value, bool) and value > 0):
        return value
    raise UnitError(value, 'a whole number from 1 on, or "any"')


OneReplica: TypeAlias = Annotated[
    PositiveCount | Literal["any"] | None,
    BeforeValidator(_number_or_any),
    WithJsonSchema({"anyOf": [{"type": "integer", "minimum": 1}, {"const": "any"}]}),
]
"""The number of a replica; any of those ready; None: as the key says."""


class FaultFleet(Protocol[_M]):
    """What a fault sees of a fleet, and does to it; the engine has it."""

    def alive(self) -> list[_M]:
        """Not gone yet, by number."""

    def crash(self, replica: _M, now_s: float, *, detect_s: float | None, why: str) -> None:
        """The process of a replica dies; `detect_s`: until the balancer knows, None: as the tier says."""

    def reclaim(self, replica: _M, now_s: float, *, notice_s: float | None) -> None:
        """The machine of a replica is taken back after a notice, None: the tier's, and one ordered in its place."""

    def lose(self, zone: str, now_s: float, *, detect_s: float | None) -> None:
        """Every machine of a zone is lost, and nothing is ordered there."""

    def open(self, zone: str, now_s: float) -> None:
        """Machines may be ordered in a zone again, unless it is lost for another reason too."""

    def lose_region(self, now_s: float, *, detect_s: float, silent: bool) -> None:
        """Everything in the region of this fleet is lost; `silent`: nothing comes back from there until it is found."""

    def open_region(self, now_s: float) -> None:
        """What was lost there is ordered again, unless it is lost for another reason too."""

    def slow(self, key: object, slower: float, *, replica: int | None, zone: str | None, now_s: float) -> None:
        """CPU work that begins is multiplied by `slower`, on one replica, in one zone, or everywhere."""

    def depend(self, key: object, slower: float, errors: float, now_s: float) -> None:
        """Waits that begin are multiplied by `slower`, and this share of attempts fails before."""

    def is_of(self, replica: _M, tier: str | None) -> bool:
        """Whether the machine of a replica is of this tier, None: of one that may take its machines back."""

    def suspend_orders(self, key: object, *, zone: str | None, tier: str | None) -> None:
        """No order is met from now on, in one zone or anywhere, of one tier or of all."""

    def restore(self, key: object, now_s: float) -> None:
        """What was called `key` is over; where it was begun more than once, the first of them."""


class Fault(Table, ABC):
    """The keys of `[[plans.NAME.faults]]` that every kind has."""

    strikes: ClassVar[Literal["replica", "zone", "service"]] = "replica"
    """What has a random time of its own, where it comes at random."""
    while_ready: ClassVar[bool] = True
    """Whether a replica is struck at random while it is ready only, or from when it was ordered."""
    is_instant: ClassVar[bool] = False
    """Whether it is over as soon as it has struck, so that at random it may come again from then on."""
    changes_fleet: ClassVar[bool] = True
    """Whether replicas come or go by it, so that held requests may wait for it."""
    may_err: ClassVar[bool] = False
    """Whether attempts may fail by themselves."""

    names: ClassVar[tuple[str, str]]
    """What one, and what several, are called in a sentence."""

    kind: str
    at: At | None = Field(None, description="when it happens")
    daily: bool = Field(False, description="on every day of the trace, for a time of day")
    days: Days | None = Field(None, description="on these weekdays, for a time of day")
    every_about: PositiveSeconds | None = Field(
        None, description="mean time between, exponential: it comes at random, instead of `at`"
    )

    @model_validator(mode="after")
    def _has_a_time(self) -> Self:
        if (self.at is None) == (self.every_about is None):
            raise ValueError("at (when) or every_about (mean time between, at random): one of the two is needed")
        if self.every_about is not None and (self.daily or self.days):
            raise ValueError("daily, days: a fault with every_about comes at random; allowed: to leave them out")
        if self.days and self.daily:
            raise ValueError("days: with daily it is on every day; allowed: one of the two")
        return self

    def may_strike(self, target: int | str) -> bool:  # noqa: ARG002  (for those that name one)
        """Whether its time may come at random for a replica of this number, or for this zone."""
        return True

    @property
    def scope(self) -> Literal["replica", "zone", "service"]:
        """What has a random time of its own, where this one comes at random."""
        return self.strikes

    @property
    def draws_replica(self) -> bool:
        """Whether it strikes one replica of those that are ready, drawn when it does."""
        return False

    def is_about(self, fleet: FaultFleet[Any], replica: Any) -> bool:  # noqa: ARG002  (for those that choose)
        """Whether it may strike a replica, if its time has come or it is drawn."""
        return True

    @property
    def number(self) -> int:
        """Of the replica that it strikes, which says what comes first at one instant; 0: of none in particular."""
        return 0

    @property
    def lasts_s(self) -> float | None:
        """For how long it lasts [s]; None: to the end of the replay, or it is over at once."""
        return None

    def outage_s(self, times: Times) -> float:  # noqa: ARG002  (for those that have one)
        """For how long a fleet has no replica that works, at the least, by its own doing [s]."""
        return 0.0

    def problem(self, zones: tuple[str, ...], tiers: Mapping[str, bool]) -> str | None:  # noqa: ARG002  (for some)
        """Why a plan in these zones, on these tiers, cannot have it; None: it can.

        Args:
            zones: their names.
            tiers: by name, whether machines of it may be taken back.
        """
        return None

    @abstractmethod
    def strike(self, fleet: FaultFleet[Any], now_s: float, target: int | str | None = None) -> None:
        """Let it happen; `target`: the number of the replica, or the zone, whose time has come at random."""

    def end(self, fleet: FaultFleet[Any], now_s: float, target: int | str | None = None) -> None:
        """It is over, `lasts_s` after it began."""


class Lasting(Fault, ABC):
    """A fault that goes on for a while, during which the service is worse off, and that changes no fleet."""

    strikes: ClassVar[Literal["replica", "zone", "service"]] = "service"
    changes_fleet: ClassVar[bool] = False

    lasts: PositiveSeconds | None = Field(None, description="for how long (default: to the end)")

    @property
    def lasts_s(self) -> float | None:
        """For how long it lasts [s]."""
        return self.lasts

    def end(self, fleet: FaultFleet[Any], now_s: float, target: int | str | None = None) -> None:  # noqa: ARG002
        """It is over."""
        fleet.restore(self, now_s)


class InAZone(Lasting, ABC):
    """One that may be in one zone only."""

    zone: str | None = Field(None, description="name of the zone (default: all)")

    def problem(self, zones: tuple[str, ...], tiers: Mapping[str, bool]) -> str | None:  # noqa: ARG002
        """A zone in which the plan has nothing."""
        if self.zone is None or self.zone in zones:
            return None
        return f"zone: found {self.zone!r}; {nearest(self.zone, zones)}"


class OfReplicas(Fault, ABC):
    """A fault that strikes one replica."""

    is_instant: ClassVar[bool] = True

    replica: OneReplica = Field(
        None, description='number of the replica, or "any": one of those ready, drawn (default: the lowest ready one)'
    )

    def may_strike(self, target: int | str) -> bool:
        """Whether it is about that replica."""
        return self.replica in {None, target}

    @property
    def scope(self) -> Literal["replica", "zone", "service"]:
        """Of any of them: the service has the random time."""
        return "service" if self.draws_replica else "replica"

    @property
    def draws_replica(self) -> bool:
        """With `replica = "any"`."""
        return self.replica == "any"

    @property
    def number(self) -> int:
        """Of the replica."""
        return self.replica if isinstance(self.replica, int) else 0

    def struck(self, fleet: FaultFleet[Any], target: int | str | None) -> Any:
        """The replica that is struck: the one whose time has come, or that is named, or the lowest ready; or None."""
        wanted = target or self.replica
        for replica in fleet.alive():
            if replica.number == wanted or (wanted is None and _serves(replica)):
                return replica
        return None


def _serves(replica: Member) -> bool:
    """Whether it is really ready: it works, and takes requests."""
    return replica.can_die and not (replica.is_draining or replica.is_standby)
