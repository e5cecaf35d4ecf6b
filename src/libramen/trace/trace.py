"""The trace: the requests to be replayed, as arrays."""

from __future__ import annotations

import hashlib
import json
import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from datetime import date, datetime
from functools import cached_property
from typing import Any, Final, Self

import numpy as np
from numpy.typing import ArrayLike

from libramen.base import heavy, units
from libramen.base.errors import TraceError
from libramen.base.streams import stream
from libramen.base.times import into_hour_s, local_time
from libramen.trace.arrays import (
    _MOST,
    _aligned,
    _check_order,
    _factorise,
    _fixed,
    _numbers,
    _span,
    check_numbers,
    instant_of,
    visitor_codes,
)
from libramen.trace.source import Demand, Made, RouteCpu, RouteDemand, Source

_ARRAYS: Final = ("at_s", "cpu_s", "wait_s", "bytes_out", "latency_s", "status", "visitor", "area", "route_codes")


@dataclass(frozen=True, eq=False)
class Trace:
    """Requests in order of arrival. Build one with `read_trace` or `Trace.from_arrays`.

    Attributes:
        at_s: float64 (n,), arrival [s from the start], never going back.
        cpu_s: float64 (n,), CPU work on a core of speed 1 [core-seconds], >= 0.
        wait_s: float64 (n,), time spent waiting on something else [s], >= 0.
        span_s: the time that the trace covers [s].
        start: the instant 0 as a real time with its time zone, None: not known.
        route_codes: int32 (n,), index into `routes`.
        routes: labels of what was asked for.
        bytes_out: float64 (n,), size of each answer [bytes], None: not known.
        latency_s: float64 (n,), as a log observed it [s], None: not known.
        status: int16 (n,), HTTP status as observed, None: not known.
        visitor: int32 (n,), number of whoever sent it, -1: not known; None: nobody is.
        area: int32 (n,), index into `areas`; None: nobody knows where anybody is.
        areas: names of where requests come from.
        in_s: by name of a service float64 (n,), how much work the request is there [s], in the columns `in_NAME_s`.
        source: where it came from.
        gaps: between the files that it was read from, from when to when [s].
    """

    at_s: np.ndarray
    cpu_s: np.ndarray
    wait_s: np.ndarray
    span_s: float
    start: datetime | None
    route_codes: np.ndarray
    routes: tuple[str, ...]
    bytes_out: np.ndarray | None = None
    latency_s: np.ndarray | None = None
    status: np.ndarray | None = None
    visitor: np.ndarray | None = None
    area: np.ndarray | None = None
    areas: tuple[str, ...] = ()
    in_s: dict[str, np.ndarray] = field(default_factory=dict)
    source: Source = field(default_factory=Source)
    gaps: tuple[tuple[float, float], ...] = ()

    def __post_init__(self) -> None:
        """No array can be written any more: figures are kept by what is in them."""
        for name in _ARRAYS:
            if (array := getattr(self, name)) is not None:
                object.__setattr__(self, name, _fixed(array))
        object.__setattr__(self, "in_s", {name: _fixed(values) for name, values in self.in_s.items()})

    @cached_property
    def content_key(self) -> str:
        """By what its content is known: all that a replay may depend on."""
        digest = hashlib.blake2b(digest_size=20)
        arrays = {name: getattr(self, name) for name in _ARRAYS}
        arrays |= {f"in {name}": values for name, values in sorted(self.in_s.items())}
        for name, array in arrays.items():
            if array is not None:
                digest.update(f"{name}\0{array.dtype.str}{array.shape}\0".encode())
                digest.update(np.ascontiguousarray(array).data)
        start = None if self.start is None else [self.start.isoformat(), str(self.start.tzinfo)]
        told = [self.routes, self.span_s, start, self.source.recorded_speed, self.made.to_json(), self.gaps, self.areas]
        digest.update(json.dumps(told).encode())
        return digest.hexdigest()

    def noted_as(self, **source: Any) -> Self:
        """The same trace, of which something else is said of where it came from; it is known by the same keys."""
        same = replace(self, source=replace(self.source, **source))
        for name in ("_cache_key", "content_key"):
            if name in self.__dict__:
                same.__dict__[name] = self.__dict__[name]
        return same

    def kept_as(self, key: str, content_key: str | None = None) -> Self:
        """The same trace, which the cache knows by a key; what is made of it is not known by that key any more."""
        same = replace(self)
        same.__dict__["_cache_key"] = key
        same.__dict__["content_key"] = content_key or self.content_key
        return same

    @property
    def cache_key(self) -> str | None:
        """By what the cache knows it; None: it is not there."""
        key: str | None = self.__dict__.get("_cache_key")
        return key

    def __setstate__(self, state: dict[str, Any]) -> None:
        """After it was sent to a worker, where the bytes of an array may begin anywhere.

        To look something up in such an array takes a copy of it each time.
        """
        for name, value in state.items():
            self.__dict__[name] = _aligned(value) if isinstance(value, np.ndarray) else value
        self.__dict__["in_s"] = {name: _aligned(values) for name, values in self.in_s.items()}

    @classmethod
    def from_arrays(
        cls,
        at_s: ArrayLike,
        cpu_s: ArrayLike,
        wait_s: ArrayLike | None = None,
        *,
        route: ArrayLike | None = None,
        bytes_out: ArrayLike | None = None,
        latency_s: ArrayLike | None = None,
        status: ArrayLike | None = None,
        visitor: ArrayLike | None = None,
        area: ArrayLike | None = None,
        in_s: Mapping[str, ArrayLike] | None = None,
        span_s: float | None = None,
        start: date | str | None = None,
        time_zone: str | None = None,
        source: Source | None = None,
    ) -> Self:
        """Build a trace from arrays of one length n.

        Args:
            at_s: arrivals [s from the start], finite, >= 0, never going back.
            cpu_s: CPU work on a core of speed 1 [core-seconds], finite, >= 0.
            wait_s: waiting on something else [s], finite, >= 0. Default: none.
            route: labels. Default: all `"all"`.
            bytes_out: sizes of the answers [bytes], >= 0.
            latency_s: observed latencies [s], >= 0.
            status: observed HTTP statuses.
            visitor: who sent each: any labels, None or NaN: not known.
            area: where each comes from: labels.
            in_s: work of each request at services that are called, by their names [s], >= 0.
            span_s: the time that the trace covers [s]. Default: the last arrival.
            start: the instant 0: an ISO time, a datetime, or a day, which begins at midnight.
            time_zone: zone for local times. Default: that of `start`, or UTC.
            source: where the requests came from, for reports. Default: from arrays.

        Raises:
            TraceError: the lengths differ, a time goes back, or a value is not allowed.

        Example:
            >>> trace = Trace.from_arrays(at_s=[0.0, 0.5], cpu_s=[0.1, 0.1], wait_s=[0.2, 0.0])
            >>> len(trace), trace.span_s
            (2, 0.5)
        """
        at = _numbers("at_s", at_s, None)
        n = len(at)
        _check_order(at)
        cpu = _numbers("cpu_s", cpu_s, n)
        wait = np.zeros(n) if wait_s is None else _numbers("wait_s", wait_s, n)
        span = _span(span_s, at)
        codes, routes = _factorise(route, n)
        area_codes, areas = (None, ()) if area is None else _factorise(area, n, "area")
        return cls(
            at_s=at,
            cpu_s=cpu,
            wait_s=wait,
            span_s=span,
            start=instant_of(start, time_zone),
            route_codes=codes,
            routes=routes,
            bytes_out=None if bytes_out is None else _numbers("bytes_out", bytes_out, n),
            latency_s=None if latency_s is None else _numbers("latency_s", latency_s, n),
            status=None if status is None else _numbers("status", status, n).astype(np.int16),
            visitor=None if visitor is None else visitor_codes(visitor, n),
            area=area_codes,
            areas=areas,
            in_s={name: _numbers(f"in_{name}_s", values, n) for name, values in (in_s or {}).items()},
            source=Source() if source is None else source,
        )

    @classmethod
    def of_own_arrays(
        cls,
        *,
        at_s: np.ndarray,
        span_s: float | None,
        start: datetime | None,
        in_s: dict[str, np.ndarray],
        **columns: Any,
    ) -> Self:
        """A trace of arrays of the right kinds that nobody else has: they are checked, and not copied.

        Raises:
            TraceError: as `from_arrays`.
        """
        check_numbers("at_s", at_s)
        _check_order(at_s)
        arrays = {**columns, **{f"in_{name}_s": values for name, values in in_s.items()}, "at_s": at_s}
        for name, array in arrays.items():
            if not isinstance(array, np.ndarray):
                continue
            if name in _MOST or name.startswith("in_"):
                check_numbers(name, array)
            while array is not None:  # what it is seen through is nobody else's either
                array.flags.writeable = False
                array = array.base if isinstance(array.base, np.ndarray) else None  # noqa: PLW2901
        return cls(at_s=at_s, span_s=_span(span_s, at_s), start=instant_of(start, None), in_s=in_s, **columns)

    @property
    def into_hour_s(self) -> float:
        """How far into an hour of the clock it begins [s]; 0 where that is not known."""
        return into_hour_s(self.start)

    @property
    def demand(self) -> Demand:
        """How `cpu_s` and `wait_s` came about, and what they rest on."""
        return self.source.demand

    @property
    def demand_in_words(self) -> str:
        """`quiet`; of a table that brings an estimate `given (quiet)`."""
        made = self.source.made
        return f"given ({made.demand})" if self.demand.kind == "given" and made.estimate else self.demand.kind

    @property
    def made(self) -> Made:
        """What a table of it says of itself."""
        before, kind = self.source.made, self.demand.kind
        return Made(
            demand=before.demand if kind == "given" else kind,
            waits_are_known=before.waits_are_known if before.estimate else self.source.format == "spans",
            waits_include_calls=bool(self.in_s)
            and not self.source.calls_apart
            and (self.source.format == "spans" or before.waits_include_calls),
            start=None if self.start is None else self.start.isoformat(),
            time_zone=None if self.start is None else str(self.start.tzinfo),
            span_s=self.span_s,
        )

    def without_calls(self, services: Iterable[str]) -> Self:
        """The same requests without the time in `wait_s` that services take which are replayed themselves.

        Args:
            services: those whose columns `in_NAME_s` are used, which is a matter of the plan that is replayed.
        """
        taken = sorted(set(services) & set(self.in_s))
        if not taken or not self.made.waits_include_calls:
            return self
        wait_s = self.wait_s
        for name in taken:
            wait_s = np.maximum(0.0, wait_s - self.in_s[name])
        return replace(self, wait_s=wait_s, source=replace(self.source, calls_apart=True))

    def recorded_at(self, speed: float) -> Self:
        """The same requests, recorded on cores of that speed."""
        return replace(self, source=replace(self.source, recorded_speed=speed))

    @property
    def n_visitors(self) -> int:
        """How many visitors there are, where they are known."""
        return 0 if self.visitor is None else int(self.visitor.max()) + 1

    def with_areas(self, shares: Mapping[str, float], seed: int) -> Self:
        """The same requests, each of an area that is drawn: one for each visitor, or for each request of nobody.

        Args:
            shares: of each area; they make 1.
            seed: random seed.
        """
        names, edges = tuple(shares), np.cumsum(list(shares.values()))
        drawn = stream(seed, "area").random(len(self))
        if self.visitor is not None:
            by_visitor = stream(seed, "area", 1).random(self.n_visitors)
            drawn = np.where(self.visitor >= 0, by_visitor[np.maximum(self.visitor, 0)], drawn)
        codes = np.minimum(np.searchsorted(edges, drawn, side="right"), len(names) - 1).astype(np.int32)
        return replace(self, area=codes, areas=names)

    def __len__(self) -> int:
        return len(self.at_s)

    def __repr__(self) -> str:
        when = "" if self.start is None else f" from {self.start:%Y-%m-%d %H:%M}"
        return f"Trace({len(self):,} requests over {units.show_duration(self.span_s)}{when})"

    def with_demand(
        self,
        cpu_s: np.ndarray,
        wait_s: np.ndarray,
        *,
        demand: str,
        notes: tuple[str, ...],
        routes: tuple[RouteDemand, ...] = (),
        doubts: tuple[str, ...] = (),
    ) -> Self:
        """The same requests with other work."""
        made = Demand(demand, routes, doubts, busiest=self.demand.busiest)
        source = replace(self.source, demand=made, notes=(*self.source.notes, *notes))
        for name, array in (("cpu_s", cpu_s), ("wait_s", wait_s)):
            if array.shape != self.at_s.shape:
                raise TraceError(f"{name}: found {array.size} values; allowed: as many as at_s, {len(self)}")
            check_numbers(name, array)
        return replace(self, cpu_s=cpu_s, wait_s=wait_s, source=source)

    def measured(self, cpu: Iterable[RouteCpu], *notes: str) -> Self:
        """The same trace, knowing what its CPU work rests on."""
        demand = replace(self.source.demand, cpu=tuple(cpu))
        return replace(self, source=replace(self.source, demand=demand)).noted(*notes)

    def knowing(self, **demand: Any) -> Self:
        """The same trace, of whose work something more is known; it is known by the same keys."""
        return self.noted_as(demand=replace(self.source.demand, **demand))

    def noted(self, *notes: str) -> Self:
        """The same trace with some sentences more about where it comes from."""
        return replace(self, source=replace(self.source, notes=(*self.source.notes, *notes)))

    def take(self, rows: np.ndarray, at_s: np.ndarray | None = None, **changes: Any) -> Self:
        """Some of the requests, by index, perhaps at other times; sorted by time where these are not."""
        at_s = self.at_s[rows] if at_s is None else at_s
        order = np.argsort(at_s, kind="stable")
        return replace(self.part(rows[order]), at_s=np.ascontiguousarray(at_s[order]), **changes)

    def part(self, rows: slice | np.ndarray) -> Self:
        """Some of the requests, a slice of them without copying; times and span stay those of the whole."""
        arrays: dict[str, Any] = {
            name: None if (array := getattr(self, name)) is None else array[rows] for name in _ARRAYS
        }
        return replace(self, in_s={name: values[rows] for name, values in self.in_s.items()}, **arrays)

    def later(self, seconds: float) -> Self:
        """The same requests counted from an instant that is so many seconds before the start."""
        start = None if self.start is None else self.local_time(-seconds)
        gaps = shifted(self.gaps, seconds)
        return replace(self, at_s=self.at_s + seconds, span_s=self.span_s + seconds, start=start, gaps=gaps)

    @classmethod
    def from_frame(cls, frame: heavy.DataFrame, **more: Any) -> Self:
        """Build a trace from a pandas frame, one row a request in order of time, with columns as `to_frame` names them.

        Args:
            frame: columns `at_s` and `cpu_s`; `wait_s`, `route`, `bytes_out`, `latency_s`, `status`, `visitor`, `area`
                and `in_NAME_s` where they are known.
            **more: `span_s`, `start`, `time_zone` and `source`, as in `from_arrays`.

        Raises:
            TraceError: a column is missing or unknown, or a value is not allowed.

        Example:
            >>> import pandas as pd
            >>> len(Trace.from_frame(pd.DataFrame({"at_s": [0.0, 0.5], "cpu_s": [0.1, 0.1]})))
            2
        """
        columns: dict[str, Any] = {str(name): frame[name].to_numpy() for name in frame.columns}
        in_s = {
            name[3:-2]: columns.pop(name) for name in list(columns) if name.startswith("in_") and name.endswith("_s")
        }
        if missing := [name for name in ("at_s", "cpu_s") if name not in columns]:
            raise TraceError(
                f"from_frame: the column {missing[0]} is missing; found {', '.join(map(str, frame.columns)) or 'none'}"
            )
        known = ("at_s", "cpu_s", "wait_s", "route", "bytes_out", "latency_s", "status", "visitor", "area")
        if unknown := [name for name in columns if name not in known]:
            raise TraceError(f"from_frame: unknown column {unknown[0]!r}; allowed: {', '.join(known)} and in_NAME_s")
        return cls.from_arrays(**columns, in_s=in_s, **more)

    def to_frame(self) -> heavy.DataFrame:
        """The requests as a pandas frame, one row each, with the columns that are known.

        Visitors have numbers there, and none (NaN) where nobody knows who sent a request.
        """
        import pandas as pd

        columns: dict[str, Any] = {"at_s": self.at_s, "cpu_s": self.cpu_s, "wait_s": self.wait_s}
        columns["route"] = pd.Categorical.from_codes(self.route_codes.tolist(), categories=pd.Index(self.routes))
        for name in ("bytes_out", "latency_s", "status"):
            if getattr(self, name) is not None:
                columns[name] = getattr(self, name)
        if self.visitor is not None:
            columns["visitor"] = np.where(self.visitor < 0, np.nan, self.visitor)
        if self.area is not None:
            columns["area"] = pd.Categorical.from_codes(self.area.tolist(), categories=pd.Index(self.areas))
        columns |= {f"in_{name}_s": values for name, values in self.in_s.items()}
        return pd.DataFrame(columns)

    def _repr_html_(self) -> str:
        return f"<p>{self!r}</p>" + str(self.to_frame().head(10).to_html(index=False))

    def local_time(self, offset_s: float) -> datetime | None:
        """The local time at an offset from the start, None where the start is not known."""
        return local_time(self.start, offset_s)


def shifted(
    gaps: Iterable[tuple[float, float]], by_s: float, to_s: float = math.inf
) -> tuple[tuple[float, float], ...]:
    """Gaps counted from an instant that is so many seconds before the start, as far as they are from 0 to an end."""
    moved = ((max(0.0, begin_s + by_s), min(to_s, end_s + by_s)) for begin_s, end_s in gaps)
    return tuple((begin_s, end_s) for begin_s, end_s in moved if end_s > begin_s)
