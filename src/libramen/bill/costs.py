"""Where the money goes: each line of a bill by service, by route, by hour, and by what it was paid for.

Replica lines go hour by hour, by their weight: what was paid but not ready, or dead, is "starting"; what was draining,
and what is rounded up, "leaving"; of what was ready the share of cores or of slots in use, the greater, is "used", by
route in proportion to what answered requests took of that; the rest is "idle". Commitments that are not used are
"committed". Requests and bytes go by their number; a share and tax as the lines they are on. All else is "standing",
spread over the hours by their weight.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from decimal import Decimal
from fractions import Fraction
from itertools import zip_longest
from typing import Final, NamedTuple

import numpy as np

from libramen.base.results import Cents, Result
from libramen.base.times import WEEKDAYS
from libramen.bill.account import by_largest_remainder
from libramen.bill.bill import Bill
from libramen.bill.month import WEEK_S, clock_hours
from libramen.bill.usage import Usage
from libramen.bill.use import MonthOfUse, Part
from libramen.prices.lines import Charge

KINDS: Final = ("used", "idle", "starting", "leaving", "committed", "standing")
"""What money is paid for."""
_OTHERS: Final = 1 - len(KINDS)
"""Columns of cells: "used" by route, then one for each other kind, counted from the end."""
_IDLE, _STARTING, _LEAVING, COMMITTED, _STANDING = range(_OTHERS, 0)
_NIGHT: Final = (22, 6)
_SATURDAY: Final = 5


@dataclass(frozen=True)
class Cost(Result):
    """What something costs in a month.

    Attributes:
        name: of the service, the route, the hour or the kind.
        amount: its share of all lines, each to the cent.
        share: of the total.
        requests: share of the month's attempts at balancers; None: it has none.
    """

    name: str
    amount: Cents
    share: float
    requests: float | None = None


@dataclass(frozen=True)
class LineCost(Result):
    """A line of the bill, and what it is paid for.

    Attributes:
        item: of the line.
        service: whose it is; None: of several.
        amount: of the line.
        kinds: the same by kind.
        tier: of what is of all services on a tier its name.
    """

    item: str
    service: str | None
    amount: Cents
    kinds: dict[str, Cents]
    tier: str | None = None


@dataclass(frozen=True)
class Quiet(Result):
    """The nights, from 22:00 to 06:00, and the week-ends: what they cost, and the share of the attempts then."""

    with_week_ends: bool
    amount: Cents
    requests: float


@dataclass(frozen=True)
class Costs(Result):
    """Where the money of a month goes; each table adds up to the bill.

    Attributes:
        currency, month: of the bill.
        lines: by line, each by kind.
        services: by service.
        routes: what was used by route; and the other kinds.
        hours: by hour of the week ("mon 14"), of a trace of less than a week of the day ("14"), without dates of the
            trace ("0" on).
        kinds: by what was paid for: used, idle, starting, leaving, committed, standing.
        quiet: nights and week-ends; None: the trace has no dates, or is less than a day.
    """

    currency: str
    month: Cents
    lines: tuple[LineCost, ...]
    services: tuple[Cost, ...]
    routes: tuple[Cost, ...]
    hours: tuple[Cost, ...]
    kinds: tuple[Cost, ...]
    quiet: Quiet | None

    def short(self) -> Costs:
        """Of a comparison: by line, service and kind."""
        return replace(self, routes=(), hours=())


class _Clock(NamedTuple):
    """What the hours of a trace are called, and which of them are quiet."""

    names: list[str]
    of_hour: np.ndarray
    is_quiet: np.ndarray | None
    with_week_ends: bool


def costs_of(
    bill: Bill,
    use: MonthOfUse,
    span_s: float,
    start: datetime | None,
    entries: Mapping[str, str] | None = None,
    *,
    in_short: bool = False,
) -> Costs:
    """Where the money goes.

    Args:
        bill: of all services.
        use: what they used.
        span_s: the time that the trace covers.
        start: its begin as a real time, None: not known.
        entries: of names that are an entry of a mixed fleet that fleet. Default: there is none.
        in_short: see `Costs.short`; the tables that it leaves out are most of the work.
    """
    tables = _Tables(bill, Spreading(use, use.services, span_s, start))
    whose = {name: (entries or {}).get(name, name) for name in use.services}
    return Costs(
        currency=bill.currency,
        month=tables.total,
        lines=tuple(tables.lines()),
        services=tuple(tables.services(whose)),
        routes=() if in_short else tuple(tables.routes()),
        hours=() if in_short else tuple(tables.hours()),
        kinds=tuple(tables.kinds()),
        quiet=tables.quiet(),
    )


def hour_costs(bill: Bill, use: MonthOfUse, span_s: float, start: datetime | None) -> np.ndarray:
    """What each hour of the clock of a trace costs when it happens once: float64 (hours,).

    NaN where the month has none. Where single events happen once a month it is the mean of the hour with them and
    without.
    """
    spreading = Spreading(use, use.services, span_s, start)
    month = sum(
        (float(charge.line.amount) * spreading.of(charge).sum(axis=1) for charge in bill.charges),
        np.zeros(len(spreading.clock.of_hour)),
    )
    times = sum((part.weights.floats for part in use.parts), np.zeros(len(month)))
    found: np.ndarray = np.divide(month, times, out=np.full(len(month), np.nan), where=times > 0)
    return found


class _Tables:
    """The tables of `Costs`, each made of the same cells."""

    def __init__(self, bill: Bill, spreading: Spreading) -> None:
        self._charges, self._spreading = bill.charges, spreading
        self._cells = [spreading.of(charge) for charge in bill.charges]
        self._attempts = spreading.attempts()
        self.total = sum((charge.line.amount for charge in bill.charges), Decimal(0))

    def _table(
        self, names: Sequence[str], shares: Callable[[int], Iterable[float]], attempts: np.ndarray | None = None
    ) -> Iterator[Cost]:
        """What each name costs.

        Args:
            names: of the rows.
            shares: of the line with that number, the share of each row.
            attempts: of the first rows, None: of none.
        """
        amounts = dict.fromkeys(names, Decimal(0))
        for number, charge in enumerate(self._charges):
            exact = _exact(names, shares(number))
            for name, amount in by_largest_remainder(charge.line.amount, exact).items():
                amounts[name] += amount
        of_rows = [] if attempts is None else attempts.tolist()
        for (name, amount), sent in zip_longest(amounts.items(), of_rows[: len(amounts)]):
            share = float(amount / self.total) if self.total else 0.0
            yield Cost(name, amount, share, None if sent is None else self._share_of_attempts(sent))

    def _share_of_attempts(self, sent: float) -> float | None:
        whole = float(self._attempts.sum())
        return sent / whole if whole else None

    def lines(self) -> Iterator[LineCost]:
        """Each line by kind."""
        for charge, cells in zip(self._charges, self._cells, strict=True):
            line, kinds = charge.line, _exact(KINDS, _by_kind(cells))
            yield LineCost(line.item, line.service, line.amount, by_largest_remainder(line.amount, kinds), line.tier)

    def services(self, whose: Mapping[str, str]) -> Iterator[Cost]:
        """By service; `whose`: of each name the service."""
        names = list(dict.fromkeys(whose.values()))

        def of(number: int, service: str) -> float:
            shares = self._charges[number].shares
            return float(sum((shares.get(name, Fraction(0)) for name in whose if whose[name] == service), Fraction(0)))

        attempts = np.array(
            [sum(self._spreading.sent_by(one) for one in whose if whose[one] == name) for name in names]
        )
        return self._table(names, lambda number: (of(number, name) for name in names), attempts)

    def routes(self) -> Iterator[Cost]:
        """What was used by route, and the other kinds."""
        names = [*self._spreading.routes, *KINDS[1:]]
        return self._table(names, lambda n: self._cells[n].sum(axis=0).tolist(), self._attempts.sum(axis=0))

    def hours(self) -> Iterator[Cost]:
        """By what the hours are called."""
        clock = self._spreading.clock
        of_name = np.zeros((len(clock.names), len(clock.of_hour)))
        of_name[clock.of_hour, np.arange(len(clock.of_hour))] = 1.0
        return self._table(
            clock.names,
            lambda n: (of_name @ self._cells[n].sum(axis=1)).tolist(),
            of_name @ self._attempts.sum(axis=1),
        )

    def kinds(self) -> Iterator[Cost]:
        """By what was paid for."""
        return self._table(KINDS, lambda n: _by_kind(self._cells[n]))

    def quiet(self) -> Quiet | None:
        """Nights and week-ends."""
        clock = self._spreading.clock
        quiet = clock.is_quiet
        if quiet is None:
            return None
        of_line = [(float(cells[quiet].sum()), float(cells[~quiet].sum())) for cells in self._cells]
        cost = next(self._table(["quiet", "busy"], lambda n: of_line[n]))
        sent = self._share_of_attempts(float(self._attempts[quiet].sum()))
        return Quiet(clock.with_week_ends, cost.amount, sent or 0.0)


def _by_kind(cells: np.ndarray) -> list[float]:
    of_column = cells.sum(axis=0)
    return [float(of_column[:_OTHERS].sum()), *of_column[_OTHERS:].tolist()]


def _exact(names: Sequence[str], shares: Iterable[float]) -> dict[str, Fraction]:
    """Shares that add up to 1 exactly."""
    found = {name: Fraction(max(0.0, share)) for name, share in zip(names, shares, strict=True)}
    whole = sum(found.values(), Fraction(0))
    if not whole:
        return {name: Fraction(int(place == 0)) for place, name in enumerate(names)}
    return {name: share / whole for name, share in found.items()}


class Spreading:
    """Lays amounts over hours of the trace, and routes and kinds: float64 (hours, routes + 5), adding up to 1."""

    def __init__(self, use: MonthOfUse, services: Sequence[str], span_s: float, start: datetime | None) -> None:
        self._use, self._services = use, services
        self.clock = _clock(span_s, start)
        self._hours = len(self.clock.of_hour)
        self._length_s = np.diff(clock_hours(span_s, start))
        seen = {row.route: None for part in use.parts for one in part.usage.values() for row in one.of("requests")}
        self.routes = list(seen)
        self._place = {route: number for number, route in enumerate(self.routes)}
        self._known: dict[tuple[object, ...], np.ndarray] = {}

    def attempts(self) -> np.ndarray:
        """Attempts of the month by hour and route: float64 (hours, routes)."""
        return sum((self._sent(name, "requests") for name in self._services), self._nothing()[:, :_OTHERS])

    def sent_by(self, service: str) -> float:
        """Attempts of the month at one service."""
        return float(self._sent(service, "requests").sum())

    def of(self, charge: Charge) -> np.ndarray:
        """How a line is spread."""
        if charge.spread == "lines":
            parts = [
                (
                    float(part.charge.amount)
                    * (1.0 if part.service is None else float(part.charge.shares.get(part.service, Fraction(0)))),
                    self.of_service(part.charge, part.service) if part.service else self.of(part.charge),
                )
                for part in charge.on
            ]
            found = sum((amount * cells for amount, cells in parts), self._nothing())
            whole = float(found.sum())
            return found / whole if whole > 0 else self._standing()
        return sum(
            (float(share) * self.of_service(charge, name) for name, share in charge.shares.items() if share),
            self._nothing(),
        )

    def of_service(self, charge: Charge, service: str) -> np.ndarray:
        """How what is one service's of a line is spread, as if it were 1."""
        if charge.spread == "lines":
            return self.of(charge)
        key = (charge.spread, charge.ranks, service)
        if key not in self._known:
            self._known[key] = self._spread(charge, service)
        return self._known[key]

    def _spread(self, charge: Charge, service: str) -> np.ndarray:
        if charge.spread in {"requests", "egress", "crossed"}:
            found = self._nothing()
            found[:, :_OTHERS] = self._sent(service, charge.spread)
        elif charge.spread == "in_use":
            found = self._summed(service, self._in_use)
        elif charge.spread in {"replicas", "lived"}:
            found = self._summed(service, lambda part, usage: self._replicas(part, usage, charge.ranks))
        elif charge.spread in {"committed", "months"}:
            kind = COMMITTED if charge.spread == "committed" else _IDLE
            found = self._summed(service, lambda part, usage: self._whole(part, usage, charge.ranks, kind))
        else:
            return self._standing()
        whole = float(found.sum())
        return found / whole if whole > 0 else self._standing()

    def _nothing(self) -> np.ndarray:
        return np.zeros((self._hours, len(self.routes) - _OTHERS))

    def _standing(self) -> np.ndarray:
        found = self._nothing()
        for part in self._use.parts:
            found[:, _STANDING] += part.weights.floats * self._length_s
        laid: np.ndarray = found / found.sum()
        return laid

    def _sent(self, service: str, item: str) -> np.ndarray:
        """Of one thing by hour and route in the month: float64 (hours, routes)."""
        found = np.zeros((self._hours, len(self.routes)))
        for part in self._use.parts:
            found += part.weights.floats[:, None] * self._by_route(part, part.usage[service], item)
        return found

    def _by_route(self, part: Part, usage: Usage, item: str) -> np.ndarray:
        found = np.zeros((self._hours, len(self.routes)))
        for row in usage.of(item):
            found[:, self._place[row.route]] += part.weights.folded(row.amount)
        return found

    def _summed(self, service: str, of: Callable[[Part, Usage], np.ndarray]) -> np.ndarray:
        return sum(
            (part.weights.floats[:, None] * of(part, part.usage[service]) for part in self._use.parts),
            self._nothing(),
        )

    def _in_use(self, part: Part, usage: Usage) -> np.ndarray:
        found = self._nothing()
        in_use, lasted = (part.weights.folded(usage.total(item)) for item in ("in_use", "lasted"))
        found[:, :_OTHERS] = np.minimum(in_use, lasted)[:, None] * self._taken(part, usage, "held")
        found[:, _LEAVING] = np.maximum(0.0, in_use - lasted)
        return found

    def _taken(self, part: Part, usage: Usage, item: str) -> np.ndarray:
        """Of each hour the share of each route in what requests took: float64 (hours, routes), rows add up to 1."""
        taken = self._by_route(part, usage, item)
        whole = taken.sum(axis=0)
        usual = whole / whole.sum() if whole.sum() > 0 else np.full(len(whole), 1 / max(1, len(whole)))
        of_hour = taken.sum(axis=1, keepdims=True)
        return np.where(of_hour > 0, np.divide(taken, of_hour, out=np.zeros_like(taken), where=of_hour > 0), usual)

    def _replicas(self, part: Part, usage: Usage, ranks: tuple[int, int | None]) -> np.ndarray:
        """Replica-seconds of some ranks by hour, as all replicas were in that hour."""
        first, last = ranks
        there = usage.ranks[first:last].sum(axis=0) if len(usage.ranks) else np.zeros(self._hours)
        found: np.ndarray = part.weights.folded(there)[:, None] * self._as_they_were(part, usage)
        return found

    def _as_they_were(self, part: Part, usage: Usage) -> np.ndarray:
        """What a replica-second of each hour was paid for: rows add up to 1."""
        found = self._nothing()
        starting, ready, leaving, busy = (
            part.weights.folded(usage.total(item)) for item in ("starting", "ready", "leaving", "busy")
        )
        whole = starting + ready + leaving
        there = whole > 0
        by_cpu = (part.weights.folded(usage.total("by_cpu")) > 0)[:, None]
        used = np.where(by_cpu, self._taken(part, usage, "cpu"), self._taken(part, usage, "held"))
        shares = {_STARTING: starting, _LEAVING: leaving, _IDLE: ready - busy}
        for column, amount in shares.items():
            found[:, column] = np.divide(amount, whole, out=np.zeros(self._hours), where=there)
        found[:, :_OTHERS] = np.divide(busy, whole, out=np.zeros(self._hours), where=there)[:, None] * used
        found[~there, _STANDING] = 1.0
        return found

    def _whole(self, part: Part, usage: Usage, ranks: tuple[int, int | None], rest: int) -> np.ndarray:
        """Replicas that are paid all the time: what was there as it was, the rest of another kind."""
        first, last = ranks
        n = (last or 0) - first
        found = self._replicas(part, usage, ranks)
        there = found.sum(axis=1)
        found[:, rest] += np.maximum(0.0, n * self._length_s - there)
        return found


def _clock(span_s: float, start: datetime | None) -> _Clock:
    """What the hours of a trace are called."""
    edges_s = clock_hours(span_s, start)
    hours = len(edges_s) - 1
    if start is None:
        names = [str(hour) for hour in range(min(hours, 168))]
        return _Clock(names, np.arange(hours) % 168, None, with_week_ends=False)
    utc = start.astimezone(UTC)
    local = [
        (utc + timedelta(seconds=middle)).astimezone(start.tzinfo)
        for middle in ((edges_s[:-1] + edges_s[1:]) / 2).tolist()
    ]
    is_week = span_s >= WEEK_S - 1e-9
    named = [f"{WEEKDAYS[at.weekday()]} {at.hour:02d}" if is_week else f"{at.hour:02d}" for at in local]
    order = {name: place for place, name in enumerate(sorted(set(named), key=_in_week))}
    quiet = np.array(
        [at.hour >= _NIGHT[0] or at.hour < _NIGHT[1] or (is_week and at.weekday() >= _SATURDAY) for at in local]
    )
    is_day = len({at.hour for at in local}) == 24
    return _Clock(
        list(order), np.array([order[name] for name in named]), quiet if is_day else None, with_week_ends=is_week
    )


def _in_week(name: str) -> tuple[int, str]:
    day, _, hour = name.rpartition(" ")
    return (WEEKDAYS.index(day) if day else 0), hour
