"""The figures of a replay: all that tables, findings, verdicts and JSON say of it, small enough to be sent and kept."""

from __future__ import annotations

from dataclasses import dataclass, field, fields
from datetime import datetime
from decimal import Decimal
from typing import TYPE_CHECKING, Any, Final, Self
from zoneinfo import ZoneInfo

from libramen.base.times import local_time
from libramen.bill.bill import Bill
from libramen.bill.lines import BillLine
from libramen.engine.replica import Death
from libramen.outcome.days import Days, days_of
from libramen.outcome.events import Event, happened
from libramen.outcome.findings import Clock, Finding
from libramen.outcome.measures import Hour
from libramen.study.objectives import Objective
from libramen.study.plan import ALONE

if TYPE_CHECKING:
    from collections.abc import Sequence

    from libramen.outcome.measures import Measures
    from libramen.outcome.of_requests import OfRequests
    from libramen.outcome.outcome import Outcome
    from libramen.outcome.service_outcome import ServiceOutcome
    from libramen.study.objectives import Goal


@dataclass(frozen=True)
class RouteFigures:
    """The figures of one route; each as in `Figures`."""

    route: str
    requests: int
    endings: dict[str, int]
    latency_s: dict[str, float | None]
    answered_s: dict[str, float | None]
    availability: float | None
    availability_minutes: float | None
    time_s: dict[str, float]
    bytes_out: float

    def to_dict(self) -> dict[str, Any]:
        """As in the JSON of an outcome."""
        values = {one.name: getattr(self, one.name) for one in fields(self)}
        values["availability"] = {"requests": self.availability, "minutes": values.pop("availability_minutes")}
        return values

    @classmethod
    def from_dict(cls, document: dict[str, Any]) -> Self:
        """What `to_dict` has written."""
        availability = document["availability"]
        return cls(
            **{**document, "availability": availability["requests"], "availability_minutes": availability["minutes"]}
        )


@dataclass(frozen=True)
class Figures:
    """What came of replaying a trace against a plan, in figures. Plain values, equal when all are equal.

    Attributes:
        plan, tier, size, seed: what it was replayed against, by name. Of several services, tier and size are None, and
            so are utilisation and replicas: `services` has them.
        start, span_s: the instant 0 as a real time (None: not known), and the time that the trace covers [s].
        requests, attempts, endings, latency_s, answered_s, availability, availability_minutes, utilisation, time_s,
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
        services: the figures of each service by name, where there are several; else empty: these are of the only one.
        days: counts of each quarter of each day, None: the trace has fewer than two, or its requests were not kept.
    """

    plan: str
    tier: str | None
    size: str | None
    seed: int
    start: datetime | None
    span_s: float
    requests: int
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
    objectives: tuple[Objective, ...]
    worst_hour: Hour | None
    time_s: dict[str, float]
    bytes_out: float
    deaths: tuple[Death, ...]
    findings: tuple[Finding, ...]
    events: tuple[Event, ...]
    routes: tuple[RouteFigures, ...] | None = None
    services: dict[str, Figures] = field(default_factory=dict)
    days: Days | None = None

    @property
    def parts(self) -> dict[str, Figures]:
        """The figures of each service by name; of the only one these."""
        return self.services or {ALONE: self}

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
        """Whether more than 1 % of the requests failed, so that the percentiles of the answered ones say too little."""
        return self.availability is not None and self.availability < 0.99

    def to_dict(self, *, routes: bool = True) -> dict[str, Any]:
        """The JSON of the command line: plain numbers, None for what does not exist.

        Args:
            routes: whether the figures of each route are in it, where they are known.
        """
        document: dict[str, Any] = {
            "plan": self.plan,
            "tier": self.tier,
            "size": self.size,
            "seed": self.seed,
            "start": None if self.start is None else self.start.isoformat(),
            "time_zone": None if self.start is None else str(self.start.tzinfo),
            "span_s": self.span_s,
            "requests": self.requests,
            "attempts": self.attempts,
            "endings": dict(self.endings),
            "latency_s": dict(self.latency_s),
            "availability": {"requests": self.availability, "minutes": self.availability_minutes},
            "utilisation": self.utilisation,
            "replicas": {
                "min": self.replicas_min,
                "mean": self.replicas_mean,
                "max": self.replicas_max,
                "peak": self.replicas_peak,
                "cold_starts": self.cold_starts,
                "paid_s": self.paid_s,
            },
            "bill": _bill_document(self.bill),
            "objectives": [_objective_document(objective) for objective in self.objectives],
            "answered_s": dict(self.answered_s),
            "worst_hour": self._worst_hour_document(),
            "time_s": dict(self.time_s),
            "bytes_out": self.bytes_out,
            "deaths": [death._asdict() for death in self.deaths],
            "findings": [finding.to_dict() for finding in self.findings],
            "events": [event.to_dict() for event in self.events],
        }
        if routes and self.routes is not None:
            document["routes"] = [route.to_dict() for route in self.routes]
        if self.days is not None:
            document["days"] = self.days._asdict()
        if self.services:
            document["services"] = {name: figures.to_dict(routes=routes) for name, figures in self.services.items()}
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
        start = document["start"]
        hour, routes, services = document["worst_hour"], document.get("routes"), document.get("services", {})
        days = document.get("days")
        replicas, availability = document["replicas"], document["availability"]
        at = None if start is None else datetime.fromisoformat(start).astimezone(_zone(document["time_zone"]))
        clock = Clock(at, document["span_s"])
        same = ("plan", "tier", "size", "seed", "span_s", "requests", "attempts", "endings", "latency_s", "answered_s",
                "utilisation", "time_s", "bytes_out")  # fmt: skip
        return cls(
            **{name: document[name] for name in same},
            start=at,
            availability=availability["requests"],
            availability_minutes=availability["minutes"],
            **{f"replicas_{name}": replicas[name] for name in ("min", "mean", "max", "peak")},
            cold_starts=replicas["cold_starts"],
            paid_s=replicas["paid_s"],
            bill=_bill_of(document["bill"]),
            objectives=tuple(_objective_of(entry) for entry in document["objectives"]),
            worst_hour=None
            if hour is None
            else Hour(
                hour["at_s"],
                hour["requests"],
                round(hour["availability"] * hour["requests"]),
                round(hour["within"] * hour["requests"]),
            ),
            deaths=tuple(Death(**death) for death in document["deaths"]),
            findings=tuple(Finding.from_dict(finding, clock) for finding in document["findings"]),
            events=tuple(Event(**event) for event in document["events"]),
            routes=None if routes is None else tuple(RouteFigures.from_dict(route) for route in routes),
            days=None if days is None else Days.from_dict(days),
            services={name: cls.from_dict(one) for name, one in services.items()},
        )


_OF_REQUESTS: Final = (
    "seed", "start", "span_s", "attempts", "endings", "latency_s", "answered_s", "availability", "availability_minutes",
    "bill", "objectives", "worst_hour", "time_s", "bytes_out", "cold_starts", "paid_s",
)  # fmt: skip
_OF_FLEET: Final = ("utilisation", "replicas_min", "replicas_mean", "replicas_max", "replicas_peak")


def figures_of(
    outcome: Outcome, of_routes: Sequence[Measures] | None, limits: Sequence[Goal], *, events: bool
) -> Figures:
    """The figures of a replay.

    Args:
        outcome: the replay.
        of_routes: what is measured of each route; None: they are left out.
        limits: what is asked of the latency of all requests.
        events: whether it is worked out what each release and fault has cost.
    """
    only, services = outcome.only, {}
    if only is None:
        services = {name: one.figures() for name, one in outcome.services.items()}
    shared = [one.name for one in fields(RouteFigures) if one.name != "route"]
    return Figures(
        plan=outcome.plan.name,
        tier=None if only is None else only.hosting.tier.name,
        size=None if only is None else only.hosting.size.name,
        requests=outcome.requests_measured,
        deaths=() if only is None else tuple(only.run.deaths),
        findings=outcome.findings,
        events=outcome.happened if events else tuple(happened(outcome)),
        routes=None
        if of_routes is None
        else tuple(
            RouteFigures(route, **{name: getattr(found, name) for name in shared})
            for route, found in zip(outcome.run.routes, of_routes, strict=True)
        ),
        services=services,
        days=days_of(outcome, limits),
        **_same(outcome),
    )


def figures_of_service(one: ServiceOutcome) -> Figures:
    """The figures of one of several services."""
    return Figures(
        plan=one.hosting.plan,
        tier=one.hosting.tier.name,
        size=one.hosting.size.name,
        requests=one.requests_measured,
        deaths=tuple(one.run.deaths),
        findings=one.findings,
        events=(),
        **_same(one),
    )


def _same(of: OfRequests) -> dict[str, Any]:
    return {name: getattr(of, name) for name in (*_OF_REQUESTS, *_OF_FLEET)}


def _zone(name: str) -> Any:
    """A time zone by its name, or a fixed offset as Python writes it, such as `UTC+01:00`."""
    if name.startswith("UTC") and name != "UTC":
        return datetime.strptime(name.removeprefix("UTC"), "%z").tzinfo
    return ZoneInfo(name)


def _bill_document(bill: Bill) -> dict[str, Any]:
    return {
        "currency": bill.currency,
        "month": float(bill.month),
        "lines": [
            {
                "item": line.item,
                "quantity": float(line.quantity),
                "unit": line.unit,
                "unit_price": float(line.unit_price),
                "amount": float(line.amount),
            }
            for line in bill.lines
        ],
        "note": bill.note,
        "assumes": bill.assumes,
    }


def _bill_of(document: dict[str, Any]) -> Bill:
    lines = tuple(
        BillLine(
            item=line["item"],
            quantity=Decimal(repr(line["quantity"])).quantize(Decimal("0.000001")),
            unit=line["unit"],
            unit_price=Decimal(repr(line["unit_price"])),
            amount=Decimal(repr(line["amount"])).quantize(Decimal("0.01")),
        )
        for line in document["lines"]
    )
    return Bill(document["currency"], lines, document["note"], document["assumes"])


def _objective_document(objective: Objective) -> dict[str, Any]:
    minutes = objective.minutes
    return {
        "name": objective.name,
        "wanted": _plain(objective.wanted),
        "got": _plain(objective.got),
        "met": objective.met,
        "within": objective.within,
        "minutes": None if minutes is None else dict(zip(("met", "of"), minutes, strict=True)),
    }


def _objective_of(document: dict[str, Any]) -> Objective:
    values = dict(document)
    if values["name"] == "month":
        values |= {key: Decimal(repr(values[key])) for key in ("wanted", "got")}
    minutes = values["minutes"]
    return Objective(**{**values, "minutes": None if minutes is None else (minutes["met"], minutes["of"])})


def _plain(value: Any) -> float | None:
    return None if value is None else float(value)
