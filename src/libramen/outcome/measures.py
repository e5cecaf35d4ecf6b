"""What a run comes to: latencies, availability, utilisation, replicas over time. Arrays only."""

from __future__ import annotations

import math
from dataclasses import dataclass
from datetime import datetime
from typing import Final, NamedTuple

import numpy as np

from libramen.base.ranks import PERCENTILES
from libramen.base.steps import Steps
from libramen.base.times import EPSILON_S
from libramen.engine.record import ServiceRun
from libramen.engine.replica import Replica, Stage
from libramen.study.hosting import Hosting
from libramen.study.objectives import Goal, Objectives

LATENCIES: Final = ("mean", *PERCENTILES, "max")
TIME_PARTS: Final = ("retried", "queued", "cpu", "slowed", "connecting", "called", "waiting", "overhead")


class Scope(NamedTuple):
    """What figures are about: a route, a window of the objectives, the visits of a service, an area; else all.

    Attributes:
        route, service, area: names.
        window: a number, from 0.
    """

    route: str | None = None
    window: int | None = None
    service: str | None = None
    area: str | None = None

    @classmethod
    def of(cls, goal: Goal) -> Scope:
        """What an objective is about."""
        return cls(goal.route, goal.window, goal.service, goal.area)


ALL: Final = Scope()


@dataclass(frozen=True)
class Asked:
    """What is asked of a run, and so must be counted.

    Attributes:
        goals: the objectives.
        failed_share: a minute has failed if more than this share of its requests has.
        edges_s: of each window of the objectives, when it is: from, to, from, to, ... [s], the ends left out.
    """

    goals: tuple[Goal, ...] = ()
    failed_share: float = 0.01
    edges_s: tuple[np.ndarray, ...] = ()

    @classmethod
    def of(cls, objectives: Objectives, start: datetime | None, span_s: float) -> Asked:
        """What a study asks of a trace."""
        edges_s = tuple(
            np.array(window.edges_s(start, span_s), np.float64) for window in objectives.windows if start is not None
        )
        return cls(tuple(objectives.goals()), objectives.minute_fails_above, edges_s)

    def limits(self, scope: Scope = ALL) -> list[Goal]:
        """The limits on single requests among the goals that are about a scope."""
        return [goal for goal in self.goals if goal.share is not None and Scope.of(goal) == scope]

    def inside(self, at_s: np.ndarray, window: int) -> np.ndarray:
        """Which of some arrivals are in a window: float64 (n,) [s] -> bool (n,)."""
        inside: np.ndarray = np.searchsorted(self.edges_s[window], at_s, side="right") % 2 == 1
        return inside

    @property
    def telling(self) -> Goal | None:
        """The limit by which the hours of a run are told apart: the first on all requests, None: there is none."""
        return next(iter(self.limits()), None)


class Within(NamedTuple):
    """How many requests were answered ok within a limit, and in how many of the minutes with traffic enough were."""

    requests: int
    minutes_met: int
    minutes: int


@dataclass(frozen=True)
class Hour:
    """One hour of the clock.

    Attributes:
        at_s: its begin [s from the start]; of the first perhaps before it.
        requests, ok: how many arrived, and how many of them were answered ok.
        within: how many of them within the limit that tells the hours apart; without one the same as `ok`.
    """

    at_s: float
    requests: int
    ok: int
    within: int


def worst_hour(into_hour_s: float, requests: np.ndarray, ok: np.ndarray, within: np.ndarray) -> Hour | None:
    """The hour with the most requests that were not answered within the limit, the first of equals."""
    if not requests.sum():
        return None
    k = int(np.argmax(np.where(requests > 0, requests - within, -1)))
    return Hour(k * 3600.0 - into_hour_s, int(requests[k]), int(ok[k]), int(within[k]))


def minutes_within(arrivals: np.ndarray, within: np.ndarray, share: float) -> tuple[int, int]:
    """In how many of the minutes with traffic at least that share was within a limit, and how many there are."""
    traffic = arrivals > 0
    met = within[traffic] >= share * arrivals[traffic] - EPSILON_S
    return int(np.count_nonzero(met)), int(np.count_nonzero(traffic))


@dataclass(frozen=True)
class Measures:
    """The figures of some requests: those of a run, or of one route of it.

    Attributes:
        n_requests, attempts: how many.
        endings: requests by ending; they add up.
        latency_s: mean, percentiles and max over ok requests [s], None without any.
        answered_s: within what time a share (p50, ...) of all requests was answered ok, None: so many never were [s].
        within: what was within the limits of the objectives, by name of the objective.
        availability: share of ok requests; `availability_minutes`: share of the minutes with traffic in
            which few enough failed.
        time_s: where the time of the ok requests went, added up [s]: `retried` (failed attempts and the
            pauses after them), `queued` (without a slot), `cpu` (its work, as if alone on a warm replica),
            `slowed` (by others on the CPU, turns, warm-up, an empty bank), `connecting` (waiting for connections to
            other services), `called` (in calls), `waiting`, `overhead`. The sum is that of their latencies.
        bytes_out: of the answers.
    """

    n_requests: int
    attempts: int
    endings: dict[str, int]
    latency_s: dict[str, float | None]
    answered_s: dict[str, float | None]
    within: dict[str, Within]
    availability: float | None
    availability_minutes: float | None
    time_s: dict[str, float]
    bytes_out: float


@dataclass(frozen=True)
class Failures:
    """When requests failed: arrivals of the first and the last, and the start of the worst minute [s]."""

    first_s: float
    last_s: float
    worst_minute_s: float


def hides_failures(available: float | None) -> bool:
    """Whether more than 1 % of requests failed, so that percentiles of the answered ones say too little."""
    return available is not None and available < 0.99


def availability_minutes(arrivals: np.ndarray, failed: np.ndarray, failed_share: float) -> float | None:
    """Share of the minutes with traffic in which at most `failed_share` of the requests failed."""
    traffic = arrivals > 0
    if not traffic.any():
        return None
    return float(np.mean(failed[traffic] <= failed_share * arrivals[traffic] + EPSILON_S))


def stage_steps(run: ServiceRun, *stages: Stage) -> Steps:
    """Replicas that were in one of these stages over the time of the trace."""
    times = [time for replica in run.replicas for time in replica.times(*stages)]
    return Steps.of([from_s for from_s, _ in times], [to_s for _, to_s in times], run.span_s)


def paid_time(replica: Replica, hosting: Hosting) -> tuple[float, float]:
    """From when to when a replica is paid for [s]; infinity: never, for ever."""
    from libramen.bill.usage import paid_from, paid_to

    start_s = paid_from(replica, hosting)
    return math.inf if start_s is None else start_s, paid_to(replica)


def paid_steps(run: ServiceRun, hosting: Hosting) -> Steps:
    """Replicas paid for over the time of the trace."""
    lives = [paid_time(replica, hosting) for replica in run.replicas]
    return Steps.of([start for start, _ in lives], [end for _, end in lives], run.span_s)


def cold_starts(run: ServiceRun) -> int:
    """Replicas that were ordered and became ready within the trace; the first fleet left out."""
    return sum(
        replica.why not in {"start", "list"} and replica.ready_s is not None and replica.ready_s < run.span_s
        for replica in run.replicas
    )


def utilisation(run: ServiceRun, cores: float, reserved: float) -> float | None:
    """Cores in use over cores there, while replicas were ready or draining; of each some are `reserved`, and in use."""
    there_s = float(stage_steps(run, "ready", "draining").mean(np.array([0.0, run.span_s]))[0]) * run.span_s
    return min(1.0, (float(run.integrals[-1, 0]) / there_s + reserved) / cores) if there_s > 0 else None
