"""What each release and each fault of a replay has cost: its difference to a replay without it, on the same luck."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Final

import numpy as np

from libramen.base.ranks import by_group, rank_of
from libramen.base.results import Result
from libramen.base.times import into_hour_s
from libramen.engine.border.records import Ending
from libramen.outcome.month import Key, is_single

if TYPE_CHECKING:
    from libramen.outcome.outcome import Outcome

_MINUTE_S: Final = 60.0
_SLOWER: Final = 0.1
"""By so much the p95 of a minute must differ to count."""
_OVERLOADED: Final = 0.01
"""Of the requests refused or timed out, from which on a fleet is overloaded."""
_ENOUGH: Final = 20
"""Answers of a minute, or its p95 is that of single requests."""


@dataclass(frozen=True)
class Event(Result):
    """A release, a fault, or all random faults of a kind. None: not known, or not worked out.

    Attributes:
        kind: strategy of the release, or kind of the fault.
        table: "rollouts", "faults", or "at_random".
        entry: place in the plan's table (from 0); of random faults 0.
        result: of a release: done, undone, skipped, not_undone, under_way, not_begun; of a fault "".
        service: where.
        at_s: when it began [s]; of random faults the first.
        strikes: how many it stands for: 1, or of random faults so many.
        lasts_s: up to the end of the last minute that differs from a replay without it [s]; 0: none does.
        failed: requests more that failed than without it; below 0: fewer.
        overloaded: whether without it, too, requests were refused or timed out meanwhile; what it costs cannot be told
            apart from the overload then.
        failed_without: requests that failed meanwhile without it.
        p95_s: of answered requests, before, during and after [s].
        times_a_month: how often it is in a month, as the bill has it.
        budget_share: of the month's error budget; None: there is no objective of availability, or fewer failed.
        replica_hours, money: more that were paid in the trace, and in a month.
        moved: visitors more who had to move to another replica, where they are pinned; of an entry with several dates
            its share.
    """

    kind: str
    table: str
    entry: int
    result: str
    service: str
    at_s: float
    strikes: int
    lasts_s: float | None = None
    failed: int | None = None
    p95_s: dict[str, float | None] | None = None
    times_a_month: float = 1.0
    budget_share: float | None = None
    replica_hours: float | None = None
    money: float | None = None
    moved: float | None = None
    overloaded: bool = False
    failed_without: int | None = None

    @property
    def is_release(self) -> bool:
        """Whether it is a release."""
        return self.table == "rollouts"

    @property
    def key(self) -> Key:
        """What leaves it, and all of its entry, out of a replay."""
        return (self.service, self.table, self.kind if self.table == "at_random" else self.entry)


def happened(outcome: Outcome) -> list[Event]:
    """The events of a replay, in order of time: when and what, not yet what they cost."""
    found = []
    for name, one in outcome.services.items():
        run, at_random = one.run, defaultdict(list)
        for update in run.updates:
            began_s = update.due_s if update.began_s is None else update.began_s
            found.append(Event(update.strategy, "rollouts", update.entry, update.result, name, began_s, 1))
        for fault in run.faults:
            if fault.at_random:
                at_random[fault.kind].append(fault.at_s)
            else:
                found.append(Event(fault.kind, "faults", fault.entry, "", name, fault.at_s, 1))
        found += [Event(kind, "at_random", 0, "", name, at[0], len(at)) for kind, at in at_random.items()]
    found.sort(key=lambda event: event.at_s)
    return [replace(event, times_a_month=_times(event, outcome)) for event in found if event.at_s < outcome.span_s]


def once_a_month(events: Iterable[Event]) -> list[Event]:
    """The same as if each happened once in a month, however long the trace is."""
    found = []
    for event in events:
        times = event.times_a_month / event.strikes
        budget = None if event.budget_share is None or not times else event.budget_share / times
        found.append(replace(event, times_a_month=1.0, budget_share=budget, money=None))
    return found


def _times(event: Event, outcome: Outcome) -> float:
    hosting = outcome.services[event.service].hosting
    entries = getattr(hosting, event.table, ())
    once = event.entry < len(entries) and is_single(entries[event.entry])  # else it is in all replays of the month
    return event.strikes * outcome.weighted_replays.times(event.at_s, into_hour_s(outcome.start), once=once)


def worked_out(outcome: Outcome) -> tuple[Event, ...]:
    """The same with what each has cost: one more replay for each entry of a table that has struck."""
    found = happened(outcome)
    if not outcome.can_be_replayed:
        return tuple(found)
    by_key: dict[Key, list[Event]] = defaultdict(list)
    for event in found:
        by_key[event.key].append(event)
    costs: dict[Event, Event] = {}
    for key, events in by_key.items():
        costs |= dict(zip(events, difference(outcome, outcome.without(key), events), strict=True))
    return tuple(costs[event] for event in found)


def difference(outcome: Outcome, without: Outcome, events: Iterable[Event]) -> list[Event]:
    """What some events of one entry have cost, from a replay with and one without them.

    What differs up to the next of them is put down to the one before.
    """
    events = list(events)
    mine, theirs = _Requests(outcome), _Requests(without)
    edges_s = [0.0, *(event.at_s for event in events[1:]), np.inf]
    paid_h = (outcome.paid_s - without.paid_s) / 3600 / len(events)
    money = float(outcome.bill.month - without.bill.month) / len(events)
    moved = None
    if any(one.hosting.balances.pins for one in outcome.services.values()):
        moved = (_moved(outcome) - _moved(without)) / len(events)
    return [
        replace(_cost(event, mine, theirs, (from_s, to_s), outcome), replica_hours=paid_h, money=money, moved=moved)
        for event, from_s, to_s in zip(events, edges_s[:-1], edges_s[1:], strict=True)
    ]


def _moved(outcome: Outcome) -> int:
    """Visitors who had to move from one replica to another."""
    return sum(int(one.run.moved.sum()) for one in outcome.services.values())


def _cost(event: Event, mine: _Requests, theirs: _Requests, between: tuple[float, float], outcome: Outcome) -> Event:
    failed = mine.failed(*between) - theirs.failed(*between)
    last_s = _last_minute(mine, theirs, event.at_s, between[1])
    lasts_s = max(0.0, last_s - event.at_s)
    stretch_s = max(lasts_s, 5 * _MINUTE_S)
    p95_s = {
        "before": mine.p95(event.at_s - stretch_s, event.at_s),
        "during": mine.p95(event.at_s, event.at_s + max(lasts_s, _MINUTE_S)),
        "after": mine.p95(event.at_s + lasts_s, event.at_s + lasts_s + stretch_s),
    }
    budget = None
    for goal in outcome.objectives:
        if failed >= 0 and goal.name == "availability" and goal.wanted is not None and goal.wanted < 1:
            allowed = (1 - float(goal.wanted)) * outcome.weighted_replays.requests()
            times = event.times_a_month / event.strikes
            budget = failed * times / allowed if allowed else None
    meanwhile = event.at_s, event.at_s + stretch_s
    return replace(
        event,
        lasts_s=lasts_s,
        failed=failed,
        p95_s=p95_s,
        budget_share=budget,
        overloaded=theirs.is_overloaded(*meanwhile),
        failed_without=theirs.failed(*meanwhile),
    )


def _last_minute(mine: _Requests, theirs: _Requests, from_s: float, to_s: float) -> float:
    """The end of the last minute from an instant on that differs [s]; that instant: none does."""
    first = int(from_s // _MINUTE_S)
    n = min(mine.minutes, int(-(-to_s // _MINUTE_S)) if np.isfinite(to_s) else mine.minutes)
    differs = (mine.endings[first:n] != theirs.endings[first:n]).any(axis=1)
    with np.errstate(invalid="ignore"):
        p95, other = mine.p95_of_minutes[first:n], theirs.p95_of_minutes[first:n]
        differs |= np.abs(p95 - other) > _SLOWER * np.minimum(p95, other)
    at = np.flatnonzero(differs)
    return from_s if not len(at) else (first + int(at[-1]) + 1) * _MINUTE_S


class _Requests:
    """What became of the measured requests, by minute of arrival."""

    def __init__(self, outcome: Outcome) -> None:
        results = outcome.run.kept
        kept = outcome.trace.at_s >= outcome.settle_s
        self.at_s, ending = outcome.trace.at_s[kept], results.ending[kept]
        self._latency_s, self._ending, self._is_ok = results.latency_s[kept], ending, ending == 0
        self.minutes = int(outcome.span_s // _MINUTE_S) + 1
        minute = np.minimum((self.at_s // _MINUTE_S).astype(np.int64), self.minutes - 1)
        counts = np.bincount(6 * minute + ending, minlength=6 * self.minutes)
        self.endings = counts.reshape(self.minutes, 6)
        ok = self._is_ok
        (self.p95_of_minutes,) = by_group(self._latency_s[ok], minute[ok], self.minutes, 0.95, least=_ENOUGH)

    def failed(self, from_s: float, to_s: float) -> int:
        """Requests that arrived then and failed."""
        first, last = np.searchsorted(self.at_s, [from_s, to_s])
        return int(np.count_nonzero(~self._is_ok[first:last]))

    def is_overloaded(self, from_s: float, to_s: float) -> bool:
        """Whether of the requests that arrived then many were refused or timed out."""
        first, last = np.searchsorted(self.at_s, [from_s, to_s])
        too_much = np.isin(self._ending[first:last], (Ending.REFUSED, Ending.TIMED_OUT))
        return bool(np.count_nonzero(too_much) > _OVERLOADED * (last - first))

    def p95(self, from_s: float, to_s: float) -> float | None:
        """Of the answered requests that arrived then [s]; None: there is none."""
        first, last = np.searchsorted(self.at_s, [from_s, to_s])
        latency_s = self._latency_s[first:last][self._is_ok[first:last]]
        if not len(latency_s):
            return None
        rank = rank_of(len(latency_s), 0.95)
        return float(np.partition(latency_s, rank)[rank])
