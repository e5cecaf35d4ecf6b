"""The trace: the requests to be replayed, as arrays."""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass, field, replace
from datetime import date, datetime, time
from functools import cached_property
from typing import TYPE_CHECKING, Any, Final, Self
from zoneinfo import ZoneInfo

import numpy as np

from libramen.base import units
from libramen.base.errors import TraceError, UnitError
from libramen.base.times import into_hour_s, local_time, parse_zone
from libramen.trace.growing import all_within, backs, first_back

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping

    import pandas as pd
    from numpy.typing import ArrayLike


MOST_REQUESTS: Final = 200_000_000
"""Requests of one trace in memory: some 15 GB with all columns. More come in chunks."""
_ARRAYS: Final = ("at_s", "cpu_s", "wait_s", "bytes_out", "latency_s", "status", "visitor", "route_codes")
_MOST: Final = {
    "at_s": units.LONGEST_S,
    "cpu_s": 1e6,
    "wait_s": 1e6,
    "latency_s": 1e6,
    "bytes_out": 1e15,
    "status": 999.0,
}
"""What is implausible and not taken: traces over ten years, single requests of over 1e6 s, ..."""


@dataclass(frozen=True)
class SkippedLine:
    """One line that could not be read; `line` 0: which one is not known any more."""

    file: str
    line: int
    reason: str


@dataclass(frozen=True)
class RouteDemand:
    """What the estimated demand of one route rests on."""

    route: str
    requests: int
    samples: int
    """Answers in quiet minutes; of an unqueued log those that took a slot."""
    minutes: str
    """Which minutes counted as quiet: "a quarter", "half" or "all"."""
    observed_mean_s: float
    work_mean_s: float


@dataclass(frozen=True)
class RouteCpu:
    """The CPU work of one route, from measured use."""

    route: str
    core_s: float
    """Core-seconds per request, on the cores that were measured."""
    error: float
    """Its standard error."""
    alike: str = ""
    """Another route that always comes with it, so that the two cannot be told apart; empty: there is none."""


@dataclass(frozen=True)
class Bottleneck:
    """Something that slows requests down, and is not in the study.

    Attributes:
        routes: where it shows, the one with most more work first.
        more: how much more work requests of that one have when most others are there than when fewest are, as a share
            of it, beyond what replays show in which nothing is missing.
        everywhere: whether it shows on all routes with enough requests.
    """

    routes: tuple[str, ...]
    more: float
    everywhere: bool


@dataclass(frozen=True)
class Demand:
    """How the demand of a trace came about, and what the estimate of each route rests on.

    Attributes:
        kind: "given", "quiet", "unqueued" or "observed".
        routes: one entry per route for "quiet" and "unqueued", else empty.
        doubts: what speaks against it, a sentence each; empty: nothing that can be seen in the log.
        cpu: one entry per route where the CPU use of the fleet was measured, else empty.
        bottleneck: what the log shows to slow requests down and the study does not have; None: nothing.
        busiest: requests a second in the busiest minute of the log, before anything was shaped; None: there is no log.
    """

    kind: str
    routes: tuple[RouteDemand, ...] = ()
    doubts: tuple[str, ...] = ()
    cpu: tuple[RouteCpu, ...] = ()
    bottleneck: Bottleneck | None = None
    busiest: float | None = None

    def to_frame(self) -> pd.DataFrame:
        """One row per route: requests, samples, minutes, observed mean and mean work [s], and their ratio."""
        import pandas as pd

        frame = pd.DataFrame([vars(route) for route in self.routes], columns=list(RouteDemand.__dataclass_fields__))
        return frame.assign(observed_over_work=frame["observed_mean_s"] / frame["work_mean_s"])

    def _repr_html_(self) -> str:
        return f"<p>demand: {self.kind}</p>" + str(self.to_frame().to_html(index=False))


@dataclass(frozen=True)
class Made:
    """What a trace table says of how it was made; `write_trace` writes it, and what it says is taken up again.

    Attributes:
        demand: how its cpu_s and wait_s came about: "given", "quiet", "unqueued" or "observed".
        waits_are_known: some of wait_s was measured (spans show it), not estimated.
        waits_include_calls: wait_s has the time in it that the columns in_NAME_s tell of.
        start, time_zone, span_s: of the trace, None: not said.
    """

    demand: str = "given"
    waits_are_known: bool = True
    waits_include_calls: bool = False
    start: str | None = None
    time_zone: str | None = None
    span_s: float | None = None

    @property
    def estimate(self) -> bool:
        """Whether cpu_s and wait_s are an estimate."""
        return self.demand != "given"

    def to_json(self) -> str:
        """As one line of text."""
        return json.dumps({key: value for key, value in vars(self).items() if value is not None})

    @classmethod
    def from_json(cls, text: str | bytes) -> Made:
        """Read what `to_json` has written.

        Raises:
            ValueError: it is something else.
        """
        values = json.loads(text)
        kinds = {
            "demand": str, "waits_are_known": bool, "waits_include_calls": bool, "start": str, "time_zone": str,
            "span_s": (int, float),
        }  # fmt: skip
        if not isinstance(values, dict) or not all(
            key in kinds and isinstance(value, kinds[key])  # type: ignore[arg-type]
            for key, value in values.items()
        ):
            raise ValueError(f"found {str(text)[:60]!r}")
        made = cls(**values)
        if made.demand not in {"given", "quiet", "unqueued", "observed"}:
            raise ValueError(f"found demand {made.demand!r}")
        return made


@dataclass(frozen=True)
class Source:
    """Where a trace came from, and what was done to it on the way."""

    files: tuple[str, ...] = ()
    format: str = "arrays"
    lines: int = 0
    skipped: int = 0
    first_skipped: tuple[SkippedLine, ...] = ()
    reasons: tuple[tuple[str, int], ...] = ()
    """Why lines were skipped, and how many for each reason, most first."""
    demand: Demand = Demand("given")
    notes: tuple[str, ...] = ()
    """What was assumed, a sentence each."""
    made: Made = Made()
    """What the table that it was read from says of itself."""
    sampled_share: float | None = None
    """Of the requests, what the source itself says that it kept; None: all."""
    whole_seconds: bool = False
    """Whether its time stamps have no parts of a second, which are then drawn or spread."""
    from_cache: bool = False
    """Whether it was not read again, but found as it was read before."""
    recorded_speed: float = 1.0
    """Speed of the core on which it was recorded."""
    calls_apart: bool = False
    """Whether the time that its columns `in_NAME_s` tell of was taken out of `wait_s`."""


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
        in_s: by name of a service float64 (n,), how much work the request is there [s], in the columns `in_NAME_s`.
        source: where it came from.
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
    in_s: dict[str, np.ndarray] = field(default_factory=dict)
    source: Source = field(default_factory=Source)

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
        told = [self.routes, self.span_s, start, self.source.recorded_speed, self.made.to_json()]
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
        rows = rows[order]
        optional: dict[str, Any] = {
            name: None if (array := getattr(self, name)) is None else array[rows]
            for name in ("bytes_out", "latency_s", "status", "visitor")
        }
        return replace(
            self,
            at_s=np.ascontiguousarray(at_s[order]),
            cpu_s=self.cpu_s[rows],
            wait_s=self.wait_s[rows],
            route_codes=self.route_codes[rows],
            in_s={name: values[rows] for name, values in self.in_s.items()},
            **optional,
            **changes,
        )

    def part(self, rows: slice) -> Self:
        """Some of the requests, without copying; times and span stay those of the whole."""
        optional: dict[str, Any] = {
            name: None if (array := getattr(self, name)) is None else array[rows]
            for name in ("bytes_out", "latency_s", "status", "visitor")
        }
        return replace(
            self,
            at_s=self.at_s[rows],
            cpu_s=self.cpu_s[rows],
            wait_s=self.wait_s[rows],
            route_codes=self.route_codes[rows],
            in_s={name: values[rows] for name, values in self.in_s.items()},
            **optional,
        )

    def later(self, seconds: float) -> Self:
        """The same requests counted from an instant that is so many seconds before the start."""
        start = None if self.start is None else self.local_time(-seconds)
        return replace(
            self,
            at_s=self.at_s + seconds,
            span_s=self.span_s + seconds,
            start=start,
        )

    @classmethod
    def from_frame(cls, frame: pd.DataFrame, **more: Any) -> Self:
        """Build a trace from a pandas frame, one row a request in order of time, with columns as `to_frame` names them.

        Args:
            frame: columns `at_s` and `cpu_s`; `wait_s`, `route`, `bytes_out`, `latency_s`, `status`, `visitor` and
                `in_NAME_s` where they are known.
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
        known = ("at_s", "cpu_s", "wait_s", "route", "bytes_out", "latency_s", "status", "visitor")
        if unknown := [name for name in columns if name not in known]:
            raise TraceError(f"from_frame: unknown column {unknown[0]!r}; allowed: {', '.join(known)} and in_NAME_s")
        return cls.from_arrays(**columns, in_s=in_s, **more)

    def to_frame(self) -> pd.DataFrame:
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
        columns |= {f"in_{name}_s": values for name, values in self.in_s.items()}
        return pd.DataFrame(columns)

    def _repr_html_(self) -> str:
        return f"<p>{self!r}</p>" + str(self.to_frame().head(10).to_html(index=False))

    def local_time(self, offset_s: float) -> datetime | None:
        """The local time at an offset from the start, None where the start is not known."""
        return local_time(self.start, offset_s)


def _fixed(array: np.ndarray) -> np.ndarray:
    """An array that nobody can write: itself, or a copy where it is seen through another one that may be written."""
    base = array.base
    while isinstance(base, np.ndarray):
        if base.flags.writeable:
            array = array.copy()
            break
        base = base.base
    array.flags.writeable = False
    return array


def _aligned(array: np.ndarray) -> np.ndarray:
    return _fixed(np.require(array, requirements="A"))


def _numbers(name: str, values: ArrayLike, n: int | None) -> np.ndarray:
    """The values as a C-contiguous float64 array of length n of our own, finite, not negative and not absurd."""
    try:
        given = np.asarray(values)
        # Complex numbers, times and text would be turned into floats, more or less silently.
        array = np.array(given, dtype=np.float64, order="C") if given.dtype.kind in "biufO" else None
    except (TypeError, ValueError, OverflowError):
        array = None
    if array is None:
        raise TraceError(f"{name}: found values that are not numbers; allowed: numbers of 0 or more")
    if array.ndim != 1:
        raise TraceError(f"{name}: found {array.ndim} dimensions; allowed: one")
    if n is not None and len(array) != n:
        raise TraceError(f"{name}: found {len(array)} values; allowed: as many as at_s, {n}")
    check_numbers(name, array)
    return array


def check_numbers(name: str, array: np.ndarray) -> None:
    """Refuse what is no number, negative or absurd.

    Raises:
        TraceError: there are such values.
    """
    most = _MOST.get(name, _MOST["wait_s"])
    if all_within(array, 0, most):
        return
    bad = np.flatnonzero(~((array >= 0) & (array <= most)))
    i = int(bad[0])
    limit = "ten years" if name == "at_s" else f"{most:g}"
    raise TraceError(f"{name}: row {i + 1} has {array[i]:g} ({bad.size} such rows); allowed: numbers from 0 to {limit}")


def _check_order(at_s: np.ndarray) -> None:
    if not len(at_s):
        raise TraceError("there is no request in this trace; allowed: one or more")
    i = first_back(at_s)
    if i is not None:
        raise TraceError(
            f"at_s must not go back: row {i + 1} has {at_s[i]:.6g} s after {at_s[i - 1]:.6g} s "
            f"({backs(at_s)} such rows); sort the requests by time first"
        )


def _span(span_s: float | None, at_s: np.ndarray) -> float:
    if span_s is not None and (isinstance(span_s, bool) or not isinstance(span_s, int | float | np.number)):
        raise TraceError(f"span_s: found {span_s!r}; allowed: a number of seconds")
    span = float(at_s[-1]) if span_s is None else float(span_s)
    if not (0 < span <= units.LONGEST_S and span >= at_s[-1]):
        raise TraceError(
            f"span_s: found {span:.6g} s; allowed: above 0, not before the last arrival, {at_s[-1]:.6g} s, and at "
            "most ten years"
        )
    return span


def _factorise(route: ArrayLike | None, n: int) -> tuple[np.ndarray, tuple[str, ...]]:
    if route is None:
        return np.zeros(n, np.int32), ("all",)
    labels = np.asarray(route).astype(str)
    if labels.shape != (n,):
        raise TraceError(f"route: found {labels.size} values; allowed: as many as at_s, {n}")
    routes, codes = np.unique(labels, return_inverse=True)
    return codes.astype(np.int32), tuple(str(name) for name in routes)


def visitor_codes(visitor: ArrayLike, n: int) -> np.ndarray:
    """Numbers for labels of visitors, in the order in which they first come: int32 (n,), -1: not known.

    Raises:
        TraceError: there are not as many as requests.
    """
    import pandas as pd

    labels = np.asarray(visitor)
    if labels.shape != (n,):
        raise TraceError(f"visitor: found {labels.size} values; allowed: as many as at_s, {n}")
    codes: np.ndarray = pd.factorize(labels)[0].astype(np.int32)
    return codes


def instant_of(start: date | str | None, time_zone: str | None) -> datetime | None:
    """The instant 0 of a trace as it is said: an ISO time, a datetime, or a day, which begins at midnight.

    Raises:
        TraceError: it is none of these, or there is no such zone.
    """
    if start is None:
        return None
    try:
        zone = None if time_zone is None else ZoneInfo(parse_zone(time_zone))
        instant = datetime.fromisoformat(start) if isinstance(start, str) else start
        if isinstance(instant, date) and not isinstance(instant, datetime):
            instant = datetime.combine(instant, time())  # a day begins at midnight
        if not isinstance(instant, datetime):
            raise TraceError(f"start: found {start!r}; allowed: an ISO time such as '2031-06-07T00:00', or a datetime")
    except UnitError as error:
        raise TraceError(f"time_zone: {error}") from None
    except ValueError:
        raise TraceError(f"start: found {start!r}; allowed: an ISO time such as '2031-06-07T00:00'") from None
    if instant.tzinfo is None:
        return instant.replace(tzinfo=zone or ZoneInfo("UTC"))
    return instant if zone is None else instant.astimezone(zone)
