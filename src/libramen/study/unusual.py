"""Numbers of a study that can hardly be meant, such as milliseconds where seconds are read.

What is usual stands beside each field (`fields.usually`); nothing is refused for being unusual, but it is said.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from pydantic import BaseModel

from libramen.base.delays import Delay
from libramen.base.fields import Table, Usual
from libramen.study.hosting import Hosting
from libramen.study.plan import ALONE
from libramen.study.service import Tier
from libramen.study.study import Study


def unusual_values(study: Study) -> tuple[str, ...]:
    """What a study says that is far from usual, a sentence each; empty: nothing."""
    found: dict[str, None] = {}
    tables: list[tuple[str, Any]] = [("trace", study.trace_table), ("objectives", study.objectives)]
    for name, service in study.services.items():
        tables.append(("service" if name == ALONE else f"services.{name}", service))
    for plan in study.plans.values():
        for one in study.system(plan).hosted:
            tables += [(f"tiers.{stock.tier.name}", stock.tier) for stock in one.hosting.stocks]
            where = ".".join(plan.place_of(one.name))
            tables.append((where, one.hosting))
            if one.hosting.service:
                tables.append((f"{where}.service", one.service))
    for where, table in tables:
        found |= dict.fromkeys(_of_table(where, table))
        if isinstance(table, Hosting):
            found |= dict.fromkeys(_idle_entries(where, table))
    return tuple(found)


def unusual_tiers(tiers: Mapping[str, Tier]) -> tuple[str, ...]:
    """The same of the tiers of a catalogue."""
    return tuple(said for name, tier in tiers.items() for said in _of_table(f"tiers.{name}", tier))


def _idle_entries(where: str, hosting: Hosting) -> Iterator[str]:
    """Entries of the timetable of a fixed fleet with fewer replicas than it has: it never wants fewer."""
    if hosting.scaling.bounds is not None or hosting.counts:
        return
    for place, entry in enumerate(hosting.scaling.timetable, start=1):
        stays = hosting.replicas_used if entry.ceiling is None else min(hosting.replicas_used, entry.ceiling)
        if entry.floor < stays:
            yield (
                f"[{where}.scaling.timetable[{place}]] a floor of {entry.floor} takes no replica away: a fixed fleet "
                f"wants its replicas = {hosting.replicas_used}, and has {stays} then. For {entry.floor}: replicas = "
                f"{entry.floor} in the plan, or ceiling = {entry.floor} in the entry."
            )


def _of_table(where: str, table: Table) -> Iterator[str]:
    for key in type(table).model_fields:
        value, field = getattr(table, key), type(table).model_fields[key]
        if key in {"tier", "size"}:  # they stand elsewhere
            continue
        usual = next((one for one in field.metadata if isinstance(one, Usual)), None)
        if usual is not None and key in table.model_fields_set:
            yield from _of_value(where, key, value, usual)
        yield from _below(where, key, value)


def _below(where: str, key: str, value: Any) -> Iterator[str]:
    if isinstance(value, Table):
        yield from _of_table(f"{where}.{key}", value)
    elif isinstance(value, dict):
        for name, one in value.items():
            if isinstance(one, BaseModel):
                yield from _below(f"{where}.{key}", name, one)
    elif isinstance(value, tuple):
        for place, one in enumerate(value, start=1):
            if isinstance(one, Table):
                yield from _of_table(f"{where}.{key}[{place}]", one)


def _of_value(where: str, key: str, value: Any, usual: Usual) -> Iterator[str]:
    number = value.median_s if isinstance(value, Delay) else value
    if not isinstance(number, int | float) or isinstance(number, bool) or usual.least <= number <= usual.most:
        return
    if number == 0:
        return
    shown, limit = usual.show(number), usual.show(usual.most if number > usual.most else usual.least)
    bound = "at most" if number > usual.most else "at least"
    yield f"[{where}] {key} is {shown}; usual is {bound} {limit}.{usual.hint}"
