"""Up to which load a plan meets its objectives: which factors are replayed, and what follows from them.

Every limit is read from what was replayed, and from nothing else: the last factor before the first failure among all
of them. Where a replay contradicts what bisection had found, it is looked for again below it.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Generator, Sequence
from dataclasses import dataclass, replace as changed
from typing import Any, Final

from libramen.base.code import digest_of
from libramen.base.results import Result
from libramen.outcome.figures import Figures
from libramen.questions.causes import because
from libramen.runs import entries
from libramen.runs.cases import Case
from libramen.runs.memory import bytes_of
from libramen.runs.pool import Pool, Ticket, Whole
from libramen.runs.store import Store
from libramen.trace.arrays import MOST_REQUESTS
from libramen.trace.trace import Trace

STEP: Final = 1.01
_LEAST_K, _MOST_K = -460, 460  # a hundredth, and a hundred times the load
FEWEST: Final = 20
"""Requests: a smaller load than that of so many is not looked at."""
_AROUND: Final = 10
_FIRST_K: Final = 16
_FAR: Final = 140
"""So many steps beyond the limit other objectives are looked at: four times the load."""


@dataclass(frozen=True)
class Point(Result):
    """One factor at which a plan was replayed.

    Attributes:
        factor: of the load.
        p95_s, availability, month: of a month.
        missed: objectives that are not met.
    """

    factor: float
    p95_s: float | None
    availability: float | None
    month: float
    missed: tuple[str, ...]


@dataclass(frozen=True)
class Room(Result):
    """How much more load one plan takes.

    Attributes:
        plan: its name.
        holds_to: the last factor before the first of `points` at which an objective is missed; None: none holds, from a
            hundredth on, or from `FEWEST` requests.
        breaks: the objective that is missed first; None: nothing breaks up to where it was looked.
        because: what it is then: CPU, slots, CPU and slots, memory, connections, ceiling, tier limit, cold starts,
            stock, distance, money; or event: nothing runs out, a release or a fault suffices; None: nothing breaks.
        next_at: the least factor at which another objective is missed, too; None: none is, up to four times the limit.
        limits: of each objective the last factor before the first of `points` at which it is missed. 0: it is missed
            even at a hundredth, or with `FEWEST` requests. None: it is met up to four times the load at which the first
            one breaks, or as far as memory went; of a plan that never holds, up to four times the load of the trace.
        monotone: whether of all that was replayed nothing that is missed is met again at a greater factor.
        month: after how many months of growth that load is there, at the soonest; None: no growth was asked about.
        month_latest: at the latest, where growth is a range; else the same.
        dates: when that is, at the soonest and at the latest, ISO; None: the trace has no dates, nothing breaks, the
            limit is there already, or it is more than a century away.
        points: what was replayed, by factor.
        looked_to: the greatest factor that was looked at, since a load of more has too many requests; None: there was
            no such limit.
        counted_from: the least factor from which on percentiles are counted, within 0.5 %, since a load of more takes
            more memory than it may; None: all are exact.
        repeats: `holds_to` with each of the seeds, the first one too; empty: only one was asked for.
        made_of: what the month is made of, about which objectives and money are.
    """

    plan: str
    holds_to: float | None
    breaks: str | None
    because: str | None
    next_at: float | None
    limits: dict[str, float | None]
    monotone: bool
    points: tuple[Point, ...]
    looked_to: float | None = None
    counted_from: float | None = None
    repeats: tuple[float | None, ...] = ()
    made_of: str = ""
    month: float | None = None
    month_latest: float | None = None
    dates: tuple[str, str] | None = None


def rooms_of(
    cases: Sequence[Case],
    pool: Pool,
    report: Callable[[str, float], None] = lambda _what, _share: None,
    found: Callable[[Room], None] = lambda _room: None,
) -> tuple[Room, ...]:
    """The headroom of some cases, side by side.

    Args:
        cases: the plans, each with its seed.
        pool: where they are replayed; its memory bounds how far is looked.
        report: called with what is being looked at, and the share of the cases that are done.
        found: called with each as it is found.
    """
    looking = [_LimitSearch(case, pool) for case in cases]
    waiting = list(looking)
    while True:
        for look in waiting:
            look.go_on()
        for look in waiting:
            if look.room is not None:
                found(look.room)
        waiting = [look for look in waiting if look.room is None]
        if not waiting:
            return tuple(look.room for look in looking if look.room is not None)
        asked = [ask for look in waiting for ask in look.take_asks()]
        done = 1 - len(waiting) / len(looking)
        report(", ".join(sorted({look.doing for look in waiting}))[:60], done)
        tickets = pool.hand_in_all([(case, task) for _, _, case, task in asked])
        for (look, key, _, _), ticket in zip(asked, tickets, strict=True):
            look.tickets[key] = ticket
        running = [
            future
            for look in waiting
            for ticket in look.tickets.values()
            if (future := ticket.future) and not future.done()
        ]
        # What one of them has waited for may be there by now.
        if not any(look.may_go_on for look in waiting):
            pool.wait_for(running)


class _Cause(Whole):
    """What runs out at some load: a word.

    Args:
        breaks: the objective that is missed.
    """

    def __init__(self, breaks: str) -> None:
        self._breaks = breaks

    def __call__(self, case: Case, trace: Trace) -> str:  # type: ignore[override]
        return because(case.replay(trace), self._breaks)

    def look_up(self, store: Store, key: str, case: Case) -> Any:  # noqa: ARG002
        """The word."""
        return store.get(self._cause_key(key), _text)

    def keep(self, store: Store, key: str, case: Case, result: str) -> None:  # type: ignore[override]  # noqa: ARG002
        """The word."""
        store.put(self._cause_key(key), result)

    def _cause_key(self, key: str) -> str:
        return entries.digest([key, digest_of(__name__), "cause", self._breaks])


def _text(document: Any) -> str:
    if not isinstance(document, str):
        raise TypeError
    return document


_Asks = list["int | tuple[int, str]"]
"""Factors to be replayed, as powers of STEP; with the name of an objective: why it is missed there."""


class _LimitSearch:
    """The headroom of one case being looked for: which factors are to be replayed next depends on those before.

    Attributes:
        tickets: of what has been handed in, by what was asked.
        room: what was found; None: it is still being looked for.
    """

    def __init__(self, case: Case, pool: Pool) -> None:
        self._case = case
        self._figures: dict[int, Figures] = {}
        self._causes: dict[tuple[int, str], str] = {}
        self._asks: _Asks = []
        self.tickets: dict[int | tuple[int, str], Ticket] = {}
        self.room: Room | None = None
        self._most_k, self._kept_k = map(_power, loads_of(case, pool))
        self._least_k = max(_LEAST_K, math.ceil(math.log(least_load(pool.trace)) / math.log(STEP) - 1e-9))
        self._names: list[str] = []
        self._steps = self._find()

    @property
    def doing(self) -> str:
        """What is being looked at: `brisk at 1.22`."""
        factors = [
            key if isinstance(key, int) else key[0] for key, ticket in self.tickets.items() if not ticket.is_done
        ]
        return f"{self._case.plan.name} at {STEP ** factors[0]:.3g}" if factors else self._case.plan.name

    @property
    def may_go_on(self) -> bool:
        """Whether all that it has handed in is done."""
        return all(ticket.is_done for ticket in self.tickets.values())

    def go_on(self) -> None:
        """As far as what has been replayed allows."""
        while self.room is None and not self._asks and self.may_go_on:
            for key, ticket in self.tickets.items():
                if isinstance(key, int):
                    self._figures[key] = ticket.result
                else:
                    self._causes[key] = ticket.result
            self.tickets.clear()
            try:
                self._asks = next(self._steps)
            except StopIteration as stop:
                self.room = stop.value

    def take_asks(self) -> list[tuple[_LimitSearch, int | tuple[int, str], Case, Whole]]:
        """What is to be replayed now."""
        asks, self._asks = self._asks, []
        found: list[tuple[_LimitSearch, int | tuple[int, str], Case, Whole]] = []
        for key in asks:
            k = key if isinstance(key, int) else key[0]
            case = changed(self._case, scale=STEP**k if k else 1.0, keeps=k <= self._kept_k)
            found.append((self, key, case, Whole() if isinstance(key, int) else _Cause(key[1])))
        return found

    # -- what was replayed says ----------------------------------------------------------------------

    def _missed(self, k: int) -> set[str]:
        return {one.name for one in self._figures[k].missed}

    def _first_bad(self, name: str | None) -> int | None:
        """The least factor that was replayed at which an objective, or (None) any, is missed."""
        bad = (k for k in self._figures if (self._missed(k) if name is None else name in self._missed(k)))
        return min(bad, default=None)

    def _is_monotone(self) -> bool:
        """Whether nothing that is missed at some factor is met at a greater one."""
        missed_before: set[str] = set()
        for k in sorted(self._figures):
            if missed_before - self._missed(k):
                return False
            missed_before |= self._missed(k)
        return True

    # -- what is replayed next -----------------------------------------------------------------------

    def _replayed(self, *factors: int) -> Generator[_Asks, None, None]:
        """Have 1.01 to the power of each of these times the load replayed, once."""
        asks: _Asks = [k for k in dict.fromkeys(factors) if k not in self._figures]
        if asks:
            yield asks

    def _find(self) -> Generator[_Asks, None, Room]:
        yield from self._bracketed()
        self._names = [one.name for one in self._figures[0].objectives]
        yield from self._settled()
        first_bad = self._first_bad(None)
        # Where nothing holds, other objectives are sought from the load of the trace on.
        met_at = 0 if first_bad in {None, self._least_k} else first_bad
        if first_bad is not None:
            for name in self._names:
                yield from self._sought(name, met_at or 0)
            yield from self._settled()
            first_bad = self._first_bad(None)
        if first_bad is None:
            return self._found(None, None)
        breaks = self._figures[first_bad].missed[0].name
        yield [(first_bad, breaks)]
        return self._found(first_bad, breaks)

    def _bracketed(self) -> Generator[_Asks, None, None]:
        """A factor that holds and a greater one that does not, if there are any."""
        yield from self._replayed(0)
        step = _FIRST_K
        if not self._missed(0):
            while True:
                k = min(self._most_k, step)
                yield from self._replayed(k)
                if self._missed(k) or k == self._most_k:
                    return
                step *= 2
        while True:
            k = max(self._least_k, -step)
            yield from self._replayed(k)
            if not self._missed(k) or k == self._least_k:
                return
            step *= 2

    def _settled(self) -> Generator[_Asks, None, None]:
        """Until the factor before the first failure has been replayed: for each objective, and with ten around it."""
        while True:
            before = len(self._figures)
            for name in (None, *self._names):
                while (
                    (bad := self._first_bad(name)) is not None and bad > self._least_k and bad - 1 not in self._figures
                ):
                    good = max((k for k in self._figures if k < bad), default=None)
                    yield from self._replayed(self._least_k if good is None else (good + bad) // 2)
            bad = self._first_bad(None)
            if bad is not None and bad > self._least_k:
                yield from self._replayed(
                    *range(max(self._least_k, bad - _AROUND), min(self._most_k, bad + _AROUND) + 1)
                )
            if len(self._figures) == before:
                return

    def _sought(self, name: str, met_at: int) -> Generator[_Asks, None, None]:
        """A factor at which another objective is missed, up to four times the load."""
        step = _FIRST_K
        while self._first_bad(name) is None:
            k = min(self._most_k, met_at + min(step, _FAR))
            yield from self._replayed(k)
            if k in {self._most_k, met_at + _FAR}:
                return
            step *= 2

    def _found(self, first_bad: int | None, breaks: str | None) -> Room:
        k = max(self._figures) if first_bad is None else first_bad - 1
        holds_to = None if first_bad == self._least_k else STEP**k
        bads = {name: self._first_bad(name) for name in self._names}
        limits = {
            name: None if bad is None else 0.0 if bad == self._least_k else STEP ** (bad - 1)
            for name, bad in bads.items()
        }
        later = [STEP**bad for bad in bads.values() if bad is not None and bad != first_bad]
        points = tuple(point_of(STEP**k, figures) for k, figures in sorted(self._figures.items()))
        return Room(
            plan=self._case.plan.name,
            holds_to=holds_to,
            breaks=breaks,
            because=None if first_bad is None or breaks is None else self._causes[first_bad, breaks],
            next_at=min(later, default=None),
            limits=limits,
            monotone=self._is_monotone(),
            points=points,
            looked_to=None if self._most_k == _MOST_K else STEP**self._most_k,
            counted_from=STEP ** min(counted) if (counted := [k for k in self._figures if k > self._kept_k]) else None,
            made_of=next(iter(self._figures.values())).bill.note if self._figures else "",
        )


def point_of(factor: float, figures: Figures) -> Point:
    """What is kept of a replay at some load."""
    month = figures.month
    missed = tuple(one.name for one in figures.missed)
    return Point(factor, month.latency_s["p95"], month.availability, float(figures.bill.month), missed)


def least_load(trace: Trace) -> float:
    """The least part of the load that is looked at: with fewer requests there may be none; at most all of it."""
    return min(1.0, FEWEST / max(1, len(trace)))


def loads_of(case: Case, pool: Pool) -> tuple[float, float]:
    """Up to how many times the load a pool has memory to replay a case, and up to which to keep all requests."""
    if pool.memory is None:
        return math.inf, math.inf
    kept = pool.memory / bytes_of(pool.trace, case.replays_of(pool.trace))
    # What comes in chunks takes no more memory, and time all the same.
    most = MOST_REQUESTS / max(1, len(pool.trace)) if _comes_in_chunks(case) else 1.0
    return max(kept, most), kept


def _power(factor: float) -> int:
    """The greatest power of STEP that is no more than a factor, from 0 on."""
    return _MOST_K if factor >= STEP**_MOST_K else max(0, math.floor(math.log(max(factor, 1e-9)) / math.log(STEP)))


def _comes_in_chunks(case: Case) -> bool:
    """Whether all that the plan does can be known of a trace that comes in chunks."""
    hosted = case.system.fleets.values()
    moments = [
        *(rollout.at for one in hosted for rollout in one.rollouts),
        *(fault.at for one in hosted for fault in one.faults if fault.at is not None),
    ]
    return not any(moment.needs_arrivals for moment in moments) and not any(one.balances.pins for one in hosted)
