"""Scaling rules: one small class a file, and the registry of them.

A rule is a table of the study (its fields are the keys of `[plans.NAME.scaling]`) that can say how
many replicas it wants. To add one, write the class and name it in `RULES`.
"""

from __future__ import annotations

from typing import Annotated, TypeAlias

from pydantic import Field

from libramen.engine.scaling.fixed import Fixed
from libramen.engine.scaling.rule import Observation, Rule, Wanted
from libramen.engine.scaling.target import Target

RULES: TypeAlias = Annotated[Fixed | Target, Field(discriminator="rule")]

__all__ = ["RULES", "Fixed", "Observation", "Rule", "Target", "Wanted"]
