"""One replay: a trace, services and what they run on, on either data plane, under the control plane."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Collection, Iterable
from typing import Final, Literal, Protocol

import numpy as np

from libramen.base import units
from libramen.base.errors import ReplayError, StudyError, TraceError
from libramen.engine.border.plane import DataPlane
from libramen.engine.border.records import Ended, Results
from libramen.engine.border.specs import SystemSpec, spec_of
from libramen.engine.control.fleet import Fleet
from libramen.engine.control.periodic import MOST_DECISIONS
from libramen.engine.control.play import Control, TimesOfChunks
from libramen.engine.feed import Feed
from libramen.engine.record import Run
from libramen.study.plan import Hosting
from libramen.study.system import System
from libramen.trace.trace import Trace

DataPlaneName = Literal["compiled", "plain"]
_MOST_WINDOWS: Final = 20_000_000


class Sink(Protocol):
    """What takes visits as they end."""

    def arrived(self, at_s: np.ndarray) -> None:
        """Some more requests are going to arrive at these times: float64 (n,) [s]."""

    def take(self, ended: Ended) -> None:
        """Some visits have ended. The arrays are valid during the call only."""


def run(
    trace: Trace | Iterable[Trace],
    system: System,
    *,
    seed: int = 0,
    data_plane: DataPlaneName = "compiled",
    window_s: float = 60.0,
    span_s: float | None = None,
    sink: Sink | None = None,
    keeps: bool = True,
    spends: bool = False,
    records: np.ndarray | None = None,
    progress: Callable[[float], None] | None = None,
    forced: bool = False,
    without: Collection[tuple[str, str, int | str]] = (),
    watch: Callable[[float, list[Fleet]], None] | None = None,
) -> Run:
    """Replay a trace against services and their plans.

    Args:
        trace: the requests, or chunks of them in order of time. What a chunk's times are counted from is its
            `start`, where it and that of the first one are known, else the start of the first.
        system: the services, what they run on, and who asks whom.
        seed: random seed.
        data_plane: `"compiled"`, or `"plain"` for the readable and slow one; both give the same.
        window_s: width of the windows of the series [s].
        span_s: the time that chunks cover [s]. Default: that of the last one.
        sink: takes visits as they end.
        keeps: whether what becomes of each request is kept; not with chunks.
        spends: whether it is kept where the time of each request went, where services call each other.
        records: where to write what becomes of the requests of a trace: `plane.RESULT` (n,). Default: a new array.
        progress: called now and then with the share of the trace that is replayed, from 0 to 1.
        forced: `wait_s` of the trace is the instant at which each request leaves its slot, or as soon as it can, and
            `cpu_s` the share of the time from its CPU turn to then that it takes (0: it has none). For work that is
            estimated from a log, which knows when requests left; `Run.turns` then says how much CPU work they got.
        without: releases and faults that are left out, all else being as it is: service; "rollouts" or "faults" and
            the place in the plan's table (from 0), or "at_random" and the kind of faults.
        watch: called a hundred times during the span with the instant [s] and the fleets; what it raises ends the
            replay.

    Returns:
        the record of it.

    Raises:
        ReplayError: an unknown data plane, or windows of no width.
        StudyError: a rollout is due at a time that is not in the trace, or that only a whole trace can tell; a request
            matches no service; the work of a call is not known.
        TraceError: chunks are not in order of time.
    """
    first, chunks = peek(trace)
    whole = trace if isinstance(trace, Trace) else None
    span_s = span_s if whole is None else whole.span_s
    _check(system, whole, span_s, window_s, is_taken=sink is not None)
    keeps = keeps and whole is not None
    columns = [name for name in system.columns if name in first.in_s]
    spec = spec_of(
        system, seed=seed, forced=forced, recorded_speed=first.source.recorded_speed, columns=columns,
        visitors=first.n_visitors, spends=spends and keeps,
    )  # fmt: skip
    arrived = (lambda _at_s: None) if sink is None else sink.arrived
    feed = Feed(
        chunks, window_s, carries=sink is not None, span_s=span_s, arrived=arrived, system=system, columns=columns,
        pins=spec.visitors > 0,
    )  # fmt: skip
    results = Results.of(len(first), records, services=len(system.hosted) * spec.spends) if keeps else None
    plane = _data_plane(data_plane, spec, results, None if sink is None else sink.take)
    plane.hand_in(*feed.next())
    control = Control(system, plane, feed, whole or TimesOfChunks(feed.start, span_s), seed, without)
    control.play(progress, watch)
    plane.flush()
    assert feed.span_s is not None
    return Run(
        results=results,
        span_s=feed.span_s,
        requests=feed.requests,
        routes=tuple(feed.routes) if whole is None else whole.routes,
        start=feed.start,
        edges_s=feed.edges_s,
        window_s=window_s,
        turns=plane.turns,
        services=control.records(window_s),
    )


def peek(trace: Trace | Iterable[Trace]) -> tuple[Trace, Iterable[Trace]]:
    """The first of some chunks, and all of them; of a whole trace that.

    Raises:
        TraceError: there is none.
    """
    if isinstance(trace, Trace):
        return trace, [trace]
    iterator = iter(trace)
    first = next(iterator, None)
    if not isinstance(first, Trace):
        raise TraceError(f"trace: found {first!r}; allowed: a Trace, or one or more of them as chunks")
    return first, itertools.chain([first], iterator)


def _check(system: System, whole: Trace | None, span_s: float | None, window_s: float, *, is_taken: bool) -> None:
    """See that it can be replayed, and afforded, before anything is.

    Raises:
        ReplayError, StudyError: it cannot.
    """
    if not window_s > 0:
        raise ReplayError(f"window_s: found {window_s!r}; allowed: a number of seconds above 0")
    for hosted in system.hosted if span_s is not None else ():
        _can_be_afforded(hosted.hosting, span_s or 0.0, window_s)
    if whole is None and not is_taken:
        raise ReplayError("chunks of a trace are replayed without keeping requests; there is nothing to take them")
    if whole is None and any(hosted.hosting.balancer == "pinned" for hosted in system.hosted):
        raise StudyError(
            f'plan {system.name!r}: balancer = "pinned" needs the whole trace, and this one comes in chunks'
        )


def _can_be_afforded(hosting: Hosting, span_s: float, window_s: float) -> None:
    """Refuse what would take more memory than there is, before it does.

    Raises:
        ReplayError: it cannot.
    """
    windows = span_s / window_s
    if windows > _MOST_WINDOWS:
        raise ReplayError(
            f"window_s: {window_s:g} s makes {windows:,.0f} windows of {units.show_duration(span_s)}; allowed: up to "
            f"{_MOST_WINDOWS:,}"
        )
    rule = hosting.scaling
    decisions = span_s / rule.interval_s if rule.interval_s else 0.0
    if decisions > MOST_DECISIONS:
        raise ReplayError(
            f"plan {hosting.plan!r}: every = {units.show_duration(rule.interval_s)} are {decisions:,.0f} decisions "
            f"in {units.show_duration(span_s)}; allowed: up to {MOST_DECISIONS:,}"
        )


def _data_plane(
    name: str, spec: SystemSpec, results: Results | None, tally: Callable[[Ended], None] | None
) -> DataPlane:
    if name == "compiled":
        from libramen.engine.kernel.state import KernelState

        return KernelState(spec, results, tally)
    if name == "plain":
        from libramen.engine.plain.state import PlainState

        return PlainState(spec, results, tally)
    raise ReplayError(f"data_plane: found {name!r}; allowed: 'compiled' or 'plain'")
