"""`rolling`: a few replicas at a time."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Annotated, Any, Literal

from pydantic import Field, field_validator

from libramen.base import units
from libramen.base.errors import UnitError
from libramen.base.fields import Count, PositiveCount, Share, text_or_number
from libramen.base.times import EPSILON_S
from libramen.rules.rollouts.update import Rollout, RolloutFleet, Update

_KEEP = 'a number of replicas, a share such as "60%", or "all"'


class Rolling(Rollout):
    """`batch` at a time, with at most `spare` replicas more and never fewer than `keep` ready."""

    strategy: Literal["rolling"] = Field("rolling", description="a few at a time")
    batch: PositiveCount = Field(1, description="most replicas ordered, and most drained, in one round")
    spare: Count = Field(1, description="replicas more than the fleet that may exist meanwhile")
    keep: Annotated[Count | Share | Literal["all"], text_or_number(_KEEP, rf"{units.SHARE_PATTERN}|^all$")] = Field(
        "all", description=f"replicas kept ready: {_KEEP}"
    )
    in_place: bool = Field(False, description="new replicas take over the machines of the old ones")

    @field_validator("keep", mode="before")
    @classmethod
    def _read_keep(cls, value: Any) -> Any:
        if isinstance(value, str) and value.endswith("%"):
            value = float(Decimal(value[:-1].strip() or "nan")) / 100 if _is_number(value[:-1]) else None
        if isinstance(value, Decimal):
            value = float(value)
        if value == "all" or (isinstance(value, float) and 0 <= value <= 1):
            return value
        if isinstance(value, int) and not isinstance(value, bool) and value >= 0:
            return value
        raise UnitError(value, _KEEP)

    def keep_of(self, n: int) -> int:
        """How many of a fleet of n are kept ready."""
        if self.keep == "all":
            return n
        if isinstance(self.keep, float):
            return math.ceil(self.keep * n - EPSILON_S)
        return min(int(self.keep), n)

    def least_ready(self, n: int) -> int:
        """How many of a fleet of n stay ready: `keep`, or what one round leaves."""
        return max(self.keep_of(n), n - self.batch)

    def extra_replicas(self, n: int) -> int:  # noqa: ARG002
        """`spare`."""
        return self.spare

    def problem(self, n: int, most: int | None) -> str | None:
        """A fixed fleet with nothing to spare and everything to keep could never be updated."""
        if most is not None and self.spare and n + self.spare > most:
            return f"spare = {self.spare} beside {n} replicas is {n + self.spare}; allowed: up to {most}"
        if self.spare == 0 and n and self.keep_of(n) == n:
            return (
                f"spare = 0 and keep = {self.keep!r} of {n} replicas could never move; "
                "allowed: spare of 1 or more, or a smaller keep"
            )
        return None

    def begin(self, fleet: RolloutFleet[Any], n: int, most: int | None, version: int, now_s: float) -> Update:  # noqa: ARG002
        """Set the limits of the update."""
        spare = self.spare if most is None else max(0, min(self.spare, most - n))
        keep = self.keep_of(n)
        if spare == 0 and keep == n:
            keep = n - 1  # else nothing could ever move
        return _RollingUpdate(fleet, n, version, self.in_place, batch=self.batch, most=n + spare, keep=keep)


def _is_number(text: str) -> bool:
    return text.strip().replace(".", "", 1).isdigit()


@dataclass
class _RollingUpdate(Update):
    batch: int = 1
    most: int = 0  # replicas that may exist at once
    keep: int = 0  # ready replicas below which the update drains none
    ordered: int = 0  # in this round
    drained: list[Any] = field(default_factory=list)  # in this round

    def step(self, now_s: float) -> bool:
        while True:
            before = self.ordered, len(self.drained)
            while self._act(now_s):  # until it can do no more at this instant
                pass
            if self._over():
                return True
            if self._pending():
                return False
            if before == (0, 0) == (self.ordered, len(self.drained)):
                return False  # even a fresh round can do nothing now; something else must happen first
            self.ordered, self.drained = 0, []

    def _act(self, now_s: float) -> bool:
        """Order and drain what this round still may. Returns whether anything was done."""
        fleet, before = self.fleet, (self.ordered, len(self.drained))
        alive = fleet.alive()
        may_order = min(self.batch - self.ordered, self.n - len(self.new()), self.most - len(alive))
        for _ in range(may_order):
            self.ordered += self.order(now_s)
        for old in alive:
            if len(self.drained) == self.batch:
                break
            if old.version == self.version or old.is_draining or old.is_leaving:
                continue
            if old.is_coming:  # it has died, and starts again with the old version
                fleet.cancel(old, now_s, why="update")
            elif fleet.n_ready > self.keep:
                fleet.drain(old, now_s, why="update")
            else:
                break
            self.drained.append(old)
        return (self.ordered, len(self.drained)) != before

    def _pending(self) -> bool:
        """Whether a new replica is still coming, or one that this round has drained still there."""
        return any(not new.is_ready for new in self.new()) or any(old.is_draining for old in self.drained)

    def _over(self) -> bool:
        """Whether n new ones are ready and no old one is left, but for those whose machine is being taken back."""
        new = self.new()
        left = [one for one in self.fleet.alive() if one.version != self.version and not one.is_leaving]
        return not left and len(new) >= self.n and all(one.is_ready for one in new)
