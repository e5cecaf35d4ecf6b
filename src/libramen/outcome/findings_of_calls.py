"""What is worth knowing of services that call each other.

Each finding is one function of the whole outcome that yields those it finds. To add one, write the function, name it
in `_ALL`, and write its sentence in `report/findings.py`.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Final, NamedTuple

import numpy as np

from libramen.base.steps import Steps
from libramen.base.times import EPSILON_S
from libramen.outcome.findings import Finding
from libramen.outcome.outcome import Outcome
from libramen.outcome.service_outcome import ServiceOutcome

_LONG_S: Final = 60.0
_FULL: Final = 0.95
"""Of the slots or the cores, from which on a service has none left to speak of."""
_NOTED: Final = 0.1
"""The share of its time from which on a visit waits for connections noticeably."""
_GROWS: Final = 10
"""Visits that wait at the end, at the least, before a queue counts as growing."""


class _Load(NamedTuple):
    """One service over the windows of a replay."""

    name: str
    outcome: ServiceOutcome
    slots: np.ndarray  # taken, as a share
    cpu: np.ndarray  # in use, as a share
    waiting: np.ndarray  # visits, on average
    full: np.ndarray  # bool: it has no slots, or no CPU, left, and visits wait or take turns

    @property
    def short_of(self) -> str:
        """What it has least of while it is full."""
        return "slots" if self.slots[self.full].mean() >= self.cpu[self.full].mean() else "CPU"


def find_in_calls(outcome: Outcome) -> tuple[list[Finding], set[str]]:
    """What is found of services that call each other, and the services that wait for a bottleneck further down."""
    loads = {name: _load(name, one) for name, one in outcome.services.items()}
    found = [finding for find in _ALL for finding in find(outcome, loads)]
    narrow = {finding.service for finding in found if finding.kind == "bottleneck"}
    return found, {name for name in outcome.services if narrow & _below(outcome, name)}


def _below(outcome: Outcome, name: str) -> set[str]:
    """The services that a service waits for, and those that these wait for."""
    names, found, left = outcome.system.names, set[str](), [name]
    while left:
        caller = left.pop()
        for made in outcome.system.calls:
            callee = names[made.callee]
            if names[made.caller] == caller and made.call.wait_for_it and callee not in found:
                found.add(callee)
                left.append(callee)
    return found


def _load(name: str, one: ServiceOutcome) -> _Load:
    series = one.series_of_counts()
    ready = np.maximum(series["ready"], 1e-12)
    slots = series["in_progress"] / (ready * one.service.slots)
    cpu = np.nan_to_num(series["utilisation"])
    waiting, there = series["waiting"], series["ready"] > 1e-9
    busy = (slots >= _FULL) & ((waiting > 0.5) | (series["refused"] > 0))
    turns = (cpu >= _FULL) & (series["in_progress"] > 1.5 * ready * one.hosting.cores)
    return _Load(name, one, np.where(there, slots, 0.0), cpu, waiting, there & (busy | turns))


def _callers(outcome: Outcome, callee: str, *, awaited: bool = True) -> list[str]:
    hosted = outcome.system.hosted
    names = [
        hosted[made.caller].name
        for made in outcome.system.calls
        if hosted[made.callee].name == callee and made.call.wait_for_it == awaited
    ]
    return list(dict.fromkeys(names))


def _gaps(one: ServiceOutcome) -> list[tuple[float, float]]:
    """When a service had no replica that worked, though it has some and is not meant to scale to zero: from, to [s]."""
    run = one.run
    worked = [(from_s, to_s) for each in run.replicas for stage, from_s, to_s in each.lived() if stage == "ready"]
    ready = Steps.of([from_s for from_s, _ in worked], [to_s for _, to_s in worked], run.span_s)
    if ready.extremes()[1] == 0 or (one.hosting.base_limits[0] == 0 and one.hosting.scaling.decides):
        return []
    return [
        (float(from_s), float(to_s))
        for from_s, to_s, n in zip(ready.at_s[:-1], ready.at_s[1:], ready.count[:-1], strict=True)
        if n == 0 and to_s - from_s > EPSILON_S and from_s < run.span_s
    ]


def _overlapping(outcome: Outcome, times_s: list[tuple[float, float]], after_s: float = 0.0) -> np.ndarray:
    """Which windows overlap some times, and so long after them: bool (windows,)."""
    edges_s = outcome.run.edges_s
    hit = np.zeros(len(edges_s) - 1, bool)
    for from_s, to_s in times_s:
        hit |= (edges_s[1:] > from_s) & (edges_s[:-1] < to_s + after_s)
    return hit


def _failed_in(outcome: Outcome, windows: np.ndarray) -> int:
    """Requests that arrived in these windows and failed."""
    series = outcome.series_of_counts()
    return int((series["arrivals"] - series["ok"])[windows].sum())


def _bottleneck(outcome: Outcome, loads: dict[str, _Load]) -> Iterator[Finding]:
    """A service that is full while those that call it have CPU to spare and wait for it."""
    width = np.diff(outcome.run.edges_s)
    for name, load in loads.items():
        seconds = float(width[load.full].sum())
        callers = [loads[caller] for caller in _callers(outcome, name)]
        if seconds < _LONG_S or not callers:
            continue
        if load.short_of == "slots" and any(loads[n].full[load.full].mean() > 0.5 for n in _below(outcome, name)):
            continue  # it is full because it waits itself
        # The caller that waits most for it; if that has no CPU left itself, nothing is proved.
        caller = max(callers, key=lambda other: other.outcome.time_s["called"])
        spare = float(np.average(caller.cpu[load.full], weights=width[load.full]))
        if spare >= _FULL:
            continue
        answered = load.outcome.series_of_counts()["ok"]
        figures = {
            "first_s": float(outcome.run.edges_s[:-1][load.full][0]),
            "short_of": load.short_of,
            "rate": float(answered[load.full].sum()) / seconds,
            "caller": caller.name,
            "caller_cpu": spare,
        }
        yield Finding(
            "bottleneck", _failed_in(outcome, load.full), seconds, service=load.outcome.label, figures=figures
        )


def _connections(outcome: Outcome, loads: dict[str, _Load]) -> Iterator[Finding]:
    """Callers that may open more connections than a service takes."""
    names = outcome.system.names
    for name, load in loads.items():
        down = _overlapping(outcome, _gaps(load.outcome))
        refused = int(load.outcome.series_of_counts()["refused"][~down].sum())
        slots = load.outcome.service.slots
        backlog = load.outcome.service.backlog
        most = slots * (load.outcome.replicas_max or 0)
        callers = _callers(outcome, name)
        if not refused or not most or not callers:
            continue
        opened = []
        for caller in callers:
            pools = {
                made.pool_limit
                for made in outcome.system.calls
                if (names[made.caller], names[made.callee]) == (caller, name) and made.pool_limit
            }
            replicas = loads[caller].outcome.replicas_max or 0
            each = max(pools) if pools else loads[caller].outcome.service.slots
            opened.append((caller, replicas, each))
        could = sum(replicas * each for _, replicas, each in opened)
        if could <= most:
            continue
        callers_open = [{"service": caller, "replicas": n, "each": each} for caller, n, each in opened]
        figures = {"could_open": could, "opened": callers_open, "slots": most, "backlog": backlog}
        yield Finding("connections_exhausted", refused, service=load.outcome.label, figures=figures)


def _pool_too_small(outcome: Outcome, loads: dict[str, _Load]) -> Iterator[Finding]:
    """Visits that wait for a connection to a service that would have had slots for them."""
    names = outcome.system.names
    for name, load in loads.items():
        limits = {
            names[made.callee]: made.pool_limit
            for made in outcome.system.calls
            if names[made.caller] == name and made.pool_limit
        }
        one = load.outcome
        n_ok, unsent = one.endings["ok"], one.run.unsent
        waited_s = one.time_s["connecting"]
        total_s = sum(one.time_s.values())
        if not limits or (waited_s < _NOTED * total_s and not unsent):
            continue
        open_to = {
            callee: limit
            for callee, limit in limits.items()
            if not loads[callee].full.any() or loads[callee].full.mean() < 0.2
        }
        if not open_to:
            continue
        callee, limit = min(open_to.items(), key=lambda entry: entry[1])
        taken = float(np.max(loads[callee].outcome.series_of_counts()["in_progress"]))
        there = (loads[callee].outcome.replicas_max or 0) * loads[callee].outcome.service.slots
        figures = {
            "pool": limit,
            "callee": callee,
            "mean_s": waited_s / n_ok if n_ok else 0.0,
            "share": waited_s / total_s if total_s else 0.0,
            "taken": taken,
            "slots": there,
        }
        yield Finding("pool_too_small", unsent or None, waited_s, service=load.outcome.label, figures=figures)


def _retries_multiply(outcome: Outcome, loads: dict[str, _Load]) -> Iterator[Finding]:
    """Attempts per visit over the time of an overload."""
    edges_s = outcome.run.edges_s
    width = np.diff(edges_s)
    for load in loads.values():
        series = load.outcome.series_of_counts()
        arrivals, attempts = series["arrivals"], series["attempts"]
        over = (arrivals - series["ok"] > 0.05 * arrivals) & (attempts > 1.2 * arrivals)
        seconds = float(width[over].sum())
        if seconds < _LONG_S:
            continue
        figures = {
            "first_s": float(edges_s[:-1][over][0]),
            "attempts_each": float(attempts[over].sum() / arrivals[over].sum()),
            "attempts_rate": float(attempts[over].sum()) / seconds,
            "rate": float(arrivals[over].sum()) / seconds,
        }
        failed = int((arrivals - series["ok"])[over].sum())
        yield Finding("retries_multiply", failed, seconds, service=load.outcome.label, figures=figures)


def _queue_grows(outcome: Outcome, loads: dict[str, _Load]) -> Iterator[Finding]:
    """Work that comes faster than it is done, until the end."""
    for load in loads.values():
        waiting = load.waiting
        n = len(waiting)
        if n < 4:
            continue
        last, before = waiting[-1], waiting[-max(2, n // 4)]
        slots = load.outcome.service.slots * max(1, load.outcome.replicas_max or 0)
        if last < max(_GROWS, 2 * slots) or last < 1.1 * before:
            continue
        quarter = slice(n - max(2, n // 4), n)
        grown = waiting[quarter]
        falling = np.flatnonzero(np.diff(grown) < 0)
        if len(falling) > len(grown) / 3:
            continue
        seconds = float(np.diff(outcome.run.edges_s)[quarter].sum())
        comes = float(load.outcome.series_of_counts()["attempts"][quarter].sum()) / seconds
        rate = (last - before) / seconds
        if rate < 0.05 * comes:
            continue
        figures = {"rate": comes, "done_rate": max(0.0, comes - rate), "waiting": float(last)}
        yield Finding("queue_grows", int(last), seconds, service=load.outcome.label, figures=figures)


def _workers_idle(outcome: Outcome, loads: dict[str, _Load]) -> Iterator[Finding]:
    """Workers on a queue that are paid and have next to nothing to do."""
    for name, load in loads.items():
        one = load.outcome
        if not _callers(outcome, name, awaited=False) and not one.hosting.balances.queues:
            continue
        span_s = outcome.run.span_s
        busy = one.slots_taken
        if busy is None or busy > 0.05 or one.hosting.tier.billing == "per_request":
            continue
        yield Finding("workers_idle", seconds=(1 - busy) * span_s, service=load.outcome.label, figures={"taken": busy})


def _callee_down(outcome: Outcome, loads: dict[str, _Load]) -> Iterator[Finding]:
    """A service that others call, and that had no replica for a while."""
    for name, load in loads.items():
        gaps = _gaps(load.outcome)
        if not gaps or not _callers(outcome, name):
            continue
        seconds = sum(to_s - from_s for from_s, to_s in gaps)
        failed = _failed_in(outcome, _overlapping(outcome, gaps, after_s=60.0))
        figures = {"times": len(gaps), "first_s": gaps[0][0]}
        yield Finding("callee_down", failed, seconds, service=load.outcome.label, figures=figures)


_ALL: Final[tuple[Callable[[Outcome, dict[str, _Load]], Iterator[Finding]], ...]] = (
    _bottleneck,
    _connections,
    _pool_too_small,
    _retries_multiply,
    _queue_grows,
    _workers_idle,
    _callee_down,
)
