"""What is known of a plan before it is replayed, or while it is: bounds that hold whatever else happens."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping
from decimal import Decimal
from fractions import Fraction
from types import MappingProxyType
from typing import Any, Final, NamedTuple

import numpy as np

from libramen.bill.account import least_of
from libramen.bill.month import Weights, clock_hours, month_of
from libramen.bill.usage import most_at_once, paid_from, paid_to, ranks_by_hour
from libramen.bill.use import Known
from libramen.engine.border.records import RESULT
from libramen.engine.control.fleet import Fleet
from libramen.prices.lines import HOURS
from libramen.runs.cases import Case
from libramen.study.hosting import Hosting
from libramen.study.objectives import Goal, Objective
from libramen.study.system import Hosted
from libramen.trace.trace import Trace

UsedAtLeast = Mapping[str, Mapping[str, Fraction]]
"""By service and item, as of `Use`."""
NOTHING: Final[UsedAtLeast] = MappingProxyType({})
_SLACK: Final = 1e-8
"""Sums of weights are floats."""
SETTLED_S: Final = 30.0
"""So long after its arrival a request has nearly always ended."""
_WINDOW_S: Final = 60.0
_Minutes = list[tuple[float, float, np.ndarray]]


# -- money -------------------------------------------------------------------------------------------


def fewest(hosting: Hosting, *, is_limited: bool = False) -> int:
    """How many replicas are paid for at any time at the least.

    As many as its rule allows, or as a release leaves. Where something may break or not be sold it may be fewer, so
    none are counted then, and neither is use.

    Args:
        hosting: what a service runs on.
        is_limited: whether the account has limits, so that a fleet below its floor may stay there.
    """
    may_die = hosting.may_break or (hosting.size.memory is not None and bool(hosting.rollouts))
    # While a mixed fleet is renewed its entries may be short of each other.
    may_die |= hosting.part_of is not None and bool(hosting.rollouts)
    if may_die or hosting.tier.order_fails or hosting.tier.billed_from == "ready":
        return 0
    return _fewest_planned(hosting, is_limited=is_limited)


def _fewest_planned(hosting: Hosting, *, is_limited: bool = False) -> int:
    """How many replicas there are at any time at the least, if nothing breaks."""
    low = hosting.limits[0]
    least = min([low, *(rollout.least_ready(low) for rollout in hosting.rollouts)])
    if not hosting.rollouts:
        least += hosting.standing_by  # a hand-over renews them all at once
    return min(least, hosting.replicas_used) if is_limited else least


def least_cost(case: Case, used: UsedAtLeast = NOTHING) -> Decimal:
    """What a plan costs a month at the least, known before any replay.

    Args:
        case: the plan, and what holds for all.
        used: what is used at the least, see `LeastUse`.
    """
    limited = case.terms.account.is_limited
    standing = {name: fewest(one, is_limited=limited) for name, one in case.system.billed.items()}
    return least_of(case.system.billed, _standing(standing, used), case.terms)


def likely_cost(case: Case) -> Decimal:
    """What a plan costs a month at the least if nothing breaks, and everything is sold: no bound, but a good guess."""
    standing = {name: _fewest_planned(one) for name, one in case.system.billed.items()}
    return least_of(case.system.billed, _standing(standing, NOTHING), case.terms)


def _standing(replicas: Mapping[str, int], used: UsedAtLeast) -> Known:
    """So many replicas all month, in a zone at the least."""
    month_s = Fraction(HOURS * 3600)
    return Known(
        used,
        {name: (month_s,) * n for name, n in replicas.items()},
        replicas,
        {name: Fraction(HOURS * min(1, n)) for name, n in replicas.items()},
    )


class HourWeights:
    """How the hours of a trace stand in the month of a case, in all replays together.

    Args:
        trace: what would be replayed.
        case: against what.
    """

    def __init__(self, trace: Trace, case: Case) -> None:
        month = month_of(trace.span_s, trace.start, case.terms.month, trace.gaps)
        self.once = case.replays_of(trace) > 1
        self.weights = month.split if self.once else (month.weights,)
        self.of_hour: np.ndarray = sum((one.floats for one in self.weights), np.zeros(len(month.length_s)))
        self._into_hour_s = trace.into_hour_s

    def at(self, at_s: np.ndarray, of_hour: np.ndarray | None = None) -> np.ndarray:
        """How often what happens at some instants does in the month: float64 (n,) [s] -> float64 (n,)."""
        weights = self.of_hour if of_hour is None else of_hour
        hour = ((at_s + self._into_hour_s) // 3600).astype(np.int64)
        found: np.ndarray = weights[np.minimum(hour, len(weights) - 1)]
        return found


class Weighed:
    """The weights of a trace's hours and the budgets of its requests, kept for cases that share them.

    Args:
        trace: what would be replayed.
    """

    def __init__(self, trace: Trace) -> None:
        self.trace = trace
        self._known: dict[tuple[int, int, float, bool], tuple[Case, HourWeights, Budgets]] = {}

    def of(self, case: Case) -> tuple[HourWeights, Budgets]:
        """Of a case: of its month, its objectives, what it leaves out, and whether events happen once."""
        key = id(case.terms.month), id(case.objectives), case.settle_s, case.replays_of(self.trace) > 1
        if key not in self._known:  # the case is kept, so that nothing else gets the numbers of its tables
            hours = HourWeights(self.trace, case)
            self._known[key] = case, hours, Budgets(self.trace, case, hours)
        return self._known[key][1:]


def _known_as(case: Case, trace: Trace) -> tuple[Any, ...]:
    """What `_entries` depends on."""
    system = case.system
    if len(system.services) < len(system.hosted) or system.edge is not None:
        return ()
    return system.names, tuple(system.servers_of(trace.routes).tolist())


def _entries(case: Case, trace: Trace) -> list[tuple[Hosted, np.ndarray]]:
    """The fleets at which requests arrive, and which requests; none behind an edge, or where a service has several.

    An answered request has been there once at least, and its CPU work is done there.
    """
    if not _known_as(case, trace):
        return []
    server = case.system.servers_of(trace.routes)[trace.route_codes]
    return [(case.system.hosted[number], np.flatnonzero(server == number)) for number in np.unique(server).tolist()]


class LeastUse:
    """The requests and the bytes of answers that a month is billed for at the least.

    Objectives allow some requests to fail; those are taken to be the ones that would cost most. A plan of which more
    fail misses an objective, and cannot win.

    Args:
        weighed: what would be replayed, and how it counts.
    """

    def __init__(self, weighed: Weighed) -> None:
        self._weighed, self._trace = weighed, weighed.trace
        self._known: dict[tuple[Any, ...], UsedAtLeast] = {}

    def of(self, case: Case) -> UsedAtLeast:
        """By service and item, as of `Use`: of those at which requests arrive; see `_entries`."""
        hour_weights, budgets = self._weighed.of(case)
        key = _known_as(case, self._trace), case.settle_s, budgets.may_fail, hour_weights.once
        if key not in self._known:
            self._known[key] = {
                hosted.name: self._least(there[self._trace.at_s[there] >= case.settle_s], hour_weights, budgets)
                for hosted, there in _entries(case, self._trace)
            }
        return self._known[key]

    def _least(self, there: np.ndarray, hour_weights: HourWeights, budgets: Budgets) -> dict[str, Fraction]:
        """Of requests that are measured; those before may all fail."""
        weight = hour_weights.at(self._trace.at_s[there])
        found = {"requests": _without_greatest(np.ones(len(weight)), weight, budgets.may_fail)}
        if self._trace.bytes_out is not None:
            found["egress"] = _without_greatest(self._trace.bytes_out[there], weight, budgets.may_fail)
        return {item: Fraction(amount) for item, amount in found.items()}


def _without_greatest(amount: np.ndarray, weight: np.ndarray, left_out: float) -> float:
    """The sum of amounts times weights, but for the greatest amounts, as many as weigh so much together."""
    order = np.argsort(-amount, kind="stable")
    up_to = np.cumsum(weight[order])
    kept = np.clip(up_to - left_out, 0.0, weight[order])
    return max(0.0, math.fsum(kept * amount[order]) * (1 - _SLACK))


class Spent:
    """What a month costs at the least while its replays are under way: what is paid by now, and the fewest from now on.

    Args:
        trace: what is replayed.
        case: against what.
        used: what is used at the least in all of the month, see `LeastUse`.
    """

    def __init__(self, trace: Trace, case: Case, used: UsedAtLeast = NOTHING) -> None:
        self._least_use, self._case = used, case
        self._edges_s, self._span_s = clock_hours(trace.span_s, trace.start), trace.span_s
        self._weights = HourWeights(trace, case).weights
        limited = case.terms.account.is_limited
        self._fewest = {name: fewest(one, is_limited=limited) for name, one in case.system.billed.items()}
        self._of_part: dict[int, dict[str, _Paid]] = {}

    def month(self, part: int, now_s: float, fleets: list[Fleet]) -> Decimal:
        """The money, at `now_s` of one of the replays."""
        services = self._case.system.billed
        self._of_part[part] = {
            name: self._paid(self._weights[part], name, hosted.hosting, now_s, fleet, entry)
            for hosted, fleet in zip(self._case.system.hosted, fleets, strict=True)
            for entry, name in enumerate(hosted.hosting.shares(hosted.name))
        }
        standing = _standing(self._fewest, {})
        used = {name: dict(self._least_use.get(name, {})) for name in services}
        ranks, at_once = {}, dict(standing.at_once)
        for name in services:
            rows: list[list[Fraction]] = []
            for number, weights in enumerate(self._weights):
                paid = self._of_part.get(number, {}).get(name)
                if paid is None:
                    whole_s = weights.of_hours(np.diff(self._edges_s))
                    rows.append([whole_s] * self._fewest[name])
                else:
                    rows.append(paid.ranks_s)
                    at_once[name] = max(at_once[name], paid.at_once)
                    used[name]["in_use"] = used[name].get("in_use", Fraction(0)) + paid.in_use_s
            ranks[name] = tuple(
                sum((row[rank] for row in rows if rank < len(row)), Fraction(0)) for rank in range(max(map(len, rows)))
            )
        return least_of(services, Known(used, ranks, at_once, standing.zones), self._case.terms)

    def _paid(self, weights: Weights, name: str, hosting: Hosting, now_s: float, fleet: Fleet, entry: int) -> _Paid:
        lives = []
        for replica in (one for one in fleet.replicas if one.entry == entry):
            begun_s = paid_from(replica, hosting)
            if begun_s is not None and begun_s < now_s:
                lives.append((begun_s, max(begun_s, min(paid_to(replica), now_s))))
        most = most_at_once(lives)
        in_use_s = Fraction(0)
        if hosting.tier.billing == "per_request":
            in_use_s = Fraction(float(weights.floats.min()) * fleet.used(now_s) * (hosting.tier.granularity or 1.0))
        lives += [(now_s, self._span_s)] * self._fewest[name]
        ranks = ranks_by_hour([life[0] for life in lives], [life[1] for life in lives], self._edges_s)
        return _Paid(weights.of_rows(ranks), most, in_use_s)


class _Paid(NamedTuple):
    """What one service is billed for in one of the replays."""

    ranks_s: list[Fraction]
    at_once: int
    in_use_s: Fraction


# -- requests ----------------------------------------------------------------------------------------


def about_all(goal: Goal | Objective) -> bool:
    """Whether an objective is about all requests, and missed for good when enough of them failed or were late."""
    return "." not in goal.name and (goal.name == "availability" or goal.share is not None)


class Budgets:
    """What weight of a month's requests may fail, or be late, before an objective on all is missed for good.

    Args:
        trace: what would be replayed.
        case: its objectives, and the month.
        hours: how those of the trace stand in the month.
    """

    def __init__(self, trace: Trace, case: Case, hours: HourWeights) -> None:
        first = int(np.searchsorted(trace.at_s, case.settle_s))
        whole = float(hours.at(trace.at_s[first:]).sum())
        self.slack = _SLACK * max(1.0, whole)
        self.failed = whole
        self.late: list[tuple[float, float]] = []
        """A limit [s], and what weight may be beyond it, failed ones too."""
        for goal in case.objectives.goals():
            if not about_all(goal):
                continue
            if goal.share is None:
                self.failed = min(self.failed, whole * (1.0 - float(goal.wanted)))
            else:
                self.late.append((goal.limit_s, whole * (1.0 - goal.share)))

    @property
    def may_fail(self) -> float:
        """What weight may fail: each of them is late, too."""
        return min([self.failed, *(most for _, most in self.late)]) + self.slack


class Overload:
    """How many requests must be late because a fleet that stays as it is cannot do their CPU work in time.

    In each minute the work of the requests that arrive, less what the cores can do until the last of them would be
    late, is left over: at least so many requests are late as the most laborious ones make up that much. Held against
    the budget of late requests it rules out a plan without a replay.

    Args:
        weighed: what would be replayed, and how it counts.
    """

    def __init__(self, weighed: Weighed) -> None:
        self._weighed, self._trace = weighed, weighed.trace
        self._known: dict[tuple[Any, ...], dict[str, _Minutes]] = {}

    def _minutes(self, case: Case) -> dict[str, _Minutes]:
        """By service, of each minute its first and last arrival [s], and its work added up, the greatest first."""
        key = _known_as(case, self._trace)
        if key not in self._known:
            self._known[key] = {hosted.name: self._minutes_of(there) for hosted, there in _entries(case, self._trace)}
        return self._known[key]

    def _minutes_of(self, there: np.ndarray) -> _Minutes:
        at_s, cpu_s = self._trace.at_s[there], self._trace.cpu_s[there]
        minute = (at_s // _WINDOW_S).astype(np.int64)
        order = np.lexsort((-cpu_s, minute))
        edges = np.flatnonzero(np.diff(minute)) + 1
        first, last = at_s[[0, *edges]], at_s[[*(edges - 1), len(minute) - 1]]
        works = [np.cumsum(work) for work in np.split(cpu_s[order], edges)]
        return list(zip(first.tolist(), last.tolist(), works, strict=True))

    def rules_out(self, case: Case) -> bool:
        """Whether too many requests must be late, whatever happens."""
        if case.settle_s > 0:
            return False
        hour_weights, budgets = self._weighed.of(case)
        # Of a fleet that changes, replicas that drain go on working beside the new ones.
        steady = [
            (self._minutes(case)[one.name], one.hosting.replicas_used * one.hosting.cores * one.hosting.size.speed)
            for one in case.system.hosted
            if one.name in self._minutes(case)
            and not (one.hosting.scaling.decides or one.hosting.rollouts or one.hosting.may_break or one.hosting.counts)
        ]
        return any(
            sum(self._late(minutes, hour_weights, speed, limit_s) for minutes, speed in steady) > most + budgets.slack
            for limit_s, most in budgets.late
        )

    def _late(self, minutes: _Minutes, hour_weights: HourWeights, speed: float, limit_s: float) -> float:
        """The least weight of what is late with so many core-seconds of work done in a second."""
        late = 0.0
        for first_s, last_s, work_s in minutes:
            excess_s = float(work_s[-1]) - speed * (_WINDOW_S + limit_s) * (1 + 1e-9)
            if excess_s > 0:  # a minute may be of two hours
                each = float(hour_weights.at(np.array([first_s, last_s])).min())
                late += each * (int(np.searchsorted(work_s, excess_s)) + 1)
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
    """Looks now and then whether replays under way can still meet the objectives on all requests, and their cost.

    What has failed stays failed, what was late stays late, and what is paid for stays paid: when that is too much, the
    rest changes nothing.

    Args:
        trace: what is replayed.
        case: against what.
        most: what a month may cost, None: whatever it costs.
        used: what is used at the least, see `LeastUse`.
    """

    def __init__(self, trace: Trace, case: Case, most: Decimal | None = None, used: UsedAtLeast = NOTHING) -> None:
        self._at_s, self._n = trace.at_s, len(trace)
        self._first = int(np.searchsorted(trace.at_s, case.settle_s))  # up to here they are not counted
        self._failed = 0.0
        self._hour_weights = HourWeights(trace, case)
        self._budgets = Budgets(trace, case, self._hour_weights)
        self._beyond = [0.0] * len(self._budgets.late)
        self._spent = Spent(trace, case, used)
        self._most = math.inf if most is None else most

    def begin(self, *, with_events: bool) -> tuple[np.ndarray, Callable[[float, list[Fleet]], None]]:
        """Another replay begins."""
        # Of two replays the second is the one without events.
        part = 1 if self._hour_weights.once and not with_events else 0
        looking = _Looking(self, np.zeros(self._n, RESULT), self._first, part)
        return looking.records, looking.look

    def count(self, part: int, some: np.ndarray, at_s: np.ndarray) -> bool:
        """Some more requests of a replay have ended; returns whether too many have failed, or were late."""
        weight = self._hour_weights.at(at_s, self._hour_weights.weights[part].floats)
        failed: Any = some["ending"] != 0
        self._failed += float(weight[failed].sum())
        is_too_much = self._failed > self._budgets.failed + self._budgets.slack
        for place, (limit_s, most) in enumerate(self._budgets.late):
            self._beyond[place] += float(weight[failed | (some["latency_s"] > limit_s + 1e-9)].sum())
            is_too_much |= self._beyond[place] > most + self._budgets.slack
        return is_too_much

    def costs_too_much(self, part: int, now_s: float, fleets: list[Fleet]) -> bool:
        """Whether the month costs more than it may, whatever comes."""
        return self._most < math.inf and self._spent.month(part, now_s, fleets) > self._most


class _Looking:
    """Looks at one replay."""

    def __init__(self, watch: Watch, records: np.ndarray, first: int, part: int) -> None:
        self._watch, self.records, self._seen, self._part, self._looks = watch, records, first, part, 0

    def look(self, now_s: float, fleets: list[Fleet]) -> None:
        """Stop the replay if nothing can save it.

        Each request is looked at once, soon after it has arrived; one that has not ended by then is not counted.
        """
        self._looks += 1
        watch = self._watch
        if self._looks % 5 == 0 and watch.costs_too_much(self._part, now_s, fleets):
            raise Stopped(_peak(fleets))
        last = int(np.searchsorted(watch._at_s, now_s - SETTLED_S))
        if last <= self._seen:
            return
        rows = slice(self._seen, last)
        self._seen = last
        if watch.count(self._part, self.records[rows], watch._at_s[rows]):
            raise Stopped(_peak(fleets))


def _peak(fleets: Iterable[Fleet]) -> int:
    return sum(fleet.peak for fleet in fleets)
