"""From the tables of a study file to services and plans."""

from __future__ import annotations

import tomllib
from decimal import Decimal
from pathlib import Path
from typing import Any, TypeVar

from pydantic import ValidationError

from libramen.base.errors import StudyError
from libramen.base.fields import Table, describe, nearest
from libramen.study.edge import Edge
from libramen.study.hosting import Hosting
from libramen.study.mix import Stock
from libramen.study.plan import ALONE, Plan
from libramen.study.service import Service, Tier

_Table = TypeVar("_Table", bound=Table)


def read_services(path: Path, only: Service | None, tables: dict[str, dict[str, Any]]) -> dict[str, Service]:
    """The services of a study, by name.

    Args:
        path: the study file.
        only: what `[service]` says, if it is there.
        tables: what `[services.NAME]` say.

    Raises:
        StudyError: neither is there, or both are, or one says something that is not allowed.
    """
    if only is not None and tables:
        raise StudyError(f"{path}: [service] and [services] are both there; allowed: one service, or several by name")
    if only is not None:
        for key in ("calls", "routes"):
            if getattr(only, key):
                raise StudyError(f"{path}: [service] {key}: there is one service; allowed: [services.NAME] for several")
        return {ALONE: only}
    if not tables:
        raise StudyError(f"{path}: [service] is missing; allowed: a service, or several as [services.NAME]")
    return {
        name: checked(path, Service, {key: value for key, value in table.items() if key != "plan"}, f"services.{name}")
        for name, table in tables.items()
    }


def read_plan(
    path: Path,
    name: str,
    table: dict[str, Any],
    services: dict[str, dict[str, Any]],
    tiers: dict[str, Tier],
) -> Plan:
    """A plan: what it says of each service, or what the study says of that service for all plans.

    Args:
        path: the study file.
        name: of the plan.
        table: what `[plans.NAME]` says.
        services: what `[services.NAME]` say; empty: there is one service without a name. Of one service the keys may
            stand in the plan itself.
        tiers: of the study.

    Raises:
        StudyError: a service has no plan, or it says something that is not allowed.
    """
    edge = checked(path, Edge, table["edge"], f"plans.{name}.edge") if "edge" in table else None
    table = {key: value for key, value in table.items() if key != "edge"}
    is_short = len(services) < 2 and (bool(table) or not services) and set(table) != {"services"}
    services = services or {ALONE: {}}
    if is_short:
        hosting = _read_hosting(path, f"plans.{name}", table, tiers)
        return Plan(name=name, services=dict.fromkeys(services, hosting), edge=edge)
    for key in table:
        if key not in {"services", "faults"}:
            raise StudyError(
                f"{path}: [plans.{name}] unknown key {key!r}; allowed: services, a table for each that is not as "
                "[services.NAME.plan] says, edge, and faults of kind region_loss"
            )
    own = table.get("services", {})
    if not isinstance(own, dict):
        raise StudyError(f"{path}: [plans.{name}] services: found {own!r}; allowed: tables by name")
    for service in own:
        if service not in services:
            raise StudyError(
                f"{path}: [plans.{name}.services] there is no service {service!r}; {nearest(service, services)}"
            )
    parts: dict[str, Hosting] = {}
    losses = _losses(path, name, table.get("faults", []))
    for service, said in services.items():
        part, place = own.get(service), f"plans.{name}.services.{service}"
        if part is None:
            part, place = said.get("plan"), f"services.{service}.plan"
        if part is None:
            raise StudyError(
                f"{path}: [plans.{name}] says nothing of service {service!r}; allowed: "
                f"[plans.{name}.services.{service}], or [services.{service}.plan] for all plans"
            )
        if not isinstance(part, dict):
            raise StudyError(f"{path}: [{place}] found {part!r}; allowed: a table with the keys of a plan")
        # A lost region is of the whole plan: the first service that stands there has it.
        there = part.get("regions", ())
        mine = [loss for loss in losses if loss.get("region") in {None, *there}]
        losses = [loss for loss in losses if loss not in mine]
        if mine:
            part = {**part, "faults": [*part.get("faults", []), *mine]}
        parts[service] = _read_hosting(path, place, part, tiers)
    if losses:
        raise StudyError(
            f"{path}: [plans.{name}.faults] region: found {losses[0].get('region')!r}; allowed: a region in which a "
            "service of the plan stands"
        )
    return Plan(name=name, services=parts, edge=edge)


def _losses(path: Path, name: str, faults: Any) -> list[dict[str, Any]]:
    """The faults of a plan of several services as a whole: lost regions.

    Raises:
        StudyError: there are others.
    """
    if not isinstance(faults, list) or not all(isinstance(fault, dict) for fault in faults):
        raise StudyError(f"{path}: [plans.{name}] faults: found {faults!r}; allowed: tables")
    for fault in faults:
        if fault.get("kind") != "region_loss":
            raise StudyError(
                f"{path}: [plans.{name}.faults] kind: found {fault.get('kind')!r}; allowed: region_loss, which is of "
                f"all services; others in [plans.{name}.services.NAME]"
            )
    return faults


def _read_hosting(path: Path, place: str, table: dict[str, Any], tiers: dict[str, Tier]) -> Hosting:
    """What one service runs on, its tier and size looked up by name.

    Raises:
        StudyError: it says something that is not allowed.
    """
    for key in {"name", "plan"} & set(table):
        raise StudyError(f"{path}: [{place}] unknown key {key!r}; the plan is named by its table")
    resolved = dict(table)
    if isinstance(table.get("tier"), str):
        resolved["tier"] = _tier(path, place, table, tiers)
    if "mix" in table:
        resolved["mix"] = _mix(path, place, table["mix"], tiers)
    for key in ("tier", "size"):
        if key in table and not isinstance(table[key], str):
            raise StudyError(f"{path}: [{place}] {key}: found {table[key]!r}; allowed: the name of a {key}")
    return checked(path, Hosting, resolved, place)


def _tier(path: Path, place: str, table: dict[str, Any], tiers: dict[str, Tier]) -> Tier:
    """The tier that a table names, which sells the size that it names.

    Raises:
        StudyError: there is none, or it does not.
    """
    name, size = table["tier"], table.get("size")
    if name not in tiers:
        raise StudyError(f"{path}: [{place}] tier: found {name!r}; {nearest(name, tiers)}")
    if isinstance(size, str) and size not in tiers[name].sizes:
        raise StudyError(
            f"{path}: [{place}] size: found {size!r}, which tier {name!r} does not sell; "
            f"{nearest(size, tiers[name].sizes)}"
        )
    return tiers[name]


def _mix(path: Path, place: str, mix: Any, tiers: dict[str, Tier]) -> list[Stock]:
    """The entries of a mixed fleet, their tiers and sizes looked up by name.

    Raises:
        StudyError: they are no tables, or one says something that is not allowed.
    """
    if not isinstance(mix, list) or not mix or not all(isinstance(entry, dict) for entry in mix):
        raise StudyError(f"{path}: [{place}] mix: found {mix!r}; allowed: entries, each with tier, size and replicas")
    stocks = []
    for number, entry in enumerate(mix, start=1):
        where = f"{place}.mix.{number}"
        for key in ("tier", "size"):
            if not isinstance(entry.get(key), str):
                found = f"found {entry[key]!r}" if key in entry else "it is missing"
                raise StudyError(f"{path}: [{where}] {key}: {found}; allowed: the name of a {key}")
        stocks.append(checked(path, Stock, {**entry, "tier": _tier(path, where, entry, tiers)}, where))
    return stocks


def checked(path: Path, model: type[_Table], values: dict[str, Any], place: str = "") -> _Table:
    """A table of that kind.

    Raises:
        StudyError: a sentence with the file, the place, what was found and what is allowed.
    """
    try:
        return model.model_validate(values)
    except ValidationError as error:
        raise StudyError(describe(error, model, str(path), place=place)) from None


def read_toml(path: Path) -> dict[str, Any]:
    """A TOML file, its numbers as they are written.

    Raises:
        StudyError: it cannot be read, or is none.
    """
    try:
        text = path.read_bytes().decode("utf-8")
        return tomllib.loads(text, parse_float=Decimal)
    except FileNotFoundError:
        raise StudyError(f"{path}: there is no such file; `libramen demo` writes a study to start from") from None
    except IsADirectoryError:
        raise StudyError(f"{path}: found a directory; allowed: a study file, such as {path / 'study.toml'}") from None
    except UnicodeDecodeError as error:
        raise StudyError(f"{path}: byte {error.start} is not UTF-8 text; allowed: a TOML file") from None
    except tomllib.TOMLDecodeError as error:
        raise StudyError(f"{path}: this is not TOML: {error}") from None
    except OSError as error:
        raise StudyError(f"{path}: cannot be read: {error.strerror}") from None
