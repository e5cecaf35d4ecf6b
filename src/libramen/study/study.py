"""The study: everything that a study file says, loaded and checked."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

from pydantic import Field

from libramen.base import shown
from libramen.base.errors import StudyError
from libramen.base.fields import Table, nearest
from libramen.base.times import ZoneName
from libramen.prices import PricesOfStudy
from libramen.study.hosting import Hosting
from libramen.study.objectives import Objectives
from libramen.study.places import RoundTrips
from libramen.study.plan import Plan, only_of
from libramen.study.service import Service, Tier
from libramen.study.system import System, check_account
from libramen.study.terms import Account, MonthTable, Terms
from libramen.study.trace_table import TraceTable
from libramen.trace.trace import Trace

_Table = TypeVar("_Table", bound=Table)


class Heading(PricesOfStudy):  # type: ignore[misc]
    """`[study]`: what the study is called, and what its money and times mean."""

    name: str = Field("study", description="name of the study")
    currency: str = Field("EUR", description="currency of all prices")
    time_zone: ZoneName = Field("UTC", description="time zone of timetables, windows and pictures")
    catalogue: str | None = Field(
        None, description="another file that [tiers] are taken from: TOML, or a table of sizes and prices (.csv)"
    )
    catalogue_columns: dict[str, str] = Field(
        {}, description='what columns of such a table are called, such as { cores = "vCPU", per_hour = "Price" }'
    )


class Study:
    """A study, loaded and checked.

    Attributes:
        path: the study file.
        name, currency, time_zone: as in `[study]`.
        services: each `Service` by its name, in the order of the file; of the only one the name is `service`.
        service: the only `Service`.
        objectives: the `Objectives`.
        tiers: each `Tier` by its name.
        plans: each `Plan` by its name, in the order of the file.
        searches: `[search.NAME]` by name: the plan (None: several), and the values of each key that is varied.
        round_trips: the `RoundTrips` between places.
        month, account: `[month]` and `[account]`; with what `[study]` says of money they are the `terms`.
        trace_table: `[trace]` as written; `trace()` reads the trace itself.
    """

    def __init__(
        self,
        path: Path,
        *,
        heading: Heading,
        trace: TraceTable,
        services: dict[str, Service],
        objectives: Objectives,
        tiers: dict[str, Tier],
        plans: dict[str, Plan],
        month: MonthTable | None = None,
        account: Account | None = None,
        round_trips: RoundTrips | None = None,
        searches: dict[str, tuple[str | None, dict[str, Any]]] | None = None,
        trust_code: bool = False,
    ) -> None:
        self.path, self._trusts_code = path, trust_code
        self.name, self.currency = heading.name, heading.currency
        self.time_zone = trace.time_zone or heading.time_zone
        self.heading, self.trace_table = heading, trace
        self._services, self.objectives = services, objectives
        self.month, self.account = month or MonthTable(), account or Account()
        self.tiers, self.searches = tiers, searches or {}
        self.round_trips = round_trips or RoundTrips()
        self.plans = {name: plan.beside(path.parent, trusted=trust_code) for name, plan in plans.items()}

    @property
    def service(self) -> Service:
        """The only service.

        Raises:
            StudyError: there are several.
        """
        return only_of(self.services, str(self.path), "study.services[name]")

    @property
    def services(self) -> dict[str, Service]:
        """The services by name; of several each has a share of CPU work, its own or that of the trace."""
        if len(self._services) == 1:
            return dict(self._services)
        share = self.trace_table.cpu_share_used
        return {
            name: service if service.cpu_share is not None else service.replace(cpu_share=share)
            for name, service in self._services.items()
        }

    @property
    def terms(self) -> Terms:
        """What it says of the month and of money, whatever the plan."""
        own = {key: getattr(self.heading, key) for key in Heading.model_fields if key in Terms.model_fields}
        return Terms(month=self.month, account=self.account, **own)

    def system(self, plan: str | Plan) -> System:
        """The services as a plan hosts them.

        Raises:
            StudyError: there is no such plan, or it does not fit the services.
        """
        return System.of(self.services, self.plan(plan) if isinstance(plan, str) else plan, self.round_trips)

    @property
    def trusts_code(self) -> bool:
        """Whether rules in Python modules beside the study may be run, as whoever loaded it has said."""
        return self._trusts_code

    def replace(self, **values: Any) -> Study:
        """A copy with other parts, read and checked like those of a file; the file stays as it is.

        Args:
            **values: any of `name`, `currency`, `time_zone`, `fees`, `tax`; `service`, `objectives`, `trace`, `month`
                and `account`, each one of its kind or a table of the keys that change; `services` and `plans`, such
                ones by name. A plan under a new name is added; all that are not named stay.

        Raises:
            StudyError: a key is unknown, or its value is not allowed.

        Example:
            >>> study.replace(plans={"noon": {"replicas": 8}}).plans["noon"].only.replicas
            8
            >>> study.replace(service={"slots": 16}).service.slots
            16
        """
        known = (
            *Heading.model_fields, "trace", "service", "services", "objectives", "plans", "month", "account",
        )  # fmt: skip
        for key in values:
            if key not in known or key == "catalogue":
                raise StudyError(f"Study.replace: unknown key {key!r}; {nearest(key, known)}")
        heading = {key: value for key, value in values.items() if key in Heading.model_fields}
        changed = Study(
            self.path,
            heading=self.heading.replace(**heading),
            trace=_changed(self.trace_table, values.get("trace")),
            services=self._changed_services(values),
            objectives=_changed(self.objectives, values.get("objectives")),
            tiers=self.tiers,
            month=_changed(self.month, values.get("month")),
            account=_changed(self.account, values.get("account")),
            plans=self._changed_plans(values.get("plans")),
            round_trips=self.round_trips,
            searches=self.searches,
            trust_code=self._trusts_code,
        )
        for plan in changed.plans.values():
            check_account(changed.system(plan).plan, changed.account)
        return changed

    def _changed_plans(self, changes: Any) -> dict[str, Plan]:
        plans = dict(self.plans)
        if changes is None:
            return plans
        if isinstance(changes, Plan):
            changes = [changes]
        if not isinstance(changes, dict):
            given = list(changes) if isinstance(changes, list | tuple) else [changes]
            named = {getattr(plan, "name", None): plan for plan in given}
            if len(named) < len(given) or not all(isinstance(plan, Plan) for plan in given):
                raise StudyError(
                    f"plans: found {changes!r}; allowed: plans whose names differ, or a table of them by name"
                )
            changes = named
        for name, change in changes.items():
            where = f"Study.replace: plans: {name!r}"
            if isinstance(change, Plan):
                plans[name] = change if change.name == name else change.replace(name=name)
            elif not isinstance(change, dict):
                raise StudyError(f"{where}: found {change!r}; allowed: a plan, or a table of the keys that change")
            elif name not in plans:
                raise StudyError(f"{where}: there is no such plan whose keys could change; {nearest(str(name), plans)}")
            else:
                plans[name] = self._changed_plan(plans[name], change, where)
        return plans

    def _changed_plan(self, plan: Plan, change: dict[str, Any], where: str) -> Plan:
        """A plan with other keys: tiers are named, and of `scaling` and `services` only what is told changes."""
        tables = change.get("services")
        if tables is None:
            only_of(plan.services, where, "services, tables by name")
            tables = dict.fromkeys(plan.services, change)
        elif set(change) != {"services"} or not isinstance(tables, dict):
            raise StudyError(f"{where}: found {change!r}; allowed: services alone, tables by name")
        changed = {name: self._changed_hosting(plan.of(name), keys, where) for name, keys in tables.items()}
        return plan.replace(services={**plan.services, **changed})

    def _changed_hosting(self, hosting: Hosting, change: Any, where: str) -> Hosting:
        if isinstance(change, Hosting):
            return change
        if isinstance(change, Plan):
            return change.only
        if not isinstance(change, dict):
            raise StudyError(f"{where}: found {change!r}; allowed: a plan, or a table of the keys that change")
        keys = dict(change)
        if isinstance(tier := keys.get("tier"), str):
            if tier not in self.tiers:
                raise StudyError(f"{where}: tier: found {tier!r}; {nearest(tier, self.tiers)}")
            keys["tier"] = self.tiers[tier]
        try:
            if isinstance(scaling := keys.get("scaling"), dict) and "rule" not in scaling:
                keys["scaling"] = hosting.scaling.replace(**scaling)
            return hosting.replace(**keys)
        except StudyError as error:
            raise StudyError(f"{where}: {error}") from None

    def _changed_services(self, values: dict[str, Any]) -> dict[str, Service]:
        services = dict(self._services)
        if values.get("service") is not None:
            services = {name: _changed(self.service, values["service"]) for name in services}
        for name, change in (values.get("services") or {}).items():
            if name not in services:
                raise StudyError(f"Study.replace: services: there is no {name!r}; {nearest(name, services)}")
            services[name] = _changed(services[name], change)
        return services

    def trace(self, *, seed: int = 0, progress: Callable[[float], None] | None = None, cache: bool = True) -> Trace:
        """Read the trace, with its demand.

        Args:
            seed: for the seconds filled in within whole-second time stamps.
            progress: called with the share of the bytes read so far, from 0 to 1.
            cache: whether what was read before may be taken from the user's cache directory, and is kept there.

        Raises:
            TraceError: a file cannot be read as a trace.
        """
        trace: Trace = self._load(seed).trace(progress, cache=cache)
        speed = self.trace_table.recorded_speed
        return trace if speed is None else trace.recorded_at(speed)

    def _load(self, seed: int, *, shaped: bool = True) -> Any:
        """What it says of its requests, with all that finding their work depends on."""
        table = self.trace_table if shaped else self.trace_table.replace(shape=())
        recorded = None if table.recorded_on is None else self.system(table.recorded_on)
        where = {} if recorded is None else {
            "region": recorded.hosted[0].region, "exchanges": recorded.hosted[0].service.exchanges,
        }  # fmt: skip
        return shown.reach(shown.QUESTIONS["load"])(
            table, self.path.parent, seed, self.time_zone, None if recorded is None else recorded.as_logged(),
            shaped and self._tells_visitors, self.round_trips, **where,
        )  # fmt: skip

    @property
    def _tells_visitors(self) -> bool:
        """Whether it matters who sent a request: some plan sends visitors where they were, or they are somewhere."""
        hosted = [one.hosting for plan in self.plans.values() for one in self.system(plan).hosted]
        return bool(self.trace_table.areas) or any(one.balances.pins or one.reroute for one in hosted)

    def replay(self, plan: str | Plan, *, trace: Trace | None = None, seed: int = 0, **how: Any) -> shown.Outcome:
        """Replay the study's trace against one plan, with its services, objectives, terms and `settle`.

        Args:
            plan: name of one of its plans, or a plan.
            trace: what is replayed. Default: the study's own.
            seed: random seed.
            **how: other keywords of `libramen.replay`, such as `keep_requests`.

        Raises:
            TraceError: the trace cannot be read.
            StudyError: there is no such plan, or it cannot be replayed on this trace.

        Example:
            >>> study.replay("noon").availability
            1.0
        """
        if not isinstance(plan, str | Plan):
            raise StudyError(f"Study.replay: found {plan!r}; allowed: the name of a plan of the study, or a plan")
        chosen = self.plan(plan) if isinstance(plan, str) else plan
        told = {"settle": self.trace_table.settle, "terms": self.terms} | how
        load = self.trace(seed=seed) if trace is None else trace
        found: shown.Outcome = shown.reach(shown.QUESTIONS["replay"])(
            load, self.system(chosen), self.objectives, seed, **told
        )
        return found

    def compare(self, **how: Any) -> shown.Comparison:
        """Replay all plans and compare them.

        Args:
            **how: keywords of `libramen.compare`, such as `plans`, `seed` or `workers`.

        Example:
            >>> study.compare(plans=["noon", "bold"]).cheapest.plan
            'noon'
        """
        found: shown.Comparison = shown.reach(shown.QUESTIONS["compare"])(self, **how)
        return found

    def log(self, *, seed: int = 0, cache: bool = True) -> Trace:
        """The log as it was found: neither shaped, nor with an estimate of its work.

        Args:
            seed: for the seconds filled in within whole-second time stamps.
            cache: whether what was read before may be taken from the user's cache directory, and is kept there.
        """
        log: Trace = self._load(seed, shaped=False).trace(cache=cache, estimate=False)
        return log

    def key(self, *, seed: int = 0) -> str | None:
        """By what the cache knows the log of this study and the plan on which it was recorded; None: by nothing."""
        key: str | None = self._load(seed, shaped=False).key()
        return key

    def estimated(self, trace: Trace, *, seed: int = 0) -> Trace:
        """A part of this study's log with its work, estimated from that part alone.

        Args:
            trace: the part, as `log` gives it.
            seed: random seed.
        """
        found: Trace = self._load(seed).estimated(trace)
        return found

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


def _changed(table: _Table, change: Any) -> _Table:
    """A table of a study with what is to be changed."""
    if change is None or isinstance(change, type(table)):
        return table if change is None else change
    if not isinstance(change, dict):
        raise StudyError(f"found {change!r}; allowed: a {type(table).__name__}, or a table of the keys that change")
    return table.replace(**change)
