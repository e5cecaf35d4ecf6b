"""`on_arrival`: a replica for every request that finds no slot; scales to zero when idle."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal, Self

from pydantic import Field, model_validator

from libramen.base.fields import Seconds, usually
from libramen.rules.scaling.rule import Needs, Rule


class OnArrival(Rule):
    """Order a replica the moment a request arrives for which no slot is left; drain one that is idle for long.

    Slots of replicas on their way count as there, and requests that wait count as having one. It looks at no
    measure and takes no pause.
    """

    asked: ClassVar[Literal["never", "at_times", "on_arrival"]] = "on_arrival"
    comes_and_goes: ClassVar[bool] = True

    rule: Literal["on_arrival"] = Field("on_arrival", description="order when a request finds no slot")
    idle: Annotated[Seconds, usually(86400.0)] = Field(
        60.0, description="a replica without a request for this long drains [s]"
    )

    @model_validator(mode="after")
    def _has_no_wants(self) -> Self:
        if self.down_after:
            raise ValueError("down_after: the rule drains what has been idle for `idle`; allowed: to leave it out")
        return self

    @property
    def needs(self) -> Needs:
        """It must be told when a replica becomes idle."""
        return Needs(idle=True)
