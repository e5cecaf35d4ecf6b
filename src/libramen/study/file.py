"""From a study file to a `Study`."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from pydantic import Field

from libramen.base.errors import StudyError
from libramen.base.fields import Table, nearest
from libramen.study.catalogue import read_catalogue
from libramen.study.objectives import Objectives
from libramen.study.places import RoundTrips
from libramen.study.plan import Plan
from libramen.study.read import checked, read_plan, read_services, read_toml
from libramen.study.service import Service, Tier, name_entries
from libramen.study.study import Heading, Study
from libramen.study.system import System, check_account, check_distances
from libramen.study.terms import Account, MonthTable
from libramen.study.trace_table import TraceTable


class StudyFile(Table):
    """The tables of a study file; plans stay as they were read until their tiers are known."""

    study: Heading = Field(Heading(), description="name, currency, time zone")
    trace: TraceTable = Field(description="the requests")
    service: Service | None = Field(None, description="the service, where there is one")
    services: dict[str, dict[str, Any]] = Field({}, description="the services, where there are several")
    objectives: Objectives = Field(Objectives(), description="what a plan should achieve")
    month: MonthTable = Field(MonthTable(), description="what a month is made of")
    account: Account = Field(Account(), description="the most that a plan may have at once")
    tiers: dict[str, Tier] = Field({}, description="what could be bought")
    plans: dict[str, dict[str, Any]] = Field(min_length=1, description="what might be bought")
    round_trips: dict[str, dict[str, Any]] = Field(
        {}, description="times there and back between an area and a region, or two regions"
    )
    search: dict[str, dict[str, Any]] = Field({}, description="a plan, and keys of it with the values to be tried")


def load_study(path: str | Path, *, trust_code: bool = False) -> Study:
    """Load and check a study file. Nothing in it is run.

    Args:
        path: a TOML file. Paths in it are relative to it.
        trust_code: whether scaling rules in Python modules beside it may be run when a plan is replayed. The file
            itself cannot say so: read the modules before you do.

    Raises:
        StudyError: it cannot be read, or says something that is not allowed; the sentence names the
            file, the table, the key, what was found and what is allowed.

    Example:
        >>> load_study("saltmarsh/study.toml").plans["steady"].only.replicas
        4
    """
    path = Path(path)
    raw = read_toml(path)
    if "tiers" in raw and not set(raw) & {"trace", "plans", "service", "services"}:
        raise StudyError(
            f"{path}: this is a catalogue, with tiers alone; allowed: a study, or `libramen check` and `libramen tiers`"
        )
    tables = checked(path, StudyFile, name_entries(raw, "tiers"))
    tiers = _tiers(path, tables)
    try:
        round_trips = RoundTrips(tables.round_trips)
    except StudyError as error:
        raise StudyError(f"{path}: {error}") from None
    services = read_services(path, tables.service, tables.services)
    plans = {name: read_plan(path, name, table, tables.services, tiers) for name, table in tables.plans.items()}
    _check_plans(path, tables, services, plans, round_trips, {name for tier in tiers.values() for name in tier.regions})
    return Study(
        path,
        heading=tables.study,
        trace=tables.trace,
        services=services,
        objectives=tables.objectives,
        tiers=tiers,
        plans=plans,
        month=tables.month,
        account=tables.account,
        round_trips=round_trips,
        searches={name: _search(path, name, table, plans) for name, table in tables.search.items()},
        trust_code=trust_code,
    )


def _tiers(path: Path, tables: StudyFile) -> dict[str, Tier]:
    """The tiers of the study and of its catalogue."""
    tiers = dict(tables.tiers)
    if tables.study.catalogue is not None:
        catalogue_path = path.parent / tables.study.catalogue
        catalogue = read_catalogue(catalogue_path, tables.study.catalogue_columns)
        for name, tier in catalogue.tiers.items():
            if name in tiers:
                raise StudyError(f"{path}: tier {name!r} stands in the study and in {catalogue_path}; allowed: in one")
            tiers[name] = tier
    elif tables.study.catalogue_columns:
        raise StudyError(f"{path}: [study] catalogue_columns needs catalogue, which is missing")
    if not tiers:
        raise StudyError(f"{path}: there are no tiers; allowed: [tiers.NAME] tables here or a catalogue in [study]")
    return tiers


def _check_plans(
    path: Path,
    tables: StudyFile,
    services: Mapping[str, Service],
    plans: Mapping[str, Plan],
    round_trips: RoundTrips,
    of_tiers: set[str],
) -> None:
    """Whether plans fit the services, each other, and the account; `of_tiers`: the regions of the tiers."""
    known = of_tiers | {name for plan in plans.values() for one in plan.services.values() for name in one.regions}
    for name in tables.account.regions:
        if name not in known:
            raise StudyError(f"{path}: [account.regions.{name}]: no tier and no plan has it; {nearest(name, known)}")
    for plan in plans.values():
        if tables.trace.behind_edge and plan.edge is not None and plan.edge.hit:
            raise StudyError(
                f"{path}: [plans.{plan.name}.edge] hit: found it with [trace] behind_edge, whose requests all are "
                "misses; allowed: an edge without hit"
            )
    recorded_on = tables.trace.recorded_on
    if recorded_on is not None and recorded_on not in plans:
        raise StudyError(f"{path}: [trace] recorded_on: found {recorded_on!r}; {nearest(recorded_on, plans)}")
    for plan in plans.values():
        for service, part in plan.services.items():
            if part.service:
                said = {key: getattr(services[service], key) for key in services[service].model_fields_set}
                drop = {"slots": "slots_per_core", "slots_per_core": "slots"}
                said = {key: value for key, value in said.items() if drop.get(key) not in part.service}
                checked(path, Service, {**said, **part.service}, ".".join((*plan.place_of(service), "service")))
        try:
            system = System.of(services, plan, round_trips)
            check_distances(system, tables.trace.areas)
            check_account(plan, tables.account)
        except StudyError as error:
            raise StudyError(f"{path}: {error}") from None


def _search(
    path: Path, name: str, table: dict[str, Any], plans: Mapping[str, object]
) -> tuple[str | None, dict[str, Any]]:
    """The plan of a `[search.NAME]`, and the values of each key: a list, one value, or a range { from, to }.

    Of several plans that are varied there is none, and their names are the values of `plan`.
    """
    where, said = f"{path}: [search.{name}]", table.get("plan")
    several = said if isinstance(said, list) else None
    for one in [said] if several is None else several:
        if one not in plans:
            raise StudyError(f"{where} plan: found {one!r}; {nearest(str(one), plans)}")
    ranges: dict[str, Any] = {} if several is None else {"plan": several}
    for key, value in table.items():
        if key == "plan":
            continue
        if isinstance(value, dict):
            low, high = value.get("from"), value.get("to")
            if set(value) != {"from", "to"} or not isinstance(low, int) or not isinstance(high, int) or low > high:
                raise StudyError(f"{where} {key}: found {value!r}; allowed: a list, or {{ from = 2, to = 20 }}")
            ranges[key] = range(low, high + 1)
        else:
            ranges[key] = value if isinstance(value, list) else [value]
    if not ranges:
        raise StudyError(f"{where} nothing is varied; allowed: one key or more beside plan")
    return None if several is not None else table["plan"], ranges
