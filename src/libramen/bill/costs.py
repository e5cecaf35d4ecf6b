"""Where the money goes: each line of a bill by service, by route, by hour, and by what it was paid for.

Replica lines go hour by hour, by their weight: what was paid but not ready, or dead, is "starting"; what was draining,
and what is rounded up, "leaving"; of what was ready the share of cores or of slots in use, the greater, is "used", by
route in proportion to what answered requests took of that; the rest is "idle". Commitments that are not used are
"committed". Requests and bytes go by their number; a share and tax as the lines they are on. All else is "standing",
spread over the hours by their weight.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from decimal import Decimal
from fractions import Fraction
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
_IDLE, _STARTING, _LEAVING, _COMMITTED, _STANDING = range(-5, 0)
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
    """

    item: str
    service: str | None
    amount: Cents
    kinds: dict[str, Cents]


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
) -> Costs:
    """Where the money goes.

    Args:
        bill: of all services.
        use: what they used.
        span_s: the time that the trace covers.
        start: its begin as a real time, None: not known.
    """
    charges = bill.charges
    services = use.services
    spreading = _Spreading(use, services, span_s, start)
    clock = spreading.clock
    cells = [spreading.of(charge) for charge in charges]
    total = sum((charge.line.amount for charge in charges), Decimal(0))
    attempts = spreading.attempts()
    sent = float(attempts.sum())

    def table(names: Sequence[str], shares: Callable[[int], Iterable[float]], sent_of: np.ndarray | None) -> list[Cost]:
        amounts = dict.fromkeys(names, Decimal(0))
        for number, charge in enumerate(charges):
            exact = _exact(names, shares(number))
            for name, amount in by_largest_remainder(charge.line.amount, exact).items():
                amounts[name] += amount
        return [
            Cost(
                name,
                amount,
                float(amount / total) if total else 0.0,
                None if sent_of is None or not sent or place >= len(sent_of) else float(sent_of[place]) / sent,
            )
            for place, (name, amount) in enumerate(amounts.items())
        ]

    routes = [*spreading.routes, *KINDS[1:]]
    by_clock = np.zeros((len(clock.names), len(clock.of_hour)))
    by_clock[clock.of_hour, np.arange(len(clock.of_hour))] = 1.0
    of_services = {name: spreading.sent_by(name) for name in services}
    quiet = None
    if clock.is_quiet is not None:
        kept = table(
            ["quiet", "busy"],
            lambda n: (float(cells[n][clock.is_quiet].sum()), float(cells[n][~clock.is_quiet].sum())),  # type: ignore[operator]
            None,
        )
        quiet = Quiet(
            clock.with_week_ends, kept[0].amount, float(attempts[clock.is_quiet].sum()) / sent if sent else 0.0
        )
    return Costs(
        currency=bill.currency,
        month=total,
        lines=tuple(
            LineCost(
                charge.line.item,
                charge.line.service,
                charge.line.amount,
                by_largest_remainder(charge.line.amount, _exact(KINDS, _by_kind(cells[number]))),
            )
            for number, charge in enumerate(charges)
        ),
        services=tuple(
            table(
                services,
                lambda n: (float(charges[n].shares.get(name, Fraction(0))) for name in services),
                np.array([of_services[name] for name in services]),
            )
        ),
        routes=tuple(table(routes, lambda n: cells[n].sum(axis=0).tolist(), attempts.sum(axis=0))),
        hours=tuple(
            table(
                clock.names,
                lambda n: (by_clock @ cells[n].sum(axis=1)).tolist(),
                by_clock @ attempts.sum(axis=1),
            )
        ),
        kinds=tuple(table(KINDS, lambda n: _by_kind(cells[n]), None)),
        quiet=quiet,
    )


def _by_kind(cells: np.ndarray) -> list[float]:
    of_column = cells.sum(axis=0)
    return [float(of_column[: -len(KINDS) + 1].sum()), *of_column[-len(KINDS) + 1 :].tolist()]


def _exact(names: Sequence[str], shares: Iterable[float]) -> dict[str, Fraction]:
    """Shares that add up to 1 exactly."""
    found = {name: Fraction(max(0.0, share)) for name, share in zip(names, shares, strict=True)}
    whole = sum(found.values(), Fraction(0))
    if not whole:
        return {name: Fraction(int(place == 0)) for place, name in enumerate(names)}
    return {name: share / whole for name, share in found.items()}


class _Spreading:
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
        return sum((self._sent(name, "requests") for name in self._services), self._nothing()[:, :-5])

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
                    self._of_service(part.charge, part.service) if part.service else self.of(part.charge),
                )
                for part in charge.on
            ]
            found = sum((amount * cells for amount, cells in parts), self._nothing())
            whole = float(found.sum())
            return found / whole if whole > 0 else self._standing()
        return sum(
            (float(share) * self._of_service(charge, name) for name, share in charge.shares.items() if share),
            self._nothing(),
        )

    def _of_service(self, charge: Charge, service: str) -> np.ndarray:
        """How what is one service's of a line is spread, as if it were 1."""
        if charge.spread == "lines":
            return self.of(charge)
        key = (charge.spread, charge.ranks, service)
        if key not in self._known:
            self._known[key] = self._spread(charge, service)
        return self._known[key]

    def _spread(self, charge: Charge, service: str) -> np.ndarray:
        if charge.spread in {"requests", "egress"}:
            found = self._nothing()
            found[:, :-5] = self._sent(service, charge.spread)
        elif charge.spread == "in_use":
            found = self._summed(service, self._in_use)
        elif charge.spread in {"replicas", "lived"}:
            found = self._summed(service, lambda part, usage: self._replicas(part, usage, charge.ranks))
        elif charge.spread in {"committed", "months"}:
            kind = _COMMITTED if charge.spread == "committed" else _IDLE
            found = self._summed(service, lambda part, usage: self._whole(part, usage, charge.ranks, kind))
        else:
            return self._standing()
        whole = float(found.sum())
        return found / whole if whole > 0 else self._standing()

    def _nothing(self) -> np.ndarray:
        return np.zeros((self._hours, len(self.routes) + 5))

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
        found[:, :-5] = np.minimum(in_use, lasted)[:, None] * self._taken(part, usage, "held")
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
        found[:, :-5] = np.divide(busy, whole, out=np.zeros(self._hours), where=there)[:, None] * used
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
