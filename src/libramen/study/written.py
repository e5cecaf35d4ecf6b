"""Plans and tiers as study files have them."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from typing import Any

from libramen.base.errors import StudyError
from libramen.study.hosting import Hosting
from libramen.study.mix import Stock
from libramen.study.plan import Plan
from libramen.study.service import Tier

_BARE = re.compile(r"[A-Za-z0-9_-]+")
_TABLES = ("rollouts", "faults")


def plan_toml(plan: Plan, name: str, tiers: dict[str, Tier]) -> str:
    """The tables of a plan, as TOML.

    Args:
        plan: it.
        name: under which it is written.
        tiers: of the study: the plan names its tier and size, so they must be as the study has them.

    Raises:
        StudyError: its tier or its size is not as the study has it.
    """
    named = plan.replace(name=name)
    tables = [_tables(part, ".".join(map(_key, named.place_of(of))), tiers) for of, part in plan.services.items()]
    if plan.edge is not None:
        kept = plan.edge.model_dump(mode="json", exclude_defaults=True)
        tables.append("\n".join([f"[plans.{_key(name)}.edge]", *_lines(kept)]) + "\n")
    return "\n".join(tables)


def tiers_toml(tiers: Mapping[str, Tier]) -> str:
    """Tiers as a catalogue, as TOML: what is as usual is left out."""
    parts = []
    for name, tier in tiers.items():
        kept = tier.model_dump(mode="json", exclude_defaults=True)
        sizes = kept.pop("sizes")
        parts.append("\n".join([f"[tiers.{_key(name)}]", *_lines(kept)]))
        parts += ["\n".join([f"[tiers.{_key(name)}.sizes.{_key(one)}]", *_lines(size)]) for one, size in sizes.items()]
    return "\n\n".join(parts) + "\n"


def _tables(hosting: Hosting, place: str, tiers: dict[str, Tier]) -> str:
    for stock in hosting.stocks:
        tier = tiers.get(stock.tier.name)
        if tier is None or stock.tier != tier or tier.sizes.get(stock.size.name) != stock.size:
            raise StudyError(
                f"plan {hosting.plan!r}: its tier or size is not as the study sells it, so it cannot be named; "
                "allowed: a plan of which neither is changed"
            )
    kept = hosting.model_dump(mode="json", exclude_defaults=True, exclude={"tier", "size", "mix"})
    lines = [f"[{place}]"]
    if hosting.mix:
        lines.append(f"mix = {_value([_named(stock) for stock in hosting.mix])}")
    else:
        lines += [f"{key} = {_value(name)}" for key, name in _named(hosting).items()]
    lines += [f"{_key(key)} = {_value(value)}" for key, value in kept.items() if key not in {"scaling", *_TABLES}]
    if "scaling" in kept or hosting.scaling.rule != "fixed":
        lines += ["", f"[{place}.scaling]", *_lines({"rule": hosting.scaling.rule} | kept.get("scaling", {}))]
    for table, tag in zip(_TABLES, ("strategy", "kind"), strict=True):
        for entry, values in zip(getattr(hosting, table), kept.get(table, ()), strict=True):
            lines += ["", f"[[{place}.{table}]]", *_lines({tag: getattr(entry, tag)} | values)]
    return "\n".join(lines) + "\n"


def _named(stock: Stock | Hosting) -> dict[str, Any]:
    named = {"tier": stock.tier.name, "size": stock.size.name}
    return named | ({"replicas": stock.replicas} if isinstance(stock, Stock) and stock.replicas is not None else {})


def _lines(table: dict[str, Any]) -> list[str]:
    return [f"{_key(key)} = {_value(value)}" for key, value in table.items() if value is not None]


def _key(name: str) -> str:
    return name if _BARE.fullmatch(name) else json.dumps(name, ensure_ascii=False)


def _value(value: Any) -> str:
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{_key(key)} = {_value(inner)}" for key, inner in value.items()) + " }"
    if isinstance(value, list | tuple):
        return "[" + ", ".join(map(_value, value)) + "]"
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int | float):
        return repr(value)
    return json.dumps(str(value), ensure_ascii=False)
