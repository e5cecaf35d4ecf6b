"""Faults: one small class a kind, and the registry of them.

A kind is a table of the study (its fields are the keys of `[[plans.NAME.faults]]`) that does something to the fleet
when it strikes. To add one, write the class and name it in `CLASSES`.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Final, Union

from pydantic import Field

from libramen.rules.faults.crash import Crash
from libramen.rules.faults.dependency import Dependency
from libramen.rules.faults.fault import Fault
from libramen.rules.faults.no_stock import NoStock
from libramen.rules.faults.reclaim import Reclaim
from libramen.rules.faults.region_loss import RegionLoss
from libramen.rules.faults.slow import Slow
from libramen.rules.faults.zone_loss import ZoneLoss

CLASSES: Final[tuple[type[Fault], ...]] = (Crash, Reclaim, ZoneLoss, RegionLoss, Dependency, Slow, NoStock)

BY_KIND: Final[dict[str, type[Fault]]] = {of.model_fields["kind"].default: of for of in CLASSES}

if TYPE_CHECKING:
    KINDS = Fault
else:
    KINDS = Annotated[Union[CLASSES], Field(discriminator="kind")]  # noqa: UP007  (it is computed)

__all__ = [
    "BY_KIND", "CLASSES", "KINDS", "Crash", "Dependency", "Fault", "NoStock", "Reclaim", "RegionLoss", "Slow",
    "ZoneLoss",
]  # fmt: skip
