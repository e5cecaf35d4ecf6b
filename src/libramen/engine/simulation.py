"""One replay: a trace, services and what they run on, on either data plane, under the control plane."""

from __future__ import annotations

import itertools
import math
import pickle
from collections.abc import Callable, Collection, Iterable
from typing import Any, Final, Literal, Protocol

import numpy as np

from libramen.base import units
from libramen.base.errors import ReplayError, StudyError, TraceError
from libramen.base.times import tolerance_s
from libramen.engine.border.gather import spec_of
from libramen.engine.border.plane import DataPlane
from libramen.engine.border.records import Ended, Results
from libramen.engine.border.specs import SystemSpec
from libramen.engine.control.fleet import Fleet
from libramen.engine.control.periodic import MOST_DECISIONS
from libramen.engine.control.play import Control, TimesOfChunks
from libramen.engine.feed import Feed
from libramen.engine.record import Run
from libramen.engine.sameness import renaming
from libramen.study.hosting import Hosting
from libramen.study.system import System, check_distances
from libramen.study.terms import Account
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
    progress: Callable[[float], None] | None = None,
    watch: Callable[[float, list[Fleet]], None] | None = None,
    **how: Any,
) -> Run:
    """Replay a trace against services and their plans, to the end.

    Args:
        trace: as of `Simulation`, like `system`.
        system: the services, what they run on, and who asks whom.
        progress: called now and then with the share of the trace that is replayed, from 0 to 1.
        watch: called a hundred times during the span with the instant [s] and the fleets; what it raises ends the
            replay.
        **how: the other arguments of `Simulation`.

    Returns:
        the record of it.

    Raises:
        ReplayError: an unknown data plane, or windows of no width.
        StudyError: a rollout is due at a time that is not in the trace, or that only a whole trace can tell; a request
            matches no service; the work of a call is not known.
        TraceError: chunks are not in order of time.
    """
    simulation = Simulation(trace, system, **how)
    simulation.listen(progress, watch)
    return simulation.finish()


class Simulation:
    """A replay that can be stopped at an instant, copied, gone on with elsewhere, and compared with another one.

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
        forced: `wait_s` of the trace is the instant at which each request leaves its slot, or as soon as it can, and
            `cpu_s` the share of the time from its CPU turn to then that it takes (0: it has none). For work that is
            estimated from a log, which knows when requests left; `Run.turns` then says how much CPU work they got.
        without: releases and faults that are left out, all else being as it is: service; "rollouts" or "faults" and
            the place in the plan's table (from 0), or "at_random" and the kind of faults.

    Attributes:
        is_over: whether every request has ended and the span is over.
        results: what has become of requests so far, None where they are not kept.

    Raises:
        ReplayError: an unknown data plane, or windows of no width.
        StudyError: a rollout is due at a time that is not in the trace, or that only a whole trace can tell; a request
            matches no service; the work of a call is not known.
        TraceError: chunks are not in order of time.

    Example:
        >>> simulation = Simulation(trace, system)  # doctest: +SKIP
        >>> simulation.advance(600.0)  # doctest: +SKIP
        >>> copy = simulation.snapshot()  # doctest: +SKIP
        >>> Simulation.restore(copy, trace).finish() == simulation.finish()  # doctest: +SKIP
    """

    def __init__(
        self,
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
        forced: bool = False,
        without: Collection[tuple[str, str, int | str]] = (),
        account: Account | None = None,
    ) -> None:
        first, chunks = peek(trace)
        whole = trace if isinstance(trace, Trace) else None
        span_s = span_s if whole is None else whole.span_s
        _check(system, whole, span_s, window_s, is_taken=sink is not None)
        keeps = keeps and whole is not None
        columns = [name for name in system.columns if name in first.in_s]
        # Where places do not matter it is only counted where requests came from.
        areas = system.areas_of(first.areas) if system.is_placed or not keeps else ()
        check_distances(system, first.areas)
        spec = spec_of(
            system, seed=seed, forced=forced, recorded_speed=first.source.recorded_speed, columns=columns,
            visitors=first.n_visitors, spends=spends and keeps, areas=areas,
        )  # fmt: skip
        self._feed = feed = Feed(
            chunks, window_s, carries=sink is not None, span_s=span_s, arrived=_arrived(sink), system=system,
            columns=columns, pins=spec.visitors > 0, areas=areas, seed=seed,
        )  # fmt: skip
        self._window_s, self._routes, self.is_over = window_s, None if whole is None else whole.routes, False
        self.results = Results.of(len(first), records, services=len(system.services) * spec.spends) if keeps else None
        self._plane = _data_plane(data_plane, spec, self.results, tallies=sink is not None)
        self._plane.tally = None if sink is None else sink.take
        self._plane.hand_in(*feed.next())
        timeline = whole or TimesOfChunks(feed.start, span_s)
        self._control = Control(system, self._plane, feed, timeline, seed, without, account or Account())

    def listen(
        self, progress: Callable[[float], None] | None, watch: Callable[[float, list[Fleet]], None] | None
    ) -> None:
        """From now on these are called; see `run`."""
        self._control.listen(progress, watch)

    def advance(self, until_s: float) -> None:
        """Let everything happen up to this instant [s], but for its arrivals; what is past stays so."""
        self.is_over = self.is_over or self._control.play(max(until_s, self._plane.last_s))

    def finish(self) -> Run:
        """Let everything happen, and say what became of it."""
        self.advance(math.inf)
        self._plane.flush()
        feed = self._feed
        assert feed.span_s is not None
        return Run(
            results=self.results,
            span_s=feed.span_s,
            requests=feed.requests,
            routes=tuple(feed.routes) if self._routes is None else self._routes,
            start=feed.start,
            edges_s=feed.edges_s,
            window_s=self._window_s,
            turns=self._plane.turns,
            services=self._control.records(self._window_s),
        )

    def snapshot(self) -> bytes:
        """All of it as it is now, but for the trace and whoever takes what ends, to whom it is handed over before.

        Raises:
            ReplayError: a rule is a function that another process could not import.
        """
        self._plane.flush()
        try:
            return pickle.dumps(self, pickle.HIGHEST_PROTOCOL)
        except (pickle.PicklingError, AttributeError, TypeError) as error:
            raise ReplayError(f"this replay cannot be copied: {error}; allowed: rules that can be imported") from None

    def is_same(self, other: Simulation) -> dict[str, dict[int, int]] | None:
        """Whether another replay, of the same trace and at the same instant, would go on as this one does.

        Instants and amounts that differ by less than 1e-9 count as one. What has been is not looked at: both may have
        come here on different ways.

        Args:
            other: it, on the compiled data plane like this one.

        Returns:
            by service what each replica that is not gone is called there, by what it is called here. It has the same
            size, zone, version and bank, is as warm, and has the same requests; ties go by number, so the renamed ones
            keep their order. None: it would not, or it cannot be told.

        Raises:
            ReplayError: they are not compiled.
        """
        here_s, there_s = self._plane.now_s, other._plane.now_s
        if self.is_over or other.is_over or abs(here_s - there_s) > tolerance_s(here_s):
            return None
        return renaming(self._control, other._control, here_s)

    @staticmethod
    def restore(snapshot: bytes, trace: Trace | Iterable[Trace], sink: Sink | None = None) -> Simulation:
        """Such a copy, to go on from.

        Args:
            snapshot: of this version of Libramen, and of your own: it can run code, like all that Python pickles.
            trace: that it was made of.
            sink: takes visits as they end; one, where there was one.

        Raises:
            ReplayError: it is another trace, or no copy.
        """
        try:
            simulation = pickle.loads(snapshot)  # noqa: S301  (the docstring says so)
        except (pickle.UnpicklingError, EOFError, AttributeError, ImportError) as error:
            raise ReplayError(f"snapshot: it cannot be read ({error}); allowed: one of this version") from None
        if not isinstance(simulation, Simulation):
            raise ReplayError(f"snapshot: found {simulation!r}; allowed: the copy of a simulation")
        simulation._plane.tally = None if sink is None else sink.take
        simulation._plane.hand_in(*simulation._feed.resume(peek(trace)[1], _arrived(sink)))
        return simulation


def _arrived(sink: Sink | None) -> Callable[[np.ndarray], None]:
    return (lambda _at_s: None) if sink is None else sink.arrived


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
    if whole is None and any(hosted.hosting.balances.pins for hosted in system.hosted):
        raise StudyError(
            f'plan {system.name!r}: balancer = "pinned" needs the whole trace, and this one comes in chunks'
        )
    if whole is None and any(hosted.hosting.reroute for hosted in system.hosted):
        raise StudyError(f"plan {system.name!r}: reroute needs the whole trace, and this one comes in chunks")


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


def _data_plane(name: str, spec: SystemSpec, results: Results | None, *, tallies: bool) -> DataPlane:
    if name == "compiled":
        from libramen.engine.kernel.state import KernelState

        return KernelState(spec, results, tallies=tallies)
    if name == "plain":
        from libramen.engine.plain.state import PlainState

        return PlainState(spec, results)
    raise ReplayError(f"data_plane: found {name!r}; allowed: 'compiled' or 'plain'")
