"""`on_arrival`: a replica for every request that finds no slot, none for nobody."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from libramen.engine.scaling.rule import Rule
from libramen.fields import Seconds


class OnArrival(Rule):
    """Order a replica the moment a request arrives for which no slot is left; drain one that is idle for long.

    Slots of replicas on their way count as there, and requests that wait count as having one. It looks at no
    measure and takes no pause: `engine.arrivals` runs it.
    """

    rule: Literal["on_arrival"] = Field("on_arrival", description="order when a request finds no slot")
    idle: Seconds = Field(60.0, description="a replica without a request for this long drains [s]")

    @property
    def sees_idle(self) -> bool:
        """It must be known when a replica falls idle."""
        return True
