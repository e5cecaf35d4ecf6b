"""Objectives: what a plan should achieve, for all requests, those of a route, or those of a time of day."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, time
from decimal import Decimal
from typing import Annotated, Any, Final, NamedTuple, Self

from pydantic import BeforeValidator, Field, PlainSerializer, WithJsonSchema, model_validator

from libramen.base import units
from libramen.base.errors import StudyError, UnitError
from libramen.base.fields import USUAL_SHARE, Fraction, LatencyLimit, Money, Table, nearest
from libramen.base.ranks import PERCENTILES
from libramen.base.results import Number, Result
from libramen.base.times import WEEKDAYS, Days, daily_edges, time_of_day

_LATENCIES = ("mean", *PERCENTILES, "max")


def _share(key: str) -> float | None:
    return 1.0 if key == "max" else PERCENTILES.get(key)


class Goal(NamedTuple):
    """One objective as it was asked for.

    Attributes:
        name: as it is reported: `p95`, `routes./tickets.p95`, `windows.1.availability`.
        key: which figure: `p95`, `availability`, `month`, ...
        wanted: the limit, in base units.
        route: whose requests it is about, None: all.
        window: which of the `windows` it is about (from 0), None: the whole time.
        service: whose visits it is about, None: requests.
        area: whose users it is about, None: everybody.
    """

    name: str
    key: str
    wanted: float | Decimal
    route: str | None = None
    window: int | None = None
    service: str | None = None
    area: str | None = None

    @property
    def is_counted_at_once(self) -> bool:
        """Whether it is about requests of the whole time and from everywhere: of all, or of a route."""
        return self.window is None and self.service is None and self.area is None

    @property
    def scope(self) -> str:
        """What it is about: its name without the key; "" is all requests."""
        return self.name.removesuffix(self.key).removesuffix(".")

    @property
    def is_latency(self) -> bool:
        """Whether it limits a latency."""
        return self.key in _LATENCIES

    @property
    def share(self) -> float | None:
        """The share of all requests that must be answered within the limit: 0.95 of `p95`, 1 of `max`.

        None for what is not a limit on single requests.
        """
        return _share(self.key)

    @property
    def limit_s(self) -> float:
        """The latency that `share` is about [s]."""
        return float(self.wanted)


@dataclass(frozen=True)
class Minutes:
    """In how many minutes an objective was met, of how many with traffic."""

    met: int
    of: int


@dataclass(frozen=True)
class Objective(Result):
    """One objective and what a replay got.

    Attributes:
        name: see `Goal`.
        wanted: the limit, in base units.
        got: the figure; a latency is over ok requests. None: there is none.
        met: whether the objective is met. A percentile of latency is when that share of **all** requests, failed ones
            too, was answered ok within the limit.
        within: of a percentile or maximum of latency, the share of all requests that was; else None.
        minutes: of the same; None: not counted.
    """

    name: str
    wanted: Number
    got: Number | None
    met: bool
    within: float | None = None
    minutes: Minutes | None = None

    @classmethod
    def from_dict(cls, document: dict[str, Any]) -> Self:
        """What `to_dict` has written: money is decimal, all else a float."""
        found = super().from_dict(document)
        if found.name != "month":
            return found
        return replace(found, wanted=Decimal(repr(found.wanted)), got=Decimal(repr(found.got)))

    @property
    def key(self) -> str:
        """Which figure it is about: `p95` of `routes./tickets.p95`."""
        return self.name.rpartition(".")[2]

    @property
    def scope(self) -> str:
        """What it is about: its name without the key; "" is all requests."""
        return self.name.rpartition(".")[0]

    @property
    def is_latency(self) -> bool:
        """Whether it limits a latency."""
        return self.key in _LATENCIES

    @property
    def share(self) -> float | None:
        """As of a `Goal`."""
        return _share(self.key)

    @property
    def excess(self) -> float:
        """By how much it is missed, as a share of what was wanted: 0 or less where it is met.

        Of a percentile of latency or an availability it is the budget of failed (or late) requests spent beyond the
        budget: 90 % within the limit where 95 % were wanted spend it twice, an excess of 1.
        """
        if self.got is None:
            return float("inf")
        wanted, got = float(self.wanted), float(self.got)
        if self.key == "max" and self.within is not None and self.within < 1 and got <= wanted:
            return float("inf")  # some were not answered at all
        spent: tuple[float, float] | None = None
        if self.key in PERCENTILES and self.within is not None:
            spent = 1 - self.within, 1 - PERCENTILES[self.key]
        elif "availability" in self.key:
            spent = 1 - got, 1 - wanted
        if spent is None:
            return got / wanted - 1 if wanted else float("inf")
        return spent[0] / spent[1] - 1 if spent[1] > 1e-12 else float("inf")


class RouteObjectives(Table):
    """What the requests of one route should achieve: latencies at most, availabilities at least.

    Example:
        >>> RouteObjectives(p95="300ms").wanted()
        {'p95': 0.3}
    """

    mean: LatencyLimit | None = Field(None, description="mean latency at most [s]")
    p50: LatencyLimit | None = Field(None, description="half of all requests are answered within this [s]")
    p90: LatencyLimit | None = Field(None, description="90 % of all requests are answered within this [s]")
    p95: LatencyLimit | None = Field(None, description="95 % of all requests are answered within this [s]")
    p99: LatencyLimit | None = Field(None, description="99 % of all requests are answered within this [s]")
    p999: LatencyLimit | None = Field(None, description="99.9 % of all requests are answered within this [s]")
    max: LatencyLimit | None = Field(None, description="every request is answered within this [s]")
    availability: Annotated[Fraction | None, USUAL_SHARE] = Field(
        None, description="share of requests that are ok, at least"
    )
    availability_minutes: Annotated[Fraction | None, USUAL_SHARE] = Field(
        None, description="share of the minutes with traffic in which few enough requests failed, at least"
    )

    def goals(self, before: str = "", route: str | None = None, window: int | None = None) -> Iterator[Goal]:
        """The objectives that are set; `before` is put before their names."""
        for key in RouteObjectives.model_fields:
            if (wanted := getattr(self, key)) is not None:
                yield Goal(f"{before}{key}", key, wanted, route, window)

    def wanted(self) -> dict[str, float | Decimal]:
        """The objectives that are set, by name, in base units."""
        return {goal.name: goal.wanted for goal in self.goals()}


_WINDOW = 'a time of day such as "12:00"'


def _clock_time(value: object) -> time:
    found = time_of_day(value)
    if found is None:
        raise UnitError(value, _WINDOW)
    return found


_ClockTime = Annotated[
    time,
    BeforeValidator(_clock_time),
    PlainSerializer(lambda at: at.isoformat("minutes" if not at.second else "seconds")),
    WithJsonSchema({"type": "string", "description": _WINDOW}),
]


def _calendar_day(value: object) -> dt.date:
    if isinstance(value, dt.date):
        return value
    try:
        return dt.date.fromisoformat(str(value))
    except ValueError:
        raise UnitError(value, _DATE) from None


_DATE: Final = 'a date such as "2031-06-05"'
_Date = Annotated[
    dt.date,
    BeforeValidator(_calendar_day),
    PlainSerializer(lambda day: day.isoformat()),
    WithJsonSchema({"type": "string", "pattern": r"^\d{4}-\d{2}-\d{2}$", "description": _DATE}),
]


class WindowObjectives(RouteObjectives):
    """What the requests should achieve that arrive at some time of every day, of some weekdays, or of one date.

    Example:
        >>> WindowObjectives(at=["12:00", "14:00"], p95="300ms").wanted()
        {'p95': 0.3}
    """

    at: tuple[_ClockTime, _ClockTime] = Field(
        description='begin and end, local, every day, the end left out: ["12:00", "14:00"]; may cross midnight'
    )
    days: Days | None = Field(None, description='weekdays on which it begins, such as ["wed"] (default: all)')
    date: _Date | None = Field(None, description='the only day on which it begins, such as "2031-06-05"')

    @model_validator(mode="after")
    def _lasts(self) -> Self:
        if self.at[0] == self.at[1]:
            raise ValueError(f"at: found {self.at[0]:%H:%M} twice; allowed: two times that differ")
        if self.days is not None and self.date is not None:
            raise ValueError("days and date are both there; allowed: one of them")
        return self

    def edges_s(self, start: datetime, span_s: float) -> list[float]:
        """When it is, in seconds from the start of a trace: from, to, from, to, ...; ascending, each end left out."""
        return daily_edges(*self.at, start, span_s, self._is_on)

    def _is_on(self, day: dt.date) -> bool:
        if self.date is not None:
            return day == self.date
        return self.days is None or WEEKDAYS[day.weekday()] in self.days

    @property
    def in_words(self) -> str:
        """`from 12:00 to 14:00 on wed and fri`."""
        begin, end = self.at
        said = f"from {begin:%H:%M} to {end:%H:%M}"
        if self.date is not None:
            return f"{said} on {self.date}"
        return said if self.days is None else f"{said} on {', '.join(self.days)}"


class Objectives(RouteObjectives):
    """What a plan should achieve: latencies at most, availabilities at least, a monthly cost at most.

    Example:
        >>> Objectives(p95="400ms", availability="99.9%", routes={"/tickets": {"p95": "300ms"}}).wanted()
        {'p95': 0.4, 'availability': 0.999, 'routes./tickets.p95': 0.3}
    """

    month: Money | None = Field(None, description="cost of a month at most")
    minute_fails_above: Fraction = Field(
        0.01, description="a minute counts as failed when more than this share of its requests failed"
    )
    routes: dict[str, RouteObjectives] = Field({}, description="what the requests of a route should achieve, by route")
    windows: tuple[WindowObjectives, ...] = Field(
        (), description="what the requests of a time of day should achieve, every day"
    )

    services: dict[str, RouteObjectives] = Field(
        {}, description="what the visits of a service should achieve, by service, where there are several"
    )

    areas: dict[str, RouteObjectives] = Field(
        {}, description="what the requests of an area should achieve, by area, where it is known where users are"
    )

    @model_validator(mode="after")
    def _says_each_once(self) -> Self:
        given: set[tuple[object, str]] = set()
        for place, window in enumerate(self.windows, start=1):
            for name in window.wanted():
                if (window.at, name) in given:
                    begin, end = window.at
                    raise ValueError(
                        f"windows[{place}]: {name} from {begin:%H:%M} to {end:%H:%M} is given twice; allowed: once"
                    )
                given.add((window.at, name))
        return self

    def of_services(self, names: Sequence[str]) -> list[Objectives]:
        """What is wanted of the visits of each service."""
        return [
            Objectives.model_construct(
                minute_fails_above=self.minute_fails_above, **dict(self.services.get(name, RouteObjectives()))
            )
            for name in names
        ]

    def check(
        self,
        routes: Iterable[str],
        start: datetime | None,
        span_s: float,
        services: Sequence[str] = (),
        areas: Iterable[str] | None = None,
    ) -> None:
        """See that there is all that something is wanted of.

        Args:
            routes: of the trace.
            start: of the trace.
            span_s: the time that it covers.
            services: of the plan, where there are several.
            areas: of the trace, None: not known yet.

        Raises:
            StudyError: a route, a service, an area or a day is not there, or the trace does not know the time of day.
        """
        there = None if areas is None else [area for area in areas if area]
        for area in () if there is None else self.areas:
            if area not in (there or ()):
                nobody = nearest(area, there or ()) if there else "allowed: areas in [trace], or a column area"
                raise StudyError(f"objectives.areas: the trace has no area {area!r}; {nobody}")
        for service in self.services:
            if service not in services:
                raise StudyError(f"objectives.services: there is no service {service!r}; {nearest(service, services)}")
        known = list(routes)
        for route in self.routes:
            if route not in known:
                raise StudyError(f"objectives.routes: the trace has no route {route!r}; {nearest(route, known)}")
        if self.windows and start is None:
            raise StudyError(
                "objectives.windows needs to know when the trace starts, and this trace does not say; allowed: "
                "objectives without windows"
            )
        for place, window in enumerate(self.windows, start=1):
            is_of_some_days = window.days is not None or window.date is not None
            if start is not None and is_of_some_days and not window.edges_s(start, span_s):
                raise StudyError(
                    f"objectives.windows[{place}]: the trace has no time {window.in_words}; allowed: a time, and days, "
                    "that it has"
                )

    def goals(self, before: str = "", route: str | None = None, window: int | None = None) -> Iterator[Goal]:
        """The objectives that are set; of a route `routes.ROUTE.KEY`, of a window `windows.N.KEY`, and so on."""
        yield from super().goals(before, route, window)
        if self.month is not None:
            yield Goal("month", "month", self.month)
        for name, objectives in self.routes.items():
            yield from objectives.goals(f"routes.{name}.", route=name)
        for number, objectives in enumerate(self.windows):
            yield from objectives.goals(f"windows.{number + 1}.", window=number)
        for name, objectives in self.services.items():
            for goal in objectives.goals(f"services.{name}."):
                yield goal._replace(service=name)
        for name, objectives in self.areas.items():
            for goal in objectives.goals(f"areas.{name}."):
                yield goal._replace(area=name)

    def describe(self, currency: str) -> list[str]:
        """Each objective in words: `p95 at most 400 ms`."""
        return [_in_words(goal, self, currency) for goal in self.goals()]


def _in_words(goal: Goal, objectives: Objectives, currency: str) -> str:
    if goal.key == "month":
        return f"a month at most {show_objective('month', goal.wanted, currency)}"
    what = f"{goal.key.replace('_', ' by ')} {'at most' if goal.is_latency else 'at least'} "
    what += show_objective(goal.key, goal.wanted, currency)
    if goal.service is not None:
        what += f" of visits to {goal.service}"
    if goal.area is not None:
        what += f" in {goal.area}"
    if goal.route is not None:
        what += f" on {goal.route}"
    if goal.window is not None:
        what += f" {objectives.windows[goal.window].in_words}"
    return what


def show_objective(name: str, value: float | Decimal | None, currency: str) -> str:
    """The value of an objective as a person would write it."""
    if value is None:
        return "none"
    if name == "month":
        return units.show_money(value, currency)
    if "availability" in name:
        return units.show_availability(float(value))
    return units.show_duration(float(value))
