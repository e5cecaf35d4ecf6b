"""`dependency`: what the service waits for answers late, or not at all."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

from pydantic import Field

from libramen.base.fields import Factor, Fraction
from libramen.rules.faults.fault import FaultFleet, Lasting


class Dependency(Lasting):
    """Waits are longer, and a share of attempts fails at the end of the CPU work.

    Example:
        >>> Dependency(at="12:00", lasts="5m", slower=3, errors="10%").errors
        0.1
    """

    names: ClassVar[tuple[str, str]] = ("dependency fault", "dependency faults")
    may_err: ClassVar[bool] = True

    kind: Literal["dependency"] = Field("dependency", description="what the service waits for is slow, or fails")
    slower: Factor = Field(1.0, description="waits that begin meanwhile are multiplied by this")
    errors: Fraction = Field(0.0, description="this share of attempts fails at the end of its CPU work")

    def strike(self, fleet: FaultFleet[Any], now_s: float, target: int | str | None = None) -> None:  # noqa: ARG002
        """It begins."""
        fleet.depend(self, self.slower, self.errors, now_s)
