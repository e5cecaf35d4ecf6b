"""Scaling rules: one small class a file, and the registry of them.

A rule is a table of the study (its fields are the keys of `[plans.NAME.scaling]`) that can say how
many replicas it wants. To add one, write the class and name it in `RULES`.
"""

from __future__ import annotations

from typing import Annotated, Any, Final, TypeAlias

from pydantic import Discriminator, Tag

from libramen.engine.scaling.ahead import Ahead
from libramen.engine.scaling.custom import PREFIX, Custom
from libramen.engine.scaling.fixed import Fixed
from libramen.engine.scaling.on_arrival import OnArrival
from libramen.engine.scaling.rule import AnyRule, Observation, PeriodicRule, Rule, Wanted
from libramen.engine.scaling.steps import Steps
from libramen.engine.scaling.target import Target

NAMES: Final = ("fixed", "target", "steps", "on_arrival", "ahead", f"{PREFIX}module:name")
"""What `rule` may say."""


def _tag(table: Any) -> str | None:
    rule = table.get("rule") if isinstance(table, dict) else getattr(table, "rule", None)
    return PREFIX if callable(rule) or (isinstance(rule, str) and rule.startswith(PREFIX)) else rule


_UNKNOWN: Final = {"key": "rule", "names": ", ".join(map(repr, NAMES))}

RULES: TypeAlias = Annotated[
    Annotated[Fixed, Tag("fixed")]
    | Annotated[Target, Tag("target")]
    | Annotated[Steps, Tag("steps")]
    | Annotated[OnArrival, Tag("on_arrival")]
    | Annotated[Ahead, Tag("ahead")]
    | Annotated[Custom, Tag(PREFIX)],
    Discriminator(_tag, custom_error_type="tag", custom_error_message="{names}", custom_error_context=_UNKNOWN),
]

__all__ = [
    "NAMES",
    "PREFIX",
    "RULES",
    "Ahead",
    "AnyRule",
    "Custom",
    "Fixed",
    "Observation",
    "OnArrival",
    "PeriodicRule",
    "Rule",
    "Steps",
    "Target",
    "Wanted",
]
