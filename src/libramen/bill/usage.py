"""What a run has used, before it is money: rows by item, hour and zone or route; and when replicas were paid for."""

from __future__ import annotations

import base64
import bisect
import math
import zlib
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Annotated, Any, Final, NamedTuple, Protocol, Self

import numpy as np
from pydantic import BeforeValidator, InstanceOf, PlainSerializer

from libramen.base.steps import Steps
from libramen.base.times import EPSILON_S
from libramen.bill.month import clock_hours
from libramen.engine.record import ServiceRun
from libramen.engine.replica import Replica
from libramen.prices.replica_hours import BY_TIME
from libramen.study.hosting import Hosting
from libramen.study.service import Tier

_MANY: Final = 4_000_000
_MOST_RANKS: Final = 2_000_000
"""Of ranks times hours: beyond, the highest ranks are one."""
_STAGES: Final = {
    "booting": "starting", "starting": "starting", "down": "starting", "ready": "ready", "standby": "ready",
    "draining": "leaving",
}  # fmt: skip


class Used(NamedTuple):
    """So much of one thing, in each hour of the clock since the start.

    Attributes:
        item: by route "requests" (attempts that the balancer got), "egress" [bytes], "cpu" and "held" (what answered
            requests took of cores, as if alone, and of slots) [s]; "in_use" (replicas while a request holds a slot,
            rounded up) and "lasted" (the same, not rounded) [s]; by zone "replicas", as they are billed [s], and
            "zones", 1 where a replica was paid; "starting", "ready", "leaving": the same replicas by what they were,
            dead ones as starting and what is rounded up as leaving [s]; "busy": how much of "ready" was used [s], and
            "by_cpu", 1 where more of the cores than of the slots was.
        amount: float64 (hours,).
        zone, route: where, or of what; empty: it is not of one.
        service: whose, where that is said.
    """

    item: str
    amount: np.ndarray
    zone: str = ""
    route: str = ""
    service: str = ""


@dataclass(frozen=True, eq=False)
class Usage:
    """What a service has used in a replay.

    Attributes:
        rows: by item and hour.
        ranks: float64 (ranks, hours), for how long at least one replica was billed, at least two, ... [s]; what is
            rounded up in the hour in which its life ended.
        paid: how many replicas were paid over time, those of no length left out.
    """

    rows: tuple[Used, ...]
    ranks: np.ndarray
    paid: Steps

    def of(self, item: str) -> Iterator[Used]:
        """The rows of one thing."""
        return (row for row in self.rows if row.item == item)

    def total(self, item: str) -> np.ndarray:
        """All rows of one thing together: float64 (hours,), one hour without any."""
        rows = [row.amount for row in self.of(item)]
        most = max((len(row) for row in rows), default=1)
        return sum((np.pad(row, (0, most - len(row))) for row in rows), np.zeros(most))

    def with_crossed(self, sent: np.ndarray, routes: Sequence[str]) -> Self:
        """The same with what was answered to callers in other regions: float64 (hours, routes) [bytes]."""
        more = tuple(Used("crossed", sent[:, code], route=route) for code, route in enumerate(routes[: sent.shape[1]]))
        return replace(self, rows=self.rows + more)

    def to_dict(self) -> dict[str, Any]:
        """Small enough to be kept."""
        return {
            "rows": [[row.item, row.zone, row.route, packed(row.amount)] for row in self.rows],
            "ranks": packed(self.ranks),
            "paid": [packed(self.paid.at_s), packed(self.paid.count)],
        }

    @classmethod
    def from_dict(cls, document: dict[str, Any]) -> Self:
        """What `to_dict` has written.

        Raises:
            ValueError, KeyError, TypeError: it is no such document.
        """
        at_s, count = (unpacked(one) for one in document["paid"])
        rows = tuple(Used(item, unpacked(amount), zone, route) for item, zone, route, amount in document["rows"])
        return cls(rows, unpacked(document["ranks"]), Steps(at_s, count.astype(np.int64)))


def packed(array: np.ndarray) -> list[Any]:
    """An array of numbers as JSON can say it, exactly: its shape, and its bytes, deflated."""
    flat = np.ascontiguousarray(array, np.float64)
    return [list(flat.shape), base64.b64encode(zlib.compress(flat.tobytes(), 1)).decode()]


def unpacked(document: list[Any]) -> np.ndarray:
    """What `packed` has written.

    Raises:
        ValueError, TypeError: it is no such document.
    """
    shape, text = document
    return np.frombuffer(zlib.decompress(base64.b64decode(text)), np.float64).reshape(shape)


Packed = Annotated[InstanceOf[np.ndarray], BeforeValidator(unpacked), PlainSerializer(packed)]
"""An array in a result: packed in JSON, float64 when it comes back."""
PackedWhole = Annotated[
    InstanceOf[np.ndarray], BeforeValidator(lambda told: unpacked(told).astype(np.int64)), PlainSerializer(packed)
]
"""The same of whole numbers."""


class Counted(Protocol):
    """What is counted of the requests of a run, by hour of the clock since the start and by route."""

    def hourly(self, item: str) -> np.ndarray:
        """Attempts ("requests"), bytes ("egress"), or core- and slot-seconds: float64 (hours, routes)."""


def usages_of(
    name: str, run: ServiceRun, hosting: Hosting, counted: Counted, routes: Sequence[str], slots: int
) -> dict[str, Usage]:
    """What a fleet has used, by the names under which it is paid for: of a mix each entry; see `Hosting.shares`.

    Of a mix requests and bytes are of the first entry, whose balancer it is.
    """
    return {
        share: _usage_of(run, hosting, entry if hosting.mix else None, counted, routes, slots)
        for entry, share in enumerate(hosting.shares(name))
    }


def _usage_of(
    run: ServiceRun, hosting: Hosting, entry: int | None, counted: Counted, routes: Sequence[str], slots: int
) -> Usage:
    """All that a run has used. What is billed by started hours, minimums or granules is rounded up so.

    Args:
        run: what became of the fleet.
        hosting: what it runs on.
        entry: of its mix, None: all replicas.
        counted: what is counted of its requests.
        routes: names of what was asked for.
        slots: of a replica.
    """
    tier, rows = hosting.tier, []
    for item in ("requests", "egress", "cpu", "held"):
        hourly = counted.hourly(item)
        if entry and item in {"requests", "egress"}:
            hourly = np.zeros_like(hourly)
        rows += [Used(item, hourly[:, code], route=route) for code, route in enumerate(routes[: hourly.shape[1]])]
    if tier.billing == "per_request":
        rows += [Used("in_use", run.use * (tier.granularity or 1.0)), Used("lasted", run.lasted)]
    mine = (replica for replica in run.replicas if entry in {None, replica.entry})
    lives = [life for replica in mine if (life := _life(replica, hosting, run.span_s)) is not None]
    replicas = _Replicas(lives, run.span_s, run.start)
    rows += replicas.by_zone()
    rows += replicas.by_stage()
    ready = next(row.amount for row in rows if row.item == "ready")
    share, by_cpu = _share_used(run, hosting, slots)
    rows += [Used("busy", ready * share), Used("by_cpu", by_cpu)]
    paid = [life for life in lives if life.to_s > life.from_s]
    steps = Steps.of([life.from_s for life in paid], [life.to_s for life in paid], run.span_s)
    return Usage(tuple(rows), replicas.ranks(), steps)


def usage_of_edge(counted: Counted, routes: Sequence[str], span_s: float, start: datetime | None) -> Usage:
    """What went over the edge: all requests, hits or not, and the bytes of their answers; it has no replicas.

    Args:
        counted: what is counted of all requests.
        routes: names of what was asked for.
        span_s: the time that the trace covers [s].
        start: the instant 0 as a real time, None: not known.
    """
    hours, rows = len(clock_hours(span_s, start)) - 1, []
    for item in ("requests", "egress", "cpu", "held"):
        hourly = counted.hourly(item)
        amounts = hourly if item in {"requests", "egress"} else np.zeros_like(hourly)
        rows += [Used(item, amounts[:, code], route=route) for code, route in enumerate(routes[: hourly.shape[1]])]
    nothing = ("in_use", "lasted", "starting", "ready", "leaving", "busy", "by_cpu")
    rows += [Used(item, np.zeros(hours)) for item in nothing]
    return Usage(tuple(rows), np.zeros((0, hours)), Steps.of([], [], span_s))


def paid_from(replica: Replica, hosting: Hosting) -> float | None:
    """When the meter of a replica starts [s]; None: never."""
    return replica.ready_s if hosting.tier_of(replica.entry).billed_from == "ready" else replica.bought_s


def paid_to(replica: Replica) -> float:
    """When the meter of a replica stops [s]: with its machine, also where that is found later; infinity: never."""
    gone_s = math.inf if replica.gone_s is None else replica.gone_s
    return gone_s if replica.lost_s is None else min(gone_s, replica.lost_s)


class Life(NamedTuple):
    """When a replica is paid for within the trace [s], and by how much that is rounded up.

    A life that goes on at the end of the trace is not over, and nothing of it is rounded up.
    """

    replica: Replica
    from_s: float
    to_s: float
    extra_s: float
    goes_on: bool


def _life(replica: Replica, hosting: Hosting, span_s: float) -> Life | None:
    start_s = paid_from(replica, hosting)
    if start_s is None or start_s > span_s:
        return None
    end_s = max(start_s, paid_to(replica))
    is_over = end_s <= span_s
    to_s = min(end_s, span_s)
    extra_s = billed_time(to_s - start_s, hosting.tier_of(replica.entry)) - (to_s - start_s) if is_over else 0.0
    return Life(replica, start_s, to_s, extra_s, not is_over)


def billed_time(life_s: float, tier: Tier) -> float:
    """What is billed of a life that is over: started hours, or a minimum [s]."""
    if tier.billing == "per_hour":
        return math.ceil(life_s / 3600 - EPSILON_S) * 3600.0
    return max(life_s, tier.minimum_billed) if tier.billing == "per_second" else life_s


class _Replicas:
    """The paid lives of a fleet, laid over hours of the clock."""

    def __init__(self, lives: list[Life], span_s: float, start: datetime | None) -> None:
        self._lives, self._span_s, self._start = lives, span_s, start
        self._edges_s = clock_hours(span_s, start)
        self._hours = len(self._edges_s) - 1

    def by_zone(self) -> Iterator[Used]:
        """As they are billed, and in which hours there were any."""
        by_zone: dict[str, list[Life]] = {}
        for life in self._lives:
            by_zone.setdefault(life.replica.zone, []).append(life)
        for zone, lives in by_zone.items():
            times = np.array([life[1:4] for life in lives], np.float64)
            from_s, to_s, extra_s = times[:, 0], times[:, 1], times[:, 2]
            lived = seconds_by_hour(from_s, to_s, np.zeros(len(lives)), self._span_s, self._start)
            yield Used("replicas", lived + self._at_ends(to_s, extra_s), zone)
            yield Used("zones", (lived > EPSILON_S).astype(np.float64), zone)

    def by_stage(self) -> Iterator[Used]:
        """The same by what they were meanwhile."""
        spans: dict[str, list[tuple[float, float]]] = {"starting": [], "ready": [], "leaving": []}
        for life in self._lives:
            for stage, from_s, to_s in life.replica.lived():
                begin_s, end_s = max(from_s, life.from_s), min(to_s, life.to_s)
                if end_s > begin_s:
                    spans[_STAGES[stage]].append((begin_s, end_s))
        for stage, times in spans.items():
            edges = np.array(times, np.float64).reshape(-1, 2)
            amount = seconds_by_hour(edges[:, 0], edges[:, 1], np.zeros(len(times)), self._span_s, self._start)
            if stage == "leaving":
                amount = amount + self._at_ends(
                    np.array([life.to_s for life in self._lives]), np.array([life.extra_s for life in self._lives])
                )
            yield Used(stage, amount)

    def _at_ends(self, to_s: np.ndarray, extra_s: np.ndarray) -> np.ndarray:
        """What is rounded up, in the hour in which each life ends: float64 (hours,)."""
        return np.bincount(self._hour_of(to_s), weights=extra_s, minlength=self._hours)

    def _hour_of(self, at_s: np.ndarray) -> np.ndarray:
        hour: np.ndarray = np.clip(np.searchsorted(self._edges_s, at_s, side="right") - 1, 0, self._hours - 1)
        return hour

    def ranks(self) -> np.ndarray:
        """See `Usage.ranks`.

        A life that is rounded up goes on being billed after its end, up to there: at each instant replicas are ranked
        by their number. What goes on at the end of the span does so then.
        """
        lives = self._lives
        paid_to_s = [life.to_s + life.extra_s for life in lives]
        ranks = ranks_by_hour([life.from_s for life in lives], paid_to_s, self._edges_s)
        if any(life.extra_s > 0 for life in lives):
            self._put_ends_where_they_count(ranks, paid_to_s)
        return ranks

    def _put_ends_where_they_count(self, ranks: np.ndarray, paid_to_s: list[float]) -> None:
        """What is rounded up is of the hour in which its life ended, not of those in which it goes on being billed."""
        lives, edges_s = self._lives, self._edges_s.tolist()
        ended_in = self._hour_of(np.array([life.to_s for life in lives])).tolist()
        hour_of = {life.replica.number: hour for life, hour in zip(lives, ended_in, strict=True)}
        alive, rounded = _Sorted(), _Sorted()  # rounded: billed beyond their end
        changes = sorted(
            (
                *((life.from_s, 1, life.replica.number) for life in lives),
                *((life.to_s, 2, life.replica.number) for life in lives if life.extra_s > 0),
                *(
                    (to_s, 3, life.replica.number)
                    for life, to_s in zip(lives, paid_to_s, strict=True)
                    if not life.goes_on
                ),
            )
        )
        for (at_s, kind, number), after in zip(changes, [*changes[1:], None], strict=True):
            if kind == 1:
                alive.add(number)
            elif kind == 2:
                rounded.add(number)
            else:
                alive.remove(number)
                rounded.remove(number)
            if after is None or after[0] <= at_s:
                continue
            for other in rounded.numbers:
                rank = min(bisect.bisect_left(alive.numbers, other), len(ranks) - 1)
                if rank < 0:
                    continue
                ranks[rank, hour_of[other]] += after[0] - at_s
                for hour, lasts_s in _pieces(at_s, min(after[0], self._span_s), edges_s):
                    ranks[rank, hour] -= lasts_s
        np.maximum(ranks, 0.0, out=ranks)


def _pieces(from_s: float, to_s: float, edges_s: list[float]) -> Iterator[tuple[int, float]]:
    """The hours of a stretch, and how much of it is in each [s]."""
    last = len(edges_s) - 2
    hour = max(0, min(bisect.bisect_right(edges_s, from_s) - 1, last))
    while from_s < to_s:
        end_s = to_s if hour == last else min(to_s, edges_s[hour + 1])
        yield hour, end_s - from_s
        from_s, hour = end_s, hour + 1


def ranks_by_hour(from_s: Sequence[float], to_s: Sequence[float], edges_s: np.ndarray) -> np.ndarray:
    """For how long there was at least one of some intervals, at least two, ...: float64 (ranks, hours) [s].

    Args:
        from_s: begin of each interval [s].
        to_s: its end [s].
        edges_s: of the hours [s]; what lies beyond the last is left out.
    """
    hours, span_s = len(edges_s) - 1, float(edges_s[-1])
    steps = Steps.of(np.minimum(from_s, span_s), np.minimum(to_s, span_s), span_s)
    at_s = np.union1d(steps.at_s, edges_s)
    count = steps.count[np.searchsorted(steps.at_s, at_s[:-1], side="right") - 1]
    hour = np.clip(np.searchsorted(edges_s, at_s[:-1], side="right") - 1, 0, hours - 1)
    most = min(int(count.max(initial=0)), max(1, _MOST_RANKS // hours))
    exactly = np.zeros((most + 1, hours))  # for how long there were exactly so many
    np.add.at(exactly, (np.minimum(count, most), hour), np.diff(at_s))
    # Beyond the most ranks that are told apart the last one has all of them.
    beyond = np.zeros(hours)
    np.add.at(beyond, hour, np.maximum(0, count - most) * np.diff(at_s))
    ranks: np.ndarray = np.cumsum(exactly[::-1], axis=0)[::-1][1:].copy()
    if most:
        ranks[-1] += beyond
    return ranks


class _Sorted:
    """Numbers in their order."""

    def __init__(self) -> None:
        self.numbers: list[int] = []

    def add(self, number: int) -> None:
        """One more."""
        bisect.insort(self.numbers, number)

    def remove(self, number: int) -> None:
        """One less, if it is there."""
        place = bisect.bisect_left(self.numbers, number)
        if place < len(self.numbers) and self.numbers[place] == number:
            del self.numbers[place]


def seconds_by_hour(
    from_s: np.ndarray, to_s: np.ndarray, extra_s: np.ndarray, span_s: float, start: datetime | None
) -> np.ndarray:
    """Seconds of some intervals in each hour of the clock, and more of them at their ends: float64 (hours,)."""
    edges_s = clock_hours(span_s, start)
    if len(from_s) * len(edges_s) <= _MANY:
        up_to = np.clip(edges_s[:, None] - from_s, 0.0, to_s - from_s).sum(axis=1)
    else:
        up_to = Steps.of(from_s, to_s, span_s).area(edges_s)
    hour = np.clip(np.searchsorted(edges_s, to_s, side="right") - 1, 0, len(edges_s) - 2)
    seconds: np.ndarray = np.diff(up_to) + np.bincount(hour, weights=extra_s, minlength=len(edges_s) - 1)
    return seconds


def _share_used(run: ServiceRun, hosting: Hosting, slots: int) -> tuple[np.ndarray, np.ndarray]:
    """Of the cores or the slots of ready and draining replicas the share in use, the greater, and 1 where of cores."""
    edges_s = clock_hours(run.span_s, run.start)
    times = [time for replica in run.replicas for time in replica.times("ready", "draining")]
    there_s = np.diff(Steps.of([from_s for from_s, _ in times], [to_s for _, to_s in times], run.span_s).area(edges_s))
    used = np.diff(np.stack([np.interp(edges_s, run.edges_s, run.integrals[:, column]) for column in (0, 1)]), axis=1)
    cores_s, slots_s = used[0] / hosting.cores, used[1] / slots
    most = np.maximum(cores_s, slots_s)
    share: np.ndarray = np.divide(most, there_s, out=np.zeros(len(there_s)), where=there_s > EPSILON_S)
    return np.minimum(1.0, share), (cores_s >= slots_s).astype(np.float64)


def most_at_once(lives: Iterable[tuple[float, float]]) -> int:
    """The greatest number of lives at one time; one that ends when another begins does not overlap it."""
    pairs = list(lives)
    from_s, to_s = [begin for begin, _ in pairs], [end for _, end in pairs]
    return Steps.of(from_s, to_s, max(to_s, default=0.0)).extremes()[1]


def is_by_time(hosting: Hosting) -> bool:
    """Whether replicas are paid for by time, all of them."""
    return all(one.tier.billing in BY_TIME for one in hosting.stocks)
