"""Rolling updates: one small class a strategy, and the registry of them.

A strategy is a table of the study (its fields are the keys of `[[plans.NAME.rollouts]]`) that acts on
the fleet whenever a replica became ready or went. To add one, write the class and name it in
`STRATEGIES`.
"""

from __future__ import annotations

from typing import Annotated, TypeAlias

from pydantic import Field

from libramen.engine.rollout.rolling import Rolling
from libramen.engine.rollout.stop_start import StopStart

STRATEGIES: TypeAlias = Annotated[Rolling | StopStart, Field(discriminator="strategy")]

__all__ = ["STRATEGIES", "Rolling", "StopStart"]
