"""Scaling rules: one small class a file, and the registry of them.

A rule is a table of the study (its fields are the keys of `[plans.NAME.scaling]`) that can say how
many replicas it wants. To add one, write the class and name it in `CLASSES`.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any, Final, Union

from pydantic import Discriminator, Tag

from libramen.rules.scaling.ahead import Ahead
from libramen.rules.scaling.custom import PREFIX, Custom
from libramen.rules.scaling.fixed import Fixed
from libramen.rules.scaling.greatest import Greatest
from libramen.rules.scaling.on_arrival import OnArrival
from libramen.rules.scaling.rule import AnyRule, Observation, PeriodicRule, Rule, Wanted
from libramen.rules.scaling.steps import Steps
from libramen.rules.scaling.target import Target

CLASSES: Final[tuple[type[AnyRule], ...]] = (Fixed, Target, Steps, Greatest, OnArrival, Ahead, Custom)
"""All of them, in the order in which they are told of."""


def _tag_of(rule: type[AnyRule]) -> str:
    """By what a table says that it is this rule: what stands under `rule`."""
    return str(getattr(rule, "tag", None) or rule.model_fields["rule"].default)


NAMES: Final = tuple(f"{PREFIX}module:name" if rule is Custom else _tag_of(rule) for rule in CLASSES)
"""What `rule` may say."""


def _tag(table: Any) -> str | None:
    rule = table.get("rule") if isinstance(table, dict) else getattr(table, "rule", None)
    return PREFIX if callable(rule) or (isinstance(rule, str) and rule.startswith(PREFIX)) else rule


if TYPE_CHECKING:
    RULES = AnyRule
else:
    _UNKNOWN = {"key": "rule", "names": ", ".join(map(repr, NAMES))}
    RULES = Annotated[
        Union[tuple(Annotated[rule, Tag(_tag_of(rule))] for rule in CLASSES)],  # noqa: UP007  (it is computed)
        Discriminator(_tag, custom_error_type="tag", custom_error_message="{names}", custom_error_context=_UNKNOWN),
    ]

__all__ = [
    "CLASSES",
    "NAMES",
    "PREFIX",
    "RULES",
    "Ahead",
    "AnyRule",
    "Custom",
    "Fixed",
    "Greatest",
    "Observation",
    "OnArrival",
    "PeriodicRule",
    "Rule",
    "Steps",
    "Target",
    "Wanted",
]
