"""Rollouts: one small class a strategy, and the registry of them.

A strategy is a table of the study (its fields are the keys of `[[plans.NAME.rollouts]]`) that acts on
the fleet whenever a replica became ready or went. To add one, write the class and name it in
`CLASSES`.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Final, Union

from pydantic import Field

from libramen.rules.rollouts.canary import Canary
from libramen.rules.rollouts.handover import Handover
from libramen.rules.rollouts.rolling import Rolling
from libramen.rules.rollouts.stop_start import StopStart
from libramen.rules.rollouts.switch import Switch
from libramen.rules.rollouts.update import Rollout

CLASSES: Final[tuple[type[Rollout], ...]] = (Rolling, StopStart, Switch, Canary, Handover)

if TYPE_CHECKING:
    STRATEGIES = Rollout
else:
    STRATEGIES = Annotated[Union[CLASSES], Field(discriminator="strategy")]  # noqa: UP007  (it is computed)

__all__ = ["CLASSES", "STRATEGIES", "Canary", "Handover", "Rolling", "Rollout", "StopStart", "Switch"]
