"""What a study says of the month and of money, whatever the plan: `[month]`, `[account]`, and its own prices."""

from __future__ import annotations

from datetime import date
from typing import Annotated, Final, Literal, Self

from pydantic import BeforeValidator, Field, WithJsonSchema, model_validator

from libramen.base.errors import UnitError
from libramen.base.fields import NonNegativeNumber, PositiveReplicas, Table
from libramen.base.times import WEEKDAYS
from libramen.prices import PricesOfStudy

OTHER: Final = "other"
_DAY: Final = 'a date such as "2031-06-05", a weekday such as "sat", or "other"'


def _day(value: object) -> str:
    """A date, a weekday or other, as they are compared.

    Raises:
        UnitError: it is neither.
    """
    if isinstance(value, date):
        return value.isoformat()[:10]
    if isinstance(value, str):
        if value in {*WEEKDAYS, OTHER}:
            return value
        try:
            return date.fromisoformat(value).isoformat()
        except ValueError:
            pass
    raise UnitError(value, _DAY)


class DayTimes(Table):
    """How often a day stands in the month.

    Example:
        >>> DayTimes(day="2031-06-05", times=1).day
        '2031-06-05'
    """

    day: Annotated[str, BeforeValidator(_day), WithJsonSchema({"type": "string", "description": _DAY})] = Field(
        description='a date of the trace, a weekday (all of them), or "other": all days that no entry names'
    )
    times: NonNegativeNumber = Field(description="how many such days a month has")


class MonthTable(Table):
    """What a month is made of: 730 hours, in which each hour of the trace stands so many times.

    Example:
        >>> MonthTable(days=[{"day": "2031-06-05", "times": 1}, {"day": "other", "times": 29}]).days[1].times
        29.0
    """

    days: tuple[DayTimes, ...] = Field(
        (), description="days of the trace, and how often each is in a month (default: by the hour of the week)"
    )
    events: Literal["once", "as_traced"] | None = Field(
        None,
        description='"once": releases and faults with a single instant happen once a month; "as_traced": as often as '
        "their hour (default: once; with days as_traced)",
    )

    @property
    def has_events_once(self) -> bool:
        """Whether single events happen once a month."""
        return not self.days and self.events != "as_traced"

    @model_validator(mode="after")
    def _makes_a_month(self) -> Self:
        names = [entry.day for entry in self.days]
        twice = next((name for name in names if names.count(name) > 1), None)
        if twice is not None:
            raise ValueError(f"days: {twice!r} stands there twice; allowed: once")
        if self.days and not any(entry.times for entry in self.days):
            raise ValueError("days: times are 0 in all; allowed: above 0 for one day or more")
        if self.days and self.events == "once":
            raise ValueError('events = "once" beside days, which say how often each happens; allowed: one of the two')
        return self


class Limits(Table):
    """The most that some services may have at once, ordered and draining replicas included.

    Example:
        >>> Limits(replicas=20).cores is None
        True
    """

    replicas: PositiveReplicas | None = Field(None, description="most replicas (default: no limit)")
    cores: Annotated[float, Field(gt=0, le=1e9, allow_inf_nan=False)] | None = Field(
        None, description="most cores, those of the sizes (default: no limit)"
    )

    @property
    def is_limited(self) -> bool:
        """Whether there is a limit."""
        return self.replicas is not None or self.cores is not None


class Account(Limits):
    """The most that all services of a plan may have at once, and those that stand in a region.

    Example:
        >>> Account(replicas=20, regions={"west": {"replicas": 4}}).regions["west"].replicas
        4
    """

    regions: dict[str, Limits] = Field({}, description="by region what all services there may have")

    @property
    def is_limited(self) -> bool:
        """Whether there is a limit, anywhere."""
        return super().is_limited or any(limits.is_limited for limits in self.regions.values())

    def limits(self) -> list[tuple[str | None, Limits]]:
        """All limits, each with its region; None: of all regions together."""
        return [(None, self), *self.regions.items()]


class Terms(PricesOfStudy):  # type: ignore[misc]
    """What holds for all plans of a study beyond their own prices.

    Example:
        >>> Terms(currency="EUR", tax="21%").tax
        0.21
    """

    currency: str = Field("EUR", description="currency of all prices")
    month: MonthTable = Field(MonthTable(), description="what a month is made of")
    account: Account = Field(Account(), description="the most that a plan may have at once")
