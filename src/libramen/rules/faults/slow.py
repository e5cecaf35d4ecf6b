"""`slow`: a bad neighbour, a cold cache: CPU work takes longer."""

from __future__ import annotations

from typing import Any, ClassVar, Literal, Self

from pydantic import Field, model_validator

from libramen.base.fields import Factor, PositiveSeconds, nearest
from libramen.rules.faults.fault import Fault, FaultFleet, OneReplica


class Slow(Fault):
    """CPU work that begins meanwhile is multiplied, on one replica, in one zone, or everywhere.

    Example:
        >>> Slow(at="12:00", lasts="5m", slower=2, replica=1).number
        1
    """

    names: ClassVar[tuple[str, str]] = ("slowdown", "slowdowns")
    strikes: ClassVar[Literal["replica", "zone", "service"]] = "service"
    changes_fleet: ClassVar[bool] = False

    kind: Literal["slow"] = Field("slow", description="CPU work takes longer")
    lasts: PositiveSeconds | None = Field(None, description="for how long (default: to the end)")
    slower: Factor = Field(1.0, description="CPU work that begins meanwhile is multiplied by this")
    replica: OneReplica = Field(
        None, description='number of the replica, or "any": one of those ready, drawn (default: all)'
    )
    zone: str | None = Field(None, description="name of the zone (default: all)")

    @property
    def draws_one(self) -> bool:
        """With `replica = "any"`."""
        return self.replica == "any"

    @property
    def number(self) -> int:
        """Of the replica."""
        return self.replica if isinstance(self.replica, int) else 0

    @property
    def lasts_s(self) -> float | None:
        """For how long it lasts [s]."""
        return self.lasts

    @model_validator(mode="after")
    def _one_place(self) -> Self:
        if self.replica is not None and self.zone is not None:
            raise ValueError("replica, zone: it is on one replica or in one zone; allowed: one of the two, or neither")
        return self

    def problem(self, zones: tuple[str, ...], *, interruptible: bool) -> str | None:  # noqa: ARG002
        """A zone in which the plan has nothing."""
        if self.zone is None or self.zone in zones:
            return None
        return f"zone: found {self.zone!r}; {nearest(self.zone, zones)}"

    def strike(self, fleet: FaultFleet[Any], now_s: float, target: int | str | None = None) -> None:
        """It begins; with "any" on the replica that was drawn."""
        replica = target if isinstance(target, int) else self.number or None
        fleet.slow(self, self.slower, replica=replica, zone=self.zone, now_s=now_s)

    def end(self, fleet: FaultFleet[Any], now_s: float, target: int | str | None = None) -> None:  # noqa: ARG002
        """It is over."""
        fleet.restore(self, now_s)
