"""The study: everything that a study file says, loaded and checked."""

from __future__ import annotations

import tomllib
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from pydantic import Field, ValidationError

from libramen.errors import StudyError
from libramen.fields import Table, describe, nearest
from libramen.rules.scaling import PREFIX
from libramen.study.objectives import Objectives
from libramen.study.plan import Plan
from libramen.study.service import Service, Tier, name_entries
from libramen.study.trace_table import TraceTable
from libramen.times import ZoneName

if TYPE_CHECKING:
    from collections.abc import Callable

    from libramen.trace.trace import Trace


_Table = TypeVar("_Table", bound=Table)


class Heading(Table):
    """`[study]`: what the study is called, and what its money and times mean."""

    name: str = Field("study", description="name of the study")
    currency: str = Field("EUR", description="currency of all prices")
    time_zone: ZoneName = Field("UTC", description="time zone of timetables, windows and pictures")
    catalogue: str | None = Field(None, description="another file that [tiers] are taken from")


class _StudyFile(Table):
    """The tables of a study file; plans stay as they were read until their tiers are known."""

    study: Heading = Field(Heading(), description="name, currency, time zone")
    trace: TraceTable = Field(description="the requests")
    service: Service = Field(description="the service")
    objectives: Objectives = Field(Objectives(), description="what a plan should achieve")
    tiers: dict[str, Tier] = Field({}, description="what could be bought")
    plans: dict[str, dict[str, Any]] = Field(min_length=1, description="what might be bought")


class _Catalogue(Table):
    """The tables of a catalogue file."""

    tiers: dict[str, Tier] = Field(min_length=1, description="what could be bought")


class Study:
    """A study, loaded and checked.

    Attributes:
        path: the study file.
        name, currency, time_zone: as in `[study]`.
        service: the `Service`.
        objectives: the `Objectives`.
        tiers: the `Tier`s by name.
        plans: the `Plan`s by name, in the order of the file.
        trace_table: `[trace]` as written; `trace()` reads the trace itself.
    """

    def __init__(
        self,
        path: Path,
        *,
        heading: Heading,
        trace: TraceTable,
        service: Service,
        objectives: Objectives,
        tiers: dict[str, Tier],
        plans: dict[str, Plan],
    ) -> None:
        self.path = path
        self.name, self.currency = heading.name, heading.currency
        self.time_zone = trace.time_zone or heading.time_zone
        self.heading, self.trace_table = heading, trace
        self.service, self.objectives = service, objectives
        self.tiers, self.plans = tiers, plans

    def replace(self, **values: Any) -> Study:
        """A copy with other parts, read and checked like those of a file; the file stays as it is.

        Args:
            **values: any of `name`, `currency`, `time_zone`; `service`, `objectives` and `trace`, each one of its kind
                or a table of the keys that change; `plans`, plans or a table by name.

        Raises:
            StudyError: a key is unknown, or its value is not allowed.

        Example:
            >>> study.replace(service={"slots": 16}, trace={"cpu_share": "60%"})  # doctest: +SKIP
        """
        known = (*Heading.model_fields, "trace", "service", "objectives", "plans")
        for key in values:
            if key not in known or key == "catalogue":
                raise StudyError(f"Study.replace: unknown key {key!r}; {nearest(key, known)}")
        heading = {key: value for key, value in values.items() if key in Heading.model_fields}
        changed = Study(
            self.path,
            heading=self.heading.replace(**heading),
            trace=_changed(self.trace_table, values.get("trace")),
            service=_changed(self.service, values.get("service")),
            objectives=_changed(self.objectives, values.get("objectives")),
            tiers=self.tiers,
            plans=self.plans if values.get("plans") is None else _by_name(values["plans"]),
        )
        for plan in changed.plans.values():
            plan.service_of(changed.service)
        return changed

    def trace(self, *, seed: int = 0, progress: Callable[[float], None] | None = None, cache: bool = True) -> Trace:
        """Read the trace, with its demand.

        Args:
            seed: for the seconds filled in within whole-second time stamps.
            progress: called with the share of the bytes read so far, from 0 to 1.
            cache: whether what was read before may be taken from the user's cache directory, and is kept there.

        Raises:
            TraceError: a file cannot be read as a trace.
        """
        name = self.trace_table.recorded_on
        return self.trace_table.read(
            self.path.parent,
            seed=seed,
            time_zone=self.time_zone,
            progress=progress,
            cache=cache,
            recorded=None if name is None else (self.service, self.plan(name)),
        )

    def log(self, *, seed: int = 0, cache: bool = True) -> Trace:
        """The log as it was found: neither shaped, nor with an estimate of its work.

        Args:
            seed: for the seconds filled in within whole-second time stamps.
            cache: whether what was read before may be taken from the user's cache directory, and is kept there.
        """
        table = self.trace_table.replace(shape=())
        return table.read(self.path.parent, seed=seed, time_zone=self.time_zone, estimate=False, cache=cache)

    def key(self, *, seed: int = 0) -> str | None:
        """By what the cache knows the log of this study and the plan on which it was recorded; None: by nothing."""
        table, name = self.trace_table.replace(shape=()), self.trace_table.recorded_on
        recorded = None if name is None else (self.service, self.plan(name))
        return table.key(self.path.parent, seed, self.time_zone, recorded)

    def estimated(self, trace: Trace, *, seed: int = 0) -> Trace:
        """A part of this study's log with its work, estimated from that part alone.

        Args:
            trace: the part, as `log` gives it.
            seed: random seed.
        """
        name = self.trace_table.recorded_on
        recorded = None if name is None else (self.service, self.plan(name))
        return self.trace_table.estimated(trace, recorded, self.path.parent, seed)

    def plan(self, name: str) -> Plan:
        """The plan of a name.

        Raises:
            StudyError: there is none.
        """
        if name not in self.plans:
            raise StudyError(f"{self.path}: there is no plan {name!r}; {nearest(name, self.plans)}")
        return self.plans[name]

    def __repr__(self) -> str:
        return f"Study({str(self.path)!r}, plans={list(self.plans)})"


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
        >>> load_study("saltmarsh/study.toml").plans["steady"].replicas  # doctest: +SKIP
        3
    """
    path = Path(path)
    raw = _read_toml(path)
    tables = _checked(path, _StudyFile, name_entries(raw, "tiers"))
    tiers = dict(tables.tiers)
    if tables.study.catalogue is not None:
        catalogue_path = path.parent / tables.study.catalogue
        catalogue = _checked(catalogue_path, _Catalogue, name_entries(_read_toml(catalogue_path), "tiers"))
        for name, tier in catalogue.tiers.items():
            if name in tiers:
                raise StudyError(f"{path}: tier {name!r} stands in the study and in {catalogue_path}; allowed: in one")
            tiers[name] = tier
    if not tiers:
        raise StudyError(f"{path}: there are no tiers; allowed: [tiers.NAME] tables here or a catalogue in [study]")
    plans = {name: _plan(path, name, table, tiers, trust_code) for name, table in tables.plans.items()}
    recorded_on = tables.trace.recorded_on
    if recorded_on is not None and recorded_on not in plans:
        raise StudyError(f"{path}: [trace] recorded_on: found {recorded_on!r}; {nearest(recorded_on, plans)}")
    for name, plan in plans.items():
        if plan.service:
            said = {key: getattr(tables.service, key) for key in tables.service.model_fields_set}
            drop = {"slots": "slots_per_core", "slots_per_core": "slots"}
            said = {key: value for key, value in said.items() if drop.get(key) not in plan.service}
            _checked(path, Service, {**said, **plan.service}, f"plans.{name}.service")
    return Study(
        path,
        heading=tables.study,
        trace=tables.trace,
        service=tables.service,
        objectives=tables.objectives,
        tiers=tiers,
        plans=plans,
    )


def _changed(table: _Table, change: Any) -> _Table:
    """A table of a study with what is to be changed."""
    if change is None or isinstance(change, type(table)):
        return table if change is None else change
    if not isinstance(change, dict):
        raise StudyError(f"found {change!r}; allowed: a {type(table).__name__}, or a table of the keys that change")
    return table.replace(**change)


def _by_name(plans: Any) -> dict[str, Plan]:
    found = plans.values() if isinstance(plans, dict) else plans
    named: dict[str, Plan] = {}
    for plan in found:
        if not isinstance(plan, Plan) or plan.name in named:
            raise StudyError(f"plans: found {plan!r}; allowed: plans whose names differ")
        named[plan.name] = plan
    return named


def _plan(path: Path, name: str, table: dict[str, Any], tiers: dict[str, Tier], trust_code: bool) -> Plan:
    """One plan, its tier and size looked up by name."""
    place = f"plans.{name}"
    if "name" in table:
        raise StudyError(f"{path}: [{place}] unknown key 'name'; the plan is named by its table")
    resolved = dict(table)
    scaling = table.get("scaling")
    if isinstance(scaling, dict) and str(scaling.get("rule", "")).startswith(PREFIX):
        for key in ("folder", "trusted", "function"):
            if key in scaling:
                raise StudyError(
                    f"{path}: [{place}.scaling] unknown key {key!r}; the module stands beside the study, and whether "
                    "it may be run is for whoever replays it to say"
                )
        resolved["scaling"] = {**scaling, "folder": str(path.parent), "trusted": trust_code}
    if isinstance(tier_name := table.get("tier"), str):
        if tier_name not in tiers:
            raise StudyError(f"{path}: [{place}] tier: found {tier_name!r}; {nearest(tier_name, tiers)}")
        resolved["tier"] = tiers[tier_name]
        size_name = table.get("size")
        if isinstance(size_name, str) and size_name not in tiers[tier_name].sizes:
            sizes = tiers[tier_name].sizes
            raise StudyError(
                f"{path}: [{place}] size: found {size_name!r}, which tier {tier_name!r} does not sell; "
                f"{nearest(size_name, sizes)}"
            )
    for key in ("tier", "size"):
        if key in table and not isinstance(table[key], str):
            raise StudyError(f"{path}: [{place}] {key}: found {table[key]!r}; allowed: the name of a {key}")
    return _checked(path, Plan, {**resolved, "name": name}, place)


def _checked(path: Path, model: type[_Table], values: dict[str, Any], place: str = "") -> _Table:
    try:
        return model.model_validate(values)
    except ValidationError as error:
        raise StudyError(describe(error, model, str(path), place=place)) from None


def _read_toml(path: Path) -> dict[str, Any]:
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
