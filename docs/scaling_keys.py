"""Writes `scaling-keys.md`: the keys of every scaling rule, from the fields of their classes.

python docs/scaling_keys.py
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from libramen.base.fields import Table
from libramen.base.units import show_duration
from libramen.rules.scaling import CLASSES, NAMES, AnyRule, PeriodicRule, Rule
from libramen.rules.scaling.timetable import Entry

if TYPE_CHECKING:
    from pydantic.fields import FieldInfo

HEAD = """# The keys of `[plans.NAME.scaling]`

Written by `python docs/scaling_keys.py` from the classes in `src/libramen/rules/scaling/`. What the rules do is in
[choosing-a-scaling-rule.md](choosing-a-scaling-rule.md).
"""


def rows(table: type[Table], *, without: type[Table] | None = None) -> list[str]:
    """A row of Markdown for each key of a table that another has not."""
    known = set(without.model_fields) if without else set()
    return [
        f"| `{name}` | {field.description} | {'must be given' if field.is_required() else _written(field)} |"
        for name, field in table.model_fields.items()
        if name not in known | {"rule"} and not field.exclude
    ]


def _written(field: FieldInfo) -> str:
    default = field.default
    if default in (None, (), {}):
        return ""
    if "[s]" in (field.description or ""):
        default = show_duration(default)
    return f"`{', '.join(default) if isinstance(default, tuple) else default}`"


def section(title: str, keys: list[str]) -> str:
    return "\n".join([f"## {title}\n", "| key | | default |", "|---|---|---|", *keys]) + "\n"


def page() -> str:
    """The whole page."""
    sections = [
        section("In every rule", rows(AnyRule)),
        section("In every rule but `fixed`", rows(Rule, without=AnyRule)),
        section("In every rule but `fixed` and `on_arrival`", rows(PeriodicRule, without=Rule)),
    ]
    for name, rule in zip(NAMES, CLASSES, strict=True):
        base = PeriodicRule if issubclass(rule, PeriodicRule) else Rule if issubclass(rule, Rule) else AnyRule
        own = rows(rule, without=base)
        if own:
            sections.append(section(f'`rule = "{name}"`', own))
    sections.append(section("Each entry of a `timetable`", rows(Entry)))
    return "\n".join([HEAD, *sections])


if __name__ == "__main__":
    Path(__file__).with_name("scaling-keys.md").write_text(page())
