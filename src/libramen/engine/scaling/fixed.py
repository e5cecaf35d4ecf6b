"""`fixed`: always the number of replicas that the plan starts with."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from libramen.fields import Table


class Fixed(Table):
    """Always `replicas`; never decides anything."""

    rule: Literal["fixed"] = Field("fixed", description="the number of replicas never changes")
