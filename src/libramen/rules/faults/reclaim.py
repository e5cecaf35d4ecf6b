"""`reclaim`: machines that were cheap because they may be taken back are taken back."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any, ClassVar, Literal, Self

from pydantic import Field, model_validator

from libramen.base.fields import Fraction, Seconds, nearest
from libramen.base.times import EPSILON_S
from libramen.rules.faults.fault import FaultFleet, OfReplicas, Times


class Reclaim(OfReplicas):
    """A machine is gone after a notice; another is ordered at the notice, and the tier says when the old one drains.

    Example:
        >>> Reclaim(at="17:30", share="50%", notice="30s").share
        0.5
    """

    names: ClassVar[tuple[str, str]] = ("reclaim", "reclaims")
    while_ready: ClassVar[bool] = False

    kind: Literal["reclaim"] = Field("reclaim", description="a machine is taken back after a notice")
    share: Fraction | None = Field(
        None, description="of the replicas that are there (of the tier), lowest numbers, all at once"
    )
    tier: str | None = Field(
        None, description="name of a tier of a mixed fleet (default: all whose machines may be taken back)"
    )
    notice: Seconds | None = Field(
        None, description="from the notice to when the machine is gone (default: the tier's)"
    )

    @model_validator(mode="after")
    def _one_or_some(self) -> Self:
        if self.share is not None and self.replica is not None:
            raise ValueError("share: it strikes a share of the fleet; allowed: without replica")
        return self

    @property
    def scope(self) -> Literal["replica", "zone", "service"]:
        """Of a share of the fleet: the service has the random time."""
        return super().scope if self.share is None else "service"

    def problem(self, zones: tuple[str, ...], tiers: Mapping[str, bool]) -> str | None:  # noqa: ARG002
        """A tier from which machines are not taken back."""
        if self.tier is not None and self.tier not in tiers:
            return f"tier: found {self.tier!r}; {nearest(self.tier, tiers)}"
        if any(tiers.values()) if self.tier is None else tiers[self.tier]:
            return None
        which = "the tier" if self.tier is None else f"tier {self.tier!r}"
        return f"{which} is not interruptible; allowed: a tier with interruptible = true"

    def is_about(self, fleet: FaultFleet[Any], replica: Any) -> bool:
        """Whether its machine may be taken back, and is of the tier that is named."""
        return fleet.is_of(replica, self.tier)

    def outage_s(self, times: Times) -> float:
        """Of a single replica, or of all of them, from when it drains until another one is ready [s]."""
        if times.n != 1 and self.share != 1:
            return 0.0
        notice_s = times.notice_s if self.notice is None else self.notice
        serves_s = max(0.0, notice_s - times.drain_s) if times.serves_on else 0.0
        return max(0.0, times.provision_s + times.start_s - serves_s)

    def struck(self, fleet: FaultFleet[Any], target: int | str | None) -> Any:
        """Without a number the lowest ready one that is not under notice."""
        if target or self.replica:
            named = super().struck(fleet, target)
            return named if named is not None and self.is_about(fleet, named) else None
        ready = (one for one in fleet.alive() if one.can_die and not (one.is_draining or one.is_reclaimed))
        return next((one for one in ready if self.is_about(fleet, one)), None)

    def strike(self, fleet: FaultFleet[Any], now_s: float, target: int | str | None = None) -> None:
        """Give notice."""
        if self.share is None:
            replica = self.struck(fleet, target)
            struck = [] if replica is None else [replica]
        else:
            alive = [one for one in fleet.alive() if not one.is_held_up and self.is_about(fleet, one)]
            struck = alive[: math.ceil(self.share * len(alive) - EPSILON_S)]
        for replica in struck:
            fleet.reclaim(replica, now_s, notice_s=self.notice)
