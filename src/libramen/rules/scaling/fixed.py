"""`fixed`: always the number of replicas that the plan starts with."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from libramen.rules.scaling.rule import AnyRule


class Fixed(AnyRule):
    """Always `replicas`; with a timetable, kept within its floors and ceilings."""

    rule: Literal["fixed"] = Field("fixed", description="the number of replicas never changes, but by a timetable")

    @property
    def needs_autoscaling(self) -> bool:
        """Whether the tier must run it: people change the number by hand."""
        return False

    @property
    def decides(self) -> bool:
        """Whether it can ever change the number of replicas."""
        return bool(self.timetable)
