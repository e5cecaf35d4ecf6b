"""The figures of a replay: all that tables, findings, verdicts and JSON say of it, small enough to be sent and kept."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, fields
from datetime import datetime
from typing import TYPE_CHECKING, Annotated, Any, Final, Self
from zoneinfo import ZoneInfo

from pydantic import Field

from libramen.base.results import Count
from libramen.base.times import local_time
from libramen.bill.bill import Bill
from libramen.bill.costs import Costs, costs_of
from libramen.engine.replica import Death
from libramen.outcome.events import Event, happened
from libramen.outcome.findings import Clock, Finding
from libramen.outcome.kept_replays import KeptReplay, KeptReplays
from libramen.outcome.measures import Hour, Measures, hides_failures
from libramen.outcome.month import Available, MonthFigures
from libramen.outcome.of_requests import OfRequests
from libramen.study.objectives import Objective
from libramen.study.plan import ALONE

if TYPE_CHECKING:
    from libramen.outcome.outcome import Outcome
    from libramen.outcome.service_outcome import ServiceOutcome


@dataclass(frozen=True)
class RouteFigures(Available):
    """The figures of one route; each as in `Figures`."""

    route: str
    n_requests: Count
    endings: dict[str, int]
    latency_s: dict[str, float | None]
    answered_s: dict[str, float | None]
    availability: float | None
    availability_minutes: float | None
    time_s: dict[str, float]
    bytes_out: float


@dataclass(frozen=True)
class AreaFigures(RouteFigures):
    """The figures of the requests from one area, or to one region; each as in `Figures`.

    `route` is the name of the area.

    Attributes:
        regions: how many of them were taken in each region at last, None: requests were not kept, or there is none.
    """

    regions: dict[str, int] | None = None


@dataclass(frozen=True)
class Figures(Available):
    """What came of replaying a trace against a plan, in figures. Plain values, equal when all are equal.

    Attributes:
        plan, tier, size, seed: what it was replayed against, by name. Of several services, tier and size are None, and
            so are utilisation and replicas: `services` has them.
        start, span_s: the instant 0 as a real time (None: not known), and the time that the trace covers [s].
        n_requests, attempts, endings, latency_s, answered_s, availability, availability_minutes, utilisation, time_s,
            bytes_out, cold_starts, paid_s: see `Outcome`.
        replicas_min, replicas_mean, replicas_max: ready replicas over time; replicas_peak: the most at once that were
            ready or on their way.
        bill: of a month.
        objectives: each, what was wanted and what was got.
        worst_hour: see `Outcome`.
        deaths: of replicas.
        events: releases and faults, with what they have cost where that was worked out.
        findings: what is worth knowing, the most costly first.
        routes: the figures of each route; None: they were not asked for.
        areas: the figures of each area, where it is known where users are.
        services: the figures of each service by name, where there are several, in each of its regions; else empty:
            these are of the only one.
        regions: by the names of `services` the region in which each stands; empty: places do not matter.
        month: what a month comes to; `objectives` and `bill` are about it, too, all else is about the trace.
        costs: where the money of a month goes; None: of one of several services. By route and by hour only where the
            figures of routes are there.
        kept_replays: what other months can be made of, None: of one of several services; left out of the JSON.
    """

    plan: str
    tier: str | None
    size: str | None
    seed: int
    start: datetime | None
    span_s: float
    n_requests: Count
    attempts: int
    endings: dict[str, int]
    latency_s: dict[str, float | None]
    answered_s: dict[str, float | None]
    availability: float | None
    availability_minutes: float | None
    utilisation: float | None
    replicas_min: int | None
    replicas_mean: float | None
    replicas_max: int | None
    replicas_peak: int | None
    cold_starts: int
    paid_s: float
    bill: Bill
    month: MonthFigures
    objectives: tuple[Objective, ...]
    worst_hour: Hour | None
    time_s: dict[str, float]
    bytes_out: float
    deaths: tuple[Death, ...]
    findings: tuple[Finding, ...]
    events: tuple[Event, ...]
    routes: tuple[RouteFigures, ...] | None = None
    areas: tuple[AreaFigures, ...] = ()
    services: dict[str, Figures] = field(default_factory=dict)
    regions: dict[str, str] = field(default_factory=dict)
    costs: Costs | None = None
    kept_replays: Annotated[Any, Field(exclude=True)] = field(default=None, compare=False, repr=False)

    @property
    def parts(self) -> dict[str, Figures]:
        """The figures of each service by name; of the only one these."""
        return self.services or {ALONE: self}

    @property
    def tier_of_arrivals(self) -> str:
        """The tier at which requests arrive, in whichever region: the only one, or of several services the first's."""
        name, part = next(iter(self.parts.items()))
        return (part.tier or "").removesuffix(f" {self.regions.get(name, '')}")

    @property
    def meets_all(self) -> bool:
        """Whether every objective is met."""
        return all(objective.met for objective in self.objectives)

    @property
    def missed(self) -> tuple[Objective, ...]:
        """The objectives that are not met."""
        return tuple(objective for objective in self.objectives if not objective.met)

    @property
    def hides_failures(self) -> bool:
        """Whether more than 1 % of a month's requests fail, so that percentiles of the answered ones say too little."""
        return hides_failures(self.month.availability)

    def to_dict(self, *, routes: bool = True) -> dict[str, Any]:
        """The JSON of the command line: plain numbers, None for what does not exist.

        Args:
            routes: whether the figures of each route are in it, where they are known.
        """
        document = dict.fromkeys(_ORDER) | super().to_dict()
        document["time_zone"] = None if self.start is None else str(self.start.tzinfo)
        document["start"] = None if self.start is None else self.start.isoformat()
        replicas = {name: document.pop(f"replicas_{name}") for name in _REPLICAS}
        document["replicas"] = replicas | {name: document.pop(name) for name in _STARTS}
        document["month"] = self.month.to_dict()
        document["bill"] = self.bill.to_dict()
        if self.costs is not None:
            document["costs"] = (self.costs if routes else self.costs.short()).to_dict()
        document["worst_hour"] = self._worst_hour_document()
        document["findings"] = [finding.to_dict() for finding in self.findings]
        document["routes"] = [route.to_dict() for route in self.routes or ()]
        document["areas"] = [area.to_dict() for area in self.areas]
        document["services"] = {name: figures.to_dict(routes=routes) for name, figures in self.services.items()}
        for name in _OPTIONAL:
            if not document[name] or (name == "routes" and not routes):
                del document[name]
        return document

    def _worst_hour_document(self) -> dict[str, Any] | None:
        hour = self.worst_hour
        if hour is None:
            return None
        local = local_time(self.start, hour.at_s)
        return {
            "at_s": hour.at_s,
            "start": None if local is None else local.isoformat(),
            "requests": hour.requests,
            "availability": hour.ok / hour.requests,
            "within": hour.within / hour.requests,
        }

    @classmethod
    def from_dict(cls, document: dict[str, Any]) -> Self:
        """What `to_dict` has written, the same to the last digit."""
        start, hour, replicas = document["start"], document["worst_hour"], document["replicas"]
        at = None if start is None else datetime.fromisoformat(start).astimezone(_zone(document["time_zone"]))
        clock, routes = Clock(at, document["span_s"]), document.get("routes")
        if hour is not None:
            ok, within = (round(hour[name] * hour["requests"]) for name in ("availability", "within"))
            hour = Hour(hour["at_s"], hour["requests"], ok, within)
        return super().from_dict(
            document
            | {
                "start": at,
                **{f"replicas_{name}": replicas[name] for name in _REPLICAS},
                **{name: replicas[name] for name in _STARTS},
                "worst_hour": hour,
                "month": MonthFigures.from_dict(document["month"]),
                "objectives": [Objective.from_dict(one) for one in document["objectives"]],
                "findings": [Finding.from_dict(one, clock) for one in document["findings"]],
                "routes": None if routes is None else [RouteFigures.from_dict(one) for one in routes],
                "areas": [AreaFigures.from_dict(one) for one in document.get("areas", ())],
                "services": {name: cls.from_dict(one) for name, one in document.get("services", {}).items()},
            }
        )


_ORDER: Final = (
    "plan", "tier", "size", "seed", "start", "time_zone", "span_s", "requests", "attempts", "endings", "latency_s",
    "availability", "utilisation", "replicas", "month",
)  # fmt: skip
"""The first keys of the JSON."""
_OPTIONAL: Final = ("routes", "areas", "services", "regions", "costs")
"""That are left out of the JSON where there is nothing in them."""
_REPLICAS: Final = ("min", "mean", "max", "peak")
_STARTS: Final = ("cold_starts", "paid_s")
_OF_REQUESTS: Final = (
    "seed", "start", "span_s", "n_requests", "attempts", "endings", "latency_s", "answered_s", "availability",
    "availability_minutes", "bill", "objectives", "worst_hour", "time_s", "bytes_out", "cold_starts", "paid_s",
    "month",
)  # fmt: skip
_OF_FLEET: Final = (
    "tier",
    "size",
    "utilisation",
    "replicas_min",
    "replicas_mean",
    "replicas_max",
    "replicas_peak",
    "died",
)


def figures_of(outcome: Outcome, of_routes: Sequence[Measures] | None, *, events: bool) -> Figures:
    """The figures of a replay.

    Args:
        outcome: the replay.
        of_routes: what is measured of each route; None: they are left out.
        events: whether it is worked out what each release and fault has cost.
    """
    shared = [one.name for one in fields(RouteFigures) if one.name != "route"]
    return Figures(
        plan=outcome.plan.name,
        findings=outcome.findings,
        events=outcome.happened if events else tuple(happened(outcome)),
        routes=None
        if of_routes is None
        else tuple(
            RouteFigures(route, **{name: getattr(found, name) for name in shared})
            for route, found in zip(outcome.run.routes, of_routes, strict=True)
        ),
        areas=tuple(
            AreaFigures(name, **{of: getattr(found, of) for of in shared}, regions=outcome.taken_in(name))
            for name, found in outcome.by_area.items()
        ),
        services={name: one.figures() for name, one in outcome.services.items() if one.label},
        regions={hosted.name: hosted.region for hosted in outcome.system.hosted if hosted.region is not None},
        costs=outcome.costs if of_routes is not None else _costs_in_short(outcome),
        kept_replays=kept_replays(outcome),
        **_same(outcome),
    )


def _costs_in_short(outcome: Outcome) -> Costs:
    use = outcome.weighted_replays.use()
    return costs_of(outcome.bill, use, outcome.span_s, outcome.start, outcome.system.entries, in_short=True)


def kept_replays(outcome: Outcome) -> KeptReplays:
    """What other months can be made of."""
    weighted = outcome.weighted_replays
    kept = weighted.kept(outcome.scopes())
    replays = tuple(KeptReplay(dict(part.usage), of) for (_, part), of in zip(weighted.parts, kept, strict=True))
    return KeptReplays(outcome.span_s, outcome.start, weighted.gaps, weighted.singles, replays, outcome.terms.month)


def figures_of_service(one: ServiceOutcome) -> Figures:
    """The figures of one of several services."""
    return Figures(
        plan=one.hosting.plan,
        findings=one.findings,
        events=(),
        **_same(one),
    )


def _same(of: OfRequests) -> dict[str, Any]:
    found = {name: getattr(of, name) for name in (*_OF_REQUESTS, *_OF_FLEET)}
    return found | {"deaths": found.pop("died")}


def _zone(name: str) -> Any:
    """A time zone by its name, or a fixed offset as Python writes it, such as `UTC+01:00`."""
    if name.startswith("UTC") and name != "UTC":
        return datetime.strptime(name.removeprefix("UTC"), "%z").tzinfo
    return ZoneInfo(name)
