"""What a run has used, before it is money: rows by item, hour and zone."""

from __future__ import annotations

import math
from collections.abc import Iterator
from datetime import datetime
from typing import Final, NamedTuple, Protocol

import numpy as np

from libramen.base.steps import Steps
from libramen.base.times import EPSILON_S
from libramen.bill.month import clock_hours
from libramen.engine.record import ServiceRun
from libramen.engine.replica import Replica
from libramen.study.plan import Hosting
from libramen.study.service import Tier

_MANY: Final = 4_000_000


class Used(NamedTuple):
    """So much of one thing, in each hour of the clock since the start.

    Attributes:
        item: "replicas" [s], "in_use" (replicas while a request holds a slot) [s], "requests", "egress" [bytes]; or
            "replicas_at_once", the greatest number of them, which is not of an hour.
        amount: float64 (hours,); of "replicas_at_once" (1,).
        zone: where, empty: it is not of a zone.
        service: whose, where that is said.
    """

    item: str
    amount: np.ndarray
    zone: str = ""
    service: str = ""


class Counted(Protocol):
    """What is counted of the requests of a run, by hour of the clock since the start."""

    def hourly_bytes(self) -> np.ndarray:
        """Bytes sent out: float64 (hours,)."""

    def hourly_attempts(self) -> np.ndarray:
        """Attempts that the balancer got: float64 (hours,)."""


def usage_of(run: ServiceRun, hosting: Hosting, counted: Counted) -> tuple[Used, ...]:
    """All that a run has used. What is billed by started hours, minimums or granules is rounded up so."""
    tier = hosting.tier
    rows = [Used("egress", counted.hourly_bytes()), Used("requests", counted.hourly_attempts())]
    if tier.billing == "per_request":
        rows.append(Used("in_use", run.use * (tier.granularity or 1.0)))
    elif tier.billing == "per_month":
        lives = [_life(replica, hosting, run.span_s) for replica in run.replicas]
        rows.append(Used("replicas_at_once", np.array([most_at_once([life for life in lives if life is not None])])))
    else:
        rows += _replicas(run, hosting)
    return tuple(rows)


def paid_from(replica: Replica, hosting: Hosting) -> float | None:
    """When the meter of a replica starts [s]; None: never."""
    return replica.ready_s if hosting.tier.billed_from == "ready" else replica.bought_s


def paid_to(replica: Replica) -> float:
    """When the meter of a replica stops [s]: with its machine, also where that is found later; infinity: never."""
    gone_s = math.inf if replica.gone_s is None else replica.gone_s
    return gone_s if replica.lost_s is None else min(gone_s, replica.lost_s)


def _life(replica: Replica, hosting: Hosting, span_s: float) -> tuple[float, float] | None:
    """From when to when a replica is paid for within the trace [s]; None: never."""
    start_s = paid_from(replica, hosting)
    if start_s is None or start_s >= span_s:
        return None
    return start_s, min(paid_to(replica), span_s)


def _replicas(run: ServiceRun, hosting: Hosting) -> Iterator[Used]:
    by_zone: dict[str, list[tuple[float, float, bool]]] = {}
    for replica in run.replicas:
        life = _life(replica, hosting, run.span_s)
        if life is not None:
            # A life that goes on at the end of the trace is not over, and nothing of it is rounded up.
            is_over = paid_to(replica) <= run.span_s
            by_zone.setdefault(replica.zone, []).append((*life, is_over))
    for zone, lives in by_zone.items():
        from_s, to_s, over = (np.array(column, np.float64) for column in zip(*lives, strict=True))
        extra_s = np.where(over > 0, billed_time(to_s - from_s, hosting.tier) - (to_s - from_s), 0.0)
        yield Used("replicas", seconds_by_hour(from_s, to_s, extra_s, run.span_s, run.start), zone)


def billed_time(life_s: np.ndarray, tier: Tier) -> np.ndarray:
    """What is billed of lives that are over: started hours, or a minimum; float64 (k,) [s]."""
    if tier.billing == "per_hour":
        started: np.ndarray = np.ceil(life_s / 3600 - EPSILON_S) * 3600
        return started
    billed: np.ndarray = np.maximum(life_s, tier.minimum_billed)
    return billed


def seconds_by_hour(
    from_s: np.ndarray, to_s: np.ndarray, extra_s: np.ndarray, span_s: float, start: datetime | None
) -> np.ndarray:
    """Seconds of some intervals in each hour of the clock, and more of them at their ends: float64 (hours,)."""
    edges_s = clock_hours(span_s, start)
    if len(from_s) * len(edges_s) <= _MANY:
        up_to = np.clip(edges_s[:, None] - from_s, 0.0, to_s - from_s).sum(axis=1)
    else:
        up_to = Steps.of(from_s, to_s, span_s).area(edges_s)
    hour = np.searchsorted(edges_s, np.minimum(to_s, span_s - 1e-6), side="right") - 1
    seconds: np.ndarray = np.diff(up_to) + np.bincount(hour, weights=extra_s, minlength=len(edges_s) - 1)
    return seconds


def most_at_once(lives: list[tuple[float, float]]) -> int:
    """The greatest number of lives at one time; one that ends when another begins does not overlap it."""
    from_s, to_s = [begin for begin, _ in lives], [end for _, end in lives]
    return Steps.of(from_s, to_s, max(to_s, default=0.0)).extremes()[1]
