"""Hands the trace to a data plane: in slices, or chunk by chunk as it comes."""

from __future__ import annotations

import hashlib
import itertools
from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import datetime
from typing import Any, Final

import numpy as np

from libramen.base.errors import ReplayError, TraceError
from libramen.base.times import EPSILON_S, seconds_between
from libramen.engine.border.records import Chunk
from libramen.study.edge import hits_of
from libramen.study.places import NOWHERE
from libramen.study.system import System, check_distances
from libramen.trace.trace import Trace

SLICE: Final = 1 << 18
"""Requests handed over at once: a tenth of a second of a replay, so that Ctrl-C is heard."""


class Feed:
    """The chunks of a trace, and the edges of the windows up to the end of each.

    Attributes:
        requests: how many have been handed over.
        span_s: the time that the trace covers [s], None: not known before its end.
        start: the instant 0 as a real time, None: not known.
        routes: the labels met so far; the chunks' codes are indices into them.
        edges_s: of the windows, up to the end of the latest chunk [s].
    """

    def __init__(
        self,
        chunks: Iterable[Trace],
        window_s: float,
        *,
        carries: bool,
        span_s: float | None,
        arrived: Callable[[np.ndarray], None] = lambda _at_s: None,
        system: System,
        columns: Sequence[str] = (),
        pins: bool = False,
        areas: Sequence[str] = (),
        seed: int = 0,
    ) -> None:
        self._window_s, self._carries, self._arrived = window_s, carries, arrived
        self._system, self._columns, self._pins = system, columns, pins
        self._seed = seed
        self._areas = list(areas)  # names of the places from which requests may come; none: that does not matter
        # One service without routes takes all; else each route is looked up.
        self._sorts = len(system.hosted) > 1 or bool(system.hosted[0].service.routes)
        self._tables: tuple[np.ndarray, np.ndarray] = (np.zeros(0, np.int32), np.zeros((1, 1), np.int64))
        self.span_s = span_s
        self.requests = 0
        self.routes: list[str] = []
        self.start: datetime | None = None
        self.edges_s: np.ndarray = np.zeros(1)
        self._slices = self._sliced(chunks)
        self._handed_out = 0
        self._latest: Trace | str = ""  # slice; of a copy what is known of it, so that it is known again

    def __getstate__(self) -> dict[str, Any]:
        """Where it is in the trace, without the trace."""
        kept = {name: value for name, value in vars(self).items() if name not in {"_slices", "_arrived"}}
        return kept | {"_latest": _digest(self._latest)}

    def comparable(self, _now_s: float) -> list[object]:
        """Where it is in the trace: see `sameness`."""
        return [self.requests, _digest(self._latest), self.span_s, self.start, self.routes]

    def resume(self, chunks: Iterable[Trace], arrived: Callable[[np.ndarray], None]) -> tuple[Chunk, np.ndarray]:
        """The latest chunk once more, and the edges, from the trace that a copy was made of.

        Raises:
            ReplayError: it is another trace.
        """
        self._slices, self._arrived = self._sliced(chunks), arrived
        trace, span_s = next(itertools.islice(self._slices, self._handed_out - 1, None), (None, None))
        if trace is None or _digest(trace) != _digest(self._latest):
            raise ReplayError("trace: found another one than the copy was made of; allowed: the same")
        self._latest = trace
        return self._chunk(trace, self.requests - len(trace), last=span_s is not None), self.edges_s

    def next(self) -> tuple[Chunk, np.ndarray]:
        """The next chunk, and all edges of windows up to its end [s]."""
        trace, span_s = next(self._slices)
        if self.requests == 0:
            self.start = trace.start
        if span_s is not None:
            self.span_s = span_s
        self._handed_out, self._latest = self._handed_out + 1, trace
        first, self.requests = self.requests, self.requests + len(trace)
        self._arrived(trace.at_s)
        return self._chunk(trace, first, last=span_s is not None), self._edges(float(trace.at_s[-1]))

    def _chunk(self, trace: Trace, first: int, *, last: bool) -> Chunk:
        more: dict[str, np.ndarray] = {}
        if self._carries or self._sorts:
            more["route"] = self._codes(trace)
        if self._carries:
            more["bytes_out"] = np.zeros(len(trace)) if trace.bytes_out is None else trace.bytes_out
        if self._sorts:
            if len(self._tables[0]) != len(self.routes):
                self._tables = self._system.servers_of(self.routes), self._system.applies(self.routes)
            more |= {"server": self._tables[0][more["route"]], "applies": self._tables[1]}
        if self._pins:
            more["visitor"] = np.full(len(trace), -1, np.int32) if trace.visitor is None else trace.visitor
        if (edge := self._system.edge) is not None:
            shares = edge.shares(trace.routes)[trace.route_codes]
            more["hit"] = hits_of(self._seed, first, shares).astype(np.int32)
        if self._areas:
            more["area"] = self._area_codes(trace)
        if self._columns:
            more["given_s"] = np.stack([trace.in_s[name] for name in self._columns], axis=1)
        return Chunk(trace.at_s, trace.cpu_s, trace.wait_s, first=first, last=last, **more)

    def _edges(self, to_s: float) -> np.ndarray:
        """The edges that are known: all of them once the span is, else those up to `to_s`."""
        if self.span_s is not None:
            if self.edges_s[-1] != self.span_s:
                inner = np.arange(0.0, self.span_s - EPSILON_S, self._window_s)
                self.edges_s = np.append(inner, self.span_s)
        elif to_s >= self.edges_s[-1]:
            # Twice as many as needed, so that they are made seldom; those beyond the span are dropped at last.
            self.edges_s = self._window_s * np.arange(2 * int(to_s / self._window_s) + 2)
        return self.edges_s

    def _sliced(self, chunks: Iterable[Trace]) -> Iterator[tuple[Trace, float | None]]:
        """Slices of the chunks, the last one with the span of the whole."""
        before, ended_s, start = None, 0.0, None
        for number, given in enumerate(chunks):
            chunk = given
            if number == 0:
                start = chunk.start
            elif start is not None and chunk.start is not None and chunk.start != start:
                chunk = chunk.later(seconds_between(start, chunk.start))
            if chunk.at_s[0] < ended_s:
                raise TraceError(
                    f"chunk {chunk!r} begins at {chunk.at_s[0]:.6g} s, but the one before it ends at {ended_s:.6g} s; "
                    "allowed: chunks in order of time"
                )
            ended_s = float(chunk.at_s[-1])
            for first in range(0, len(chunk), SLICE):
                if before is not None:
                    yield before, None
                before = chunk if len(chunk) <= SLICE else chunk.part(slice(first, first + SLICE))
        if before is None:
            raise TraceError("there is no request in this trace; allowed: one or more")
        span_s = self.span_s if self.span_s is not None else before.span_s
        if span_s < ended_s:
            raise TraceError(f"span_s: found {span_s:.6g} s; allowed: not before the last arrival at {ended_s:.6g} s")
        yield before, span_s

    def _area_codes(self, trace: Trace) -> np.ndarray:
        """Where the requests of a chunk come from: places in the list of areas.

        Raises:
            StudyError: nobody says how far some area is from wherever they may be sent.
        """
        if trace.area is None:
            return np.full(len(trace), self._areas.index(NOWHERE), np.int32)
        check_distances(self._system, trace.areas)
        codes = np.array([self._areas.index(name) for name in trace.areas], np.int32)
        placed: np.ndarray = codes[trace.area]
        return placed

    def _codes(self, trace: Trace) -> np.ndarray:
        """The route codes of a chunk, in the labels of the whole."""
        for route in trace.routes:
            if route not in self.routes:
                self.routes.append(route)
        if trace.routes == tuple(self.routes[: len(trace.routes)]):
            return trace.route_codes
        codes: np.ndarray = np.array([self.routes.index(route) for route in trace.routes], np.int32)
        remapped: np.ndarray = codes[trace.route_codes]
        return remapped


def _digest(trace: Trace | str) -> str:
    """Of the arrivals and the work of a slice, or what it is already."""
    if isinstance(trace, str):
        return trace
    found = hashlib.blake2b(digest_size=16)
    for column in (trace.at_s, trace.cpu_s, trace.wait_s):
        found.update(column.tobytes())
    return found.hexdigest()
