"""`slow`: a bad neighbour, a cold cache: CPU work takes longer."""

from __future__ import annotations

from typing import Any, ClassVar, Literal, Self

from pydantic import Field, model_validator

from libramen.base.fields import Factor
from libramen.rules.faults.fault import FaultFleet, InAZone, OneReplica


class Slow(InAZone):
    """CPU work that begins meanwhile is multiplied, on one replica, in one zone, or everywhere.

    Example:
        >>> Slow(at="12:00", lasts="5m", slower=2, replica=1).number
        1
    """

    names: ClassVar[tuple[str, str]] = ("slowdown", "slowdowns")

    kind: Literal["slow"] = Field("slow", description="CPU work takes longer")
    slower: Factor = Field(1.0, description="CPU work that begins meanwhile is multiplied by this")
    replica: OneReplica = Field(
        None, description='number of the replica, or "any": one of those ready, drawn (default: all)'
    )

    @property
    def draws_replica(self) -> bool:
        """With `replica = "any"`."""
        return self.replica == "any"

    @property
    def number(self) -> int:
        """Of the replica."""
        return self.replica if isinstance(self.replica, int) else 0

    @model_validator(mode="after")
    def _one_place(self) -> Self:
        if self.replica is not None and self.zone is not None:
            raise ValueError("replica, zone: it is on one replica or in one zone; allowed: one of the two, or neither")
        return self

    def strike(self, fleet: FaultFleet[Any], now_s: float, target: int | str | None = None) -> None:
        """It begins; with "any" on the replica that was drawn."""
        replica = target if isinstance(target, int) else self.number or None
        fleet.slow(self, self.slower, replica=replica, zone=self.zone, now_s=now_s)
