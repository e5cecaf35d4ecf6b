"""The study: everything that a study file says, loaded and checked."""

from __future__ import annotations

import tomllib
import zlib
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Final, Literal, Self, TypeVar

import numpy as np
from pydantic import BeforeValidator, Field, SerializeAsAny, ValidationError, model_validator

from libramen.errors import StudyError
from libramen.fields import Seconds, Table, describe, nearest
from libramen.rules.scaling import PREFIX
from libramen.study.objectives import Objectives
from libramen.study.plan import Plan
from libramen.study.service import Service, Tier, name_entries
from libramen.times import ZoneName
from libramen.trace.options import ReadingKeys
from libramen.trace.shape import STEPS, Mix

if TYPE_CHECKING:
    from collections.abc import Callable

    from libramen.trace.trace import Trace


_WIDE_SHARE: Final = 0.3
_Table = TypeVar("_Table", bound=Table)


def _as_list(value: object) -> object:
    return [value] if isinstance(value, str) else value


class TraceTable(ReadingKeys):
    """`[trace]`: where the requests come from and how they are read."""

    shown_as: ClassVar[str] = "trace"

    files: Annotated[tuple[str, ...], BeforeValidator(_as_list)] = Field(
        min_length=1, description="logs or trace tables, relative to the study file"
    )
    shape: tuple[SerializeAsAny[STEPS], ...] = Field((), description="what is done to the trace, in order")
    recorded_on: str | None = Field(
        None, description="plan on which the log was recorded: what was queueing there is taken out of its latencies"
    )
    server: Literal["field", "file"] = Field(
        "field",
        description="which server answered, for recorded_on: a field says it where there is one, or each file is its",
    )
    cpu_use: str | None = Field(
        None, description="CSV table of the CPU use of the whole fleet while the log was recorded, instead of cpu_share"
    )
    settle: Seconds = Field(0.0, description="requests before this are replayed but not measured [s]")
    time_zone: ZoneName | None = Field(None, description="time zone of the trace (default: the study's)")

    @model_validator(mode="after")
    def _one_speed(self) -> Self:
        if self.recorded_on is not None and self.recorded_speed is not None:
            raise ValueError(
                "recorded_speed and recorded_on are both there; allowed: one of them, since the recorded plan's size "
                "says how fast its cores are"
            )
        if self.server == "file" and not self._unqueues:
            raise ValueError("server has no effect without recorded_on; allowed: to leave it out")
        if self.cpu_use is not None and self.cpu_share is not None:
            raise ValueError(
                "cpu_share and cpu_use are both there; allowed: one of them, since cpu_use finds the share"
            )
        if self.cpu_use is not None and self.demand == "given":
            raise ValueError("cpu_use has no effect with demand = 'given'; allowed: to leave one of them out")
        if self.demand == "unqueued" and self.recorded_on is None:
            raise ValueError(
                "demand = 'unqueued' needs recorded_on, the name of the plan on which the log was recorded"
            )
        return self

    def read(
        self,
        folder: Path,
        *,
        seed: int = 0,
        time_zone: str = "UTC",
        progress: Callable[[float], None] | None = None,
        estimate: bool = True,
        cache: bool = True,
        recorded: tuple[Service, Plan] | None = None,
    ) -> Trace:
        """Read the files as this table says, or find what was read before.

        Args:
            folder: that the files are relative to.
            seed: random seed.
            time_zone: where the table has none of its own.
            progress: called with the share of the bytes read so far, from 0 to 1.
            estimate: whether demand is estimated and the trace shaped; else it is as it was found.
            cache: whether what was read from the same files in the same way may be taken from the user's cache
                directory, and is kept there.
            recorded: the service, and the plan on which the log was recorded, where `recorded_on` names one.
        """
        from libramen.trace.cache import find, keep

        zone = self.time_zone or time_zone
        key = self._key(folder, seed, zone, recorded, estimate=estimate) if cache else None
        trace = None if key is None else find(key)
        if trace is None:
            if estimate and self.demand != "given" and (recorded is not None or self.cpu_use is not None):
                trace = self._found(folder, seed, zone, progress, recorded)
            else:
                trace = self._read(folder, seed, zone, progress, estimate=estimate)
            if key is not None:
                trace = keep(key, trace)
        elif progress is not None:
            progress(1.0)
        return trace

    @property
    def _unqueues(self) -> bool:
        """Whether the work is what the recorded plan leaves of the latencies."""
        return self.recorded_on is not None and self.demand in {None, "unqueued"}

    def key(self, folder: Path, seed: int, zone: str, recorded: tuple[Service, Plan] | None) -> str | None:
        """By what the cache knows what this table reads."""
        from libramen.errors import TraceError

        try:
            return self._key(folder, seed, self.time_zone or zone, recorded, estimate=True)
        except TraceError:  # a file is not there
            return None

    def estimated(self, trace: Trace, recorded: tuple[Service, Plan] | None, folder: Path, seed: int) -> Trace:
        """A part of this table's log, as it was found, with its work."""
        if self.demand == "given" or (self.demand is None and trace.cpu_s.any()):
            return trace
        return self._estimated(trace, recorded, folder, seed, None)

    def _estimated(
        self, log: Trace, recorded: tuple[Service, Plan] | None, folder: Path, seed: int, server: Any
    ) -> Trace:
        """A log, as it was found, with its work."""
        from libramen.trace.demand import with_demand

        plan = None if recorded is None else recorded[1]

        def estimate(shares: Any, roughly: bool) -> Trace:
            if recorded is not None and self._unqueues:
                return self._unqueue(log, *recorded, cpu_share=shares, seed=seed, server=server, roughly=roughly)
            speed = self.recorded_speed if plan is None else plan.size.speed
            return with_demand(log, self.demand, cpu_share=shares, recorded_speed=speed, has_cpu=False, seed=seed)

        if self.cpu_use is None and self.cpu_share is None and recorded is not None and self._unqueues:
            return self._with_likely_share(log, estimate, *recorded, seed)
        if self.cpu_use is None:
            return estimate(self.cpu_share, False)
        return self._with_cpu_use(log, estimate, plan, folder)

    def _with_cpu_use(
        self, log: Trace, estimate: Callable[[Any, bool], Trace], plan: Plan | None, folder: Path
    ) -> Trace:
        from libramen.demand.cpu_use import read_cpu_use, with_cpu_use

        assert self.cpu_use is not None
        cores = None if plan is None or plan.counts else plan.replicas_used * plan.size.cores
        use = read_cpu_use(folder / self.cpu_use, log, cores)
        return with_cpu_use(log, use, estimate, (self.recorded_speed or 1.0) if plan is None else plan.size.speed)

    def _with_likely_share(
        self, log: Trace, estimate: Callable[[Any, bool], Trace], service: Service, plan: Plan, seed: int
    ) -> Trace:
        """Where the log was busy on shared cores it tells itself how much of the work is CPU work."""
        from libramen.demand.explain import likely_cpu_share

        found = likely_cpu_share(log, service, plan, seed)
        if found is None:
            return estimate(None, False)
        between = f"{100 * found.low:.0f} to {100 * found.high:.0f} %"
        if not found.tells or found.high - found.low > _WIDE_SHARE:
            return estimate(None, False).noted(
                f"cpu_share is a guess, 40 %: from how latencies stretch with the number in progress, {between} is as "
                "likely"
            )
        return estimate(found.best, False).noted(
            f"cpu_share is {100 * found.best:.0f} %, from how latencies stretch with the number in progress; likely "
            f"{between}"
        )

    def _unqueue(self, trace: Trace, service: Service, plan: Plan, **how: Any) -> Trace:
        from libramen.demand.unqueue import unqueue

        return unqueue(trace, service, plan, **how)

    def _key(
        self, folder: Path, seed: int, zone: str, recorded: tuple[Service, Plan] | None, *, estimate: bool
    ) -> str | None:
        """By what the cache knows what this table reads; None: it cannot be known before it is read."""
        from libramen.trace.cache import key_of
        from libramen.trace.sources import STANDARD_INPUT, expand

        if STANDARD_INPUT in self.files:
            return None
        said: list[Any] = [self.model_dump(mode="json", exclude_unset=True), str(folder), seed, zone, estimate]
        if recorded is not None and estimate:
            said += [_code_of("demand", "engine", "rules"), *(table.model_dump(mode="json") for table in recorded)]
        mixed = [folder / step.mix for step in self.shape if isinstance(step, Mix)] if estimate else []
        if self.cpu_use is not None and estimate:
            mixed.append(folder / self.cpu_use)
        return key_of([*expand(folder / file for file in self.files), *mixed], said)

    def _read(
        self, folder: Path, seed: int, zone: str, progress: Callable[[float], None] | None, *, estimate: bool
    ) -> Trace:
        from libramen.trace.options import checked_options
        from libramen.trace.read import read_requests, read_trace
        from libramen.trace.shape import shaped

        options, files = self._options(seed, zone), self._paths(folder)
        if not estimate:
            return read_requests(files, checked_options(options), progress, hints=True).trace
        return shaped(read_trace(files, **options, progress=progress), self.shape, seed=seed, folder=folder)

    def _found(
        self,
        folder: Path,
        seed: int,
        zone: str,
        progress: Callable[[float], None] | None,
        recorded: tuple[Service, Plan] | None,
    ) -> Trace:
        """Read the files, and find their work with the recorded plan, the measured CPU use, or both."""
        from libramen.errors import TraceError
        from libramen.trace.options import checked_options
        from libramen.trace.read import read_requests, whole_load
        from libramen.trace.shape import shaped

        options = checked_options({**self._options(seed, zone), "demand": None})
        requests = read_requests(self._paths(folder), options, progress)
        if requests.has_cpu and self.demand is None:
            if self.cpu_use is not None:
                raise TraceError("cpu_use has no effect: the trace itself says cpu_s; allowed: to leave it out")
            return self._read(folder, seed, zone, progress, estimate=True)
        log = whole_load(requests.trace, options)
        server = requests.server
        if self.server == "file":
            server = np.zeros(len(log), np.int32) if requests.file is None else requests.file
        if len(log) != len(requests.trace):  # what was multiplied was on other servers
            server = None
        return shaped(self._estimated(log, recorded, folder, seed, server), self.shape, seed=seed, folder=folder)

    def _options(self, seed: int, zone: str) -> dict[str, Any]:
        """The keywords of `read_trace` that this table says."""
        mine = ("files", "shape", "settle", "time_zone", "recorded_on", "server", "cpu_use")
        options = {key: getattr(self, key) for key in self.model_fields_set if key not in mine}
        return options | {"time_zone": zone, "seed": seed}

    def _paths(self, folder: Path) -> list[str | Path]:
        return [file if file == "-" else folder / file for file in self.files]


def _code_of(*rooms: str) -> int:
    """A checksum of the code that decides how work is estimated: what the cache has of other code is not used."""
    folder = Path(__file__).parents[1]
    paths = [path for room in rooms for path in sorted((folder / room).rglob("*.py"))]
    return zlib.crc32(b"".join(path.read_bytes() for path in paths))


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
