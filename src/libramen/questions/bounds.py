"""What is known of a plan before it is replayed, or while it is: bounds that hold whatever else happens."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from decimal import Decimal
from fractions import Fraction
from functools import cached_property
from types import MappingProxyType
from typing import Any, Final

import numpy as np

from libramen.bill.lines import total
from libramen.bill.month import HOURS, Month, clock_hours
from libramen.bill.prices import lines_of
from libramen.bill.usage import most_at_once, paid_from, paid_to, seconds_by_hour
from libramen.engine.border.records import RESULT
from libramen.engine.control.fleet import Fleet
from libramen.runs.cases import Case
from libramen.study.objectives import Goal, Objective
from libramen.study.plan import Hosting, Plan
from libramen.trace.trace import Trace

NOTHING: Final[Mapping[str, Fraction]] = MappingProxyType({})
CENT: Final = Decimal("0.01")
SETTLED_S: Final = 30.0
"""So long after its arrival a request has nearly always ended."""
_WINDOW_S: Final = 60.0


# -- money -------------------------------------------------------------------------------------------


def fewest(hosting: Hosting) -> int:
    """How many replicas are paid for at any time at the least.

    As many as its rule allows, or as a release leaves. Where something may break or not be sold it may be fewer, so
    none are counted then, and neither is use.
    """
    may_die = hosting.may_break or (hosting.size.memory is not None and bool(hosting.rollouts))
    if (
        may_die
        or hosting.tier.order_fails
        or hosting.tier.billed_from == "ready"
        or hosting.tier.billing == "per_request"
    ):
        return 0
    return _fewest_planned(hosting)


def _fewest_planned(hosting: Hosting) -> int:
    """How many replicas there are at any time at the least, if nothing breaks."""
    low = hosting.limits[0]
    return min([low, *(rollout.least_ready(low) for rollout in hosting.rollouts)])


def least_cost(plan: Plan, used: Mapping[str, Fraction] = NOTHING) -> Decimal:
    """What a plan costs a month at the least, known before any replay.

    Args:
        plan: it.
        used: what is used at the least, see `LeastUse`.
    """
    return sum((_least_of(part, fewest(part), used) for part in plan.services.values()), Decimal(0))


def likely_cost(plan: Plan) -> Decimal:
    """What a plan costs a month at the least if nothing breaks, and everything is sold: no bound, but a good guess."""
    return sum((_least_of(part, _fewest_planned(part), NOTHING) for part in plan.services.values()), Decimal(0))


def _least_of(hosting: Hosting, replicas: int, used: Mapping[str, Fraction]) -> Decimal:
    standing = {"replicas": Fraction(HOURS * 3600 * replicas), "replicas_at_once": Fraction(replicas)}
    return max(Decimal(0), total(lines_of(hosting, {**used, **standing})) - CENT)


class LeastUse:
    """The requests and the bytes of answers that a month is billed for at the least.

    Objectives allow some requests to fail; those are taken to be the ones that would cost most. A plan of which more
    fail misses an objective, and cannot win.

    Args:
        trace: what would be replayed.
    """

    def __init__(self, trace: Trace) -> None:
        self._trace = trace
        self._known: dict[tuple[int, int], dict[str, Fraction]] = {}

    def of(self, case: Case) -> Mapping[str, Fraction]:
        """By item, as in `bill.usage.Used`. Of several services nothing is known: what one is sent, another calls."""
        if case.system.only is None:
            return NOTHING
        trace = self._trace
        first = int(np.searchsorted(trace.at_s, case.settle_s))  # those before may all fail
        may_fail = Budgets(case, len(trace) - first).may_fail
        if (first, may_fail) not in self._known:
            columns = {"requests": self._weights[first:]}
            if trace.bytes_out is not None:
                columns["egress"] = self._weights[first:] * trace.bytes_out[first:]
            self._known[first, may_fail] = {
                item: Fraction(float(_without_greatest(column, may_fail))) for item, column in columns.items()
            }
        return self._known[first, may_fail]

    @cached_property
    def _weights(self) -> np.ndarray:
        """For how many requests of a month each request of the trace stands: float64 (n,)."""
        trace = self._trace
        edges_s = clock_hours(trace.span_s, trace.start)
        hour = np.searchsorted(edges_s, trace.at_s, side="right") - 1
        of_one = Month(trace.span_s, trace.start).of_one()
        weights: np.ndarray = of_one[np.minimum(hour, len(of_one) - 1)]
        return weights


def _without_greatest(amount: np.ndarray, n: int) -> float:
    """The sum of all but the n greatest."""
    if n >= len(amount):
        return 0.0
    return math.fsum(np.partition(amount, len(amount) - n)[: len(amount) - n] if n else amount)


class Spent:
    """What a replay under way costs a month at the least: what is paid by now, and the fewest replicas from now on.

    Args:
        trace: what is replayed.
        hosted: what each service runs on.
        used: what is used at the least in all of the month, see `LeastUse`.
    """

    def __init__(self, trace: Trace, hosted: list[Hosting], used: Mapping[str, Fraction] = NOTHING) -> None:
        self._least_use = used
        self._span_s, self._start, self._hosted = trace.span_s, trace.start, hosted
        self._month = Month(trace.span_s, trace.start)
        self._least_weight = float(self._month.of_one().min())  # of an hour of the trace, in the month

    def month(self, now_s: float, fleets: list[Fleet]) -> Decimal:
        """The money, at `now_s`."""
        return sum(
            (self._of(hosting, now_s, fleet) for hosting, fleet in zip(self._hosted, fleets, strict=True)), Decimal(0)
        )

    def _of(self, hosting: Hosting, now_s: float, fleet: Fleet) -> Decimal:
        lives = []
        for replica in fleet.replicas:
            begun_s = paid_from(replica, hosting)
            if begun_s is not None and begun_s < now_s:
                lives.append((begun_s, max(begun_s, min(paid_to(replica), now_s))))
        if hosting.tier.billing == "per_month":
            used = {"replicas_at_once": Fraction(max(fewest(hosting), most_at_once(lives)))}
        elif hosting.tier.billing == "per_request":
            in_use_s = fleet.used(now_s) * (hosting.tier.granularity or 1.0)
            used = {"in_use": Fraction(self._least_weight * in_use_s)}
        else:
            lives += [(now_s, self._span_s)] * fewest(hosting)
            from_s, to_s = (np.array(column, np.float64) for column in zip(*lives, strict=True)) if lives else (
                np.zeros(0), np.zeros(0)
            )  # fmt: skip
            hours = seconds_by_hour(from_s, to_s, np.zeros(len(from_s)), self._span_s, self._start)
            used = {"replicas": self._month.of_hours(hours)}
        return max(Decimal(0), total(lines_of(hosting, {**self._least_use, **used})) - CENT)


# -- requests ----------------------------------------------------------------------------------------


def about_all(goal: Goal | Objective) -> bool:
    """Whether an objective is about all requests, and missed for good when enough of them failed or were late."""
    return "." not in goal.name and (goal.name == "availability" or goal.share is not None)


class Budgets:
    """How many requests may fail, or be late, before an objective on all of them is missed for good.

    Args:
        case: its objectives.
        n: requests that are measured.
    """

    def __init__(self, case: Case, n: int) -> None:
        self.failed = float(n)
        self.late: list[tuple[float, float]] = []
        """A limit [s], and how many may be beyond it, failed ones too."""
        for goal in case.objectives.goals():
            if not about_all(goal):
                continue
            if goal.share is None:
                self.failed = min(self.failed, n * (1.0 - float(goal.wanted)))
            else:
                self.late.append((goal.limit_s, n * (1.0 - goal.share)))

    @property
    def may_fail(self) -> int:
        """How many may fail: each of them is late, too."""
        return math.floor(min([self.failed, *(most for _, most in self.late)]) + 1e-6)


class Overload:
    """How many requests must be late because a fleet that stays as it is cannot do their CPU work in time.

    In each minute the work of the requests that arrive, less what the cores can do until the last of them would be
    late, is left over: at least so many requests are late as the most laborious ones make up that much. Held against
    the budget of late requests it rules out a plan without a replay.

    Args:
        trace: what would be replayed.
    """

    def __init__(self, trace: Trace) -> None:
        self._trace = trace

    @cached_property
    def _minutes(self) -> list[np.ndarray]:
        """Of each minute the work of its requests added up, the most laborious first [core-seconds]."""
        trace = self._trace
        order = np.lexsort((-trace.cpu_s, trace.at_s // _WINDOW_S))
        minute = (trace.at_s // _WINDOW_S).astype(np.int64)
        edges = np.flatnonzero(np.diff(minute)) + 1
        return [np.cumsum(work) for work in np.split(trace.cpu_s[order], edges)] if len(minute) else []

    def rules_out(self, case: Case) -> bool:
        """Whether too many requests must be late, whatever happens."""
        only = case.system.only
        if only is None or case.settle_s > 0:
            return False
        hosting, budgets = only.hosting, Budgets(case, len(self._trace))
        # Of a fleet that changes, replicas that drain go on working beside the new ones.
        if hosting.scaling.decides or hosting.rollouts or hosting.may_break or hosting.counts:
            return False
        speed = hosting.replicas_used * hosting.cores * hosting.size.speed
        return any(self._late(speed, limit_s) > most + 1e-6 for limit_s, most in budgets.late)

    def _late(self, speed: float, limit_s: float) -> int:
        """The fewest that are late with so many core-seconds of work done in a second."""
        late = 0
        for work_s in self._minutes:
            excess_s = float(work_s[-1]) - speed * (_WINDOW_S + limit_s) * (1 + 1e-9)
            if excess_s > 0:
                late += int(np.searchsorted(work_s, excess_s)) + 1
        return late


class Stopped(Exception):  # noqa: N818  (it is no error)
    """Nothing can save a replay any more.

    Attributes:
        peak: the most replicas that were ready or on their way at once so far.
    """

    def __init__(self, peak: int = 0) -> None:
        super().__init__(peak)
        self.peak = peak


class Watch:
    """Looks now and then whether a replay under way can still meet the objectives on all requests, and its cost.

    What has failed stays failed, what was late stays late, and what is paid for stays paid: when that is too much, the
    rest changes nothing.

    Args:
        trace: what is replayed.
        case: against what.
        most: what a month may cost, None: whatever it costs.
        used: what is used at the least, see `LeastUse`.
    """

    def __init__(
        self, trace: Trace, case: Case, most: Decimal | None = None, used: Mapping[str, Fraction] = NOTHING
    ) -> None:
        self.records: np.ndarray = np.zeros(len(trace), RESULT)
        self._at_s = trace.at_s
        self._seen = int(np.searchsorted(trace.at_s, case.settle_s))  # up to here they are counted
        self._failed, self._looks = 0, 0
        self._budgets = Budgets(case, len(trace) - self._seen)
        self._beyond = [0] * len(self._budgets.late)
        self._spent = Spent(trace, [one.hosting for one in case.system.hosted], used)
        self._most = math.inf if most is None else most

    def look(self, now_s: float, fleets: list[Fleet]) -> None:
        """Stop the replay if nothing can save it.

        Each request is looked at once, soon after it has arrived; one that has not ended by then is not counted.
        """
        self._looks += 1
        if self._looks % 5 == 0 and self._most < math.inf and self._spent.month(now_s, fleets) > self._most:
            raise Stopped(_peak(fleets))
        last = int(np.searchsorted(self._at_s, now_s - SETTLED_S))
        if last <= self._seen:
            return
        some = self.records[self._seen : last]
        self._seen = last
        failed: Any = some["ending"] != 0
        self._failed += int(np.count_nonzero(failed))
        if self._failed > self._budgets.failed + 1e-6:
            raise Stopped(_peak(fleets))
        for place, (limit_s, most) in enumerate(self._budgets.late):
            self._beyond[place] += int(np.count_nonzero(failed | (some["latency_s"] > limit_s + 1e-9)))
            if self._beyond[place] > most + 1e-6:
                raise Stopped(_peak(fleets))


def _peak(fleets: Iterable[Fleet]) -> int:
    return sum(fleet.peak for fleet in fleets)
