"""The trace: the requests to be replayed, as arrays."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING, Any, Self
from zoneinfo import ZoneInfo

import numpy as np

from libramen import units
from libramen.errors import TraceError, UnitError
from libramen.study.moments import parse_zone

if TYPE_CHECKING:
    import pandas as pd
    from numpy.typing import ArrayLike


@dataclass(frozen=True)
class SkippedLine:
    """One line that could not be read."""

    file: str
    line: int
    reason: str


@dataclass(frozen=True)
class RouteDemand:
    """What the estimated demand of one route rests on."""

    route: str
    requests: int
    samples: int
    """Answers in quiet minutes."""
    minutes: str
    """Which minutes counted as quiet: "a quarter", "half" or "all"."""
    observed_mean_s: float
    quiet_mean_s: float


@dataclass(frozen=True)
class Demand:
    """How the demand of a trace came about, and what the estimate of each route rests on.

    Attributes:
        kind: "given", "quiet" or "observed".
        routes: one entry per route for "quiet", else empty.
    """

    kind: str
    routes: tuple[RouteDemand, ...] = ()

    def to_frame(self) -> pd.DataFrame:
        """One row per route: requests, samples, minutes, observed and quiet mean [s], and their ratio."""
        import pandas as pd

        frame = pd.DataFrame([vars(route) for route in self.routes], columns=list(RouteDemand.__dataclass_fields__))
        return frame.assign(observed_over_quiet=frame["observed_mean_s"] / frame["quiet_mean_s"])

    def _repr_html_(self) -> str:
        return f"<p>demand: {self.kind}</p>" + str(self.to_frame().to_html(index=False))


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
    sampled_share: float | None = None
    """Of the requests, what the source itself says that it kept; None: all."""


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
    source: Source = field(default_factory=Source)

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
        span_s: float | None = None,
        start: datetime | str | None = None,
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
            span_s: the time that the trace covers [s]. Default: the last arrival.
            start: the instant 0, an ISO time or a datetime.
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
        if n == 0:
            raise TraceError("there is no request in this trace; allowed: one or more")
        back = np.flatnonzero(np.diff(at) < 0)
        if back.size:
            i = int(back[0]) + 1
            raise TraceError(
                f"at_s must not go back: row {i + 1} has {at[i]:.6g} s after {at[i - 1]:.6g} s "
                f"({back.size} such rows); sort the requests by time first"
            )
        cpu = _numbers("cpu_s", cpu_s, n)
        wait = np.zeros(n) if wait_s is None else _numbers("wait_s", wait_s, n)
        span = float(at[-1]) if span_s is None else float(span_s)
        if not np.isfinite(span) or span <= 0 or span < at[-1]:
            raise TraceError(
                f"span_s: found {span:.6g} s; allowed: above 0 and not before the last arrival, {at[-1]:.6g} s"
            )
        codes, routes = _factorise(route, n)
        return cls(
            at_s=at,
            cpu_s=cpu,
            wait_s=wait,
            span_s=span,
            start=_start(start, time_zone),
            route_codes=codes,
            routes=routes,
            bytes_out=None if bytes_out is None else _numbers("bytes_out", bytes_out, n),
            latency_s=None if latency_s is None else _numbers("latency_s", latency_s, n),
            status=None if status is None else _numbers("status", status, n).astype(np.int16),
            source=Source() if source is None else source,
        )

    @property
    def demand(self) -> Demand:
        """How `cpu_s` and `wait_s` came about, and what they rest on."""
        return self.source.demand

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
    ) -> Self:
        """The same requests with other work."""
        source = replace(self.source, demand=Demand(demand, routes), notes=(*self.source.notes, *notes))
        return replace(
            self,
            cpu_s=_numbers("cpu_s", cpu_s, len(self)),
            wait_s=_numbers("wait_s", wait_s, len(self)),
            source=source,
        )

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
            for name in ("bytes_out", "latency_s", "status")
        }
        return replace(
            self,
            at_s=np.ascontiguousarray(at_s[order]),
            cpu_s=self.cpu_s[rows],
            wait_s=self.wait_s[rows],
            route_codes=self.route_codes[rows],
            **optional,
            **changes,
        )

    def part(self, rows: slice) -> Self:
        """Some of the requests, without copying; times and span stay those of the whole."""
        optional: dict[str, Any] = {
            name: None if (array := getattr(self, name)) is None else array[rows]
            for name in ("bytes_out", "latency_s", "status")
        }
        return replace(
            self,
            at_s=self.at_s[rows],
            cpu_s=self.cpu_s[rows],
            wait_s=self.wait_s[rows],
            route_codes=self.route_codes[rows],
            **optional,
        )

    def later(self, seconds: float) -> Self:
        """The same requests counted from an instant that is so many seconds before the start."""
        start = None if self.start is None else self.local_time(-seconds)
        return replace(self, at_s=self.at_s + seconds, span_s=self.span_s + seconds, start=start)

    def to_frame(self) -> pd.DataFrame:
        """The requests as a pandas frame, one row each, with the columns that are known."""
        import pandas as pd

        columns: dict[str, Any] = {"at_s": self.at_s, "cpu_s": self.cpu_s, "wait_s": self.wait_s}
        columns["route"] = pd.Categorical.from_codes(self.route_codes.tolist(), categories=pd.Index(self.routes))
        for name in ("bytes_out", "latency_s", "status"):
            if getattr(self, name) is not None:
                columns[name] = getattr(self, name)
        return pd.DataFrame(columns)

    def _repr_html_(self) -> str:
        return f"<p>{self!r}</p>" + str(self.to_frame().head(10).to_html(index=False))

    def local_time(self, offset_s: float) -> datetime | None:
        """The local time at an offset from the start, None where the start is not known."""
        return local_time(self.start, offset_s)


def local_time(start: datetime | None, offset_s: float) -> datetime | None:
    """The local time at an offset from a start, None where the start is not known."""
    if start is None:
        return None
    return (start.astimezone(UTC) + timedelta(seconds=offset_s)).astimezone(start.tzinfo)


def _numbers(name: str, values: ArrayLike, n: int | None) -> np.ndarray:
    """The values as a C-contiguous float64 array of length n, finite and not negative."""
    try:
        array = np.ascontiguousarray(values, dtype=np.float64)
    except (TypeError, ValueError):
        raise TraceError(f"{name}: found values that are not numbers; allowed: numbers of 0 or more") from None
    if array.ndim != 1:
        raise TraceError(f"{name}: found {array.ndim} dimensions; allowed: one")
    if n is not None and len(array) != n:
        raise TraceError(f"{name}: found {len(array)} values; allowed: as many as at_s, {n}")
    bad = np.flatnonzero(~np.isfinite(array) | (array < 0))
    if bad.size:
        i = int(bad[0])
        raise TraceError(
            f"{name}: row {i + 1} has {array[i]} ({bad.size} such rows); allowed: finite numbers of 0 or more"
        )
    return array


def _factorise(route: ArrayLike | None, n: int) -> tuple[np.ndarray, tuple[str, ...]]:
    if route is None:
        return np.zeros(n, np.int32), ("all",)
    labels = np.asarray(route).astype(str)
    if labels.shape != (n,):
        raise TraceError(f"route: found {labels.size} values; allowed: as many as at_s, {n}")
    routes, codes = np.unique(labels, return_inverse=True)
    return codes.astype(np.int32), tuple(str(name) for name in routes)


def _start(start: datetime | str | None, time_zone: str | None) -> datetime | None:
    if start is None:
        return None
    try:
        zone = None if time_zone is None else ZoneInfo(parse_zone(time_zone))
        instant = datetime.fromisoformat(start) if isinstance(start, str) else start
    except UnitError as error:
        raise TraceError(f"time_zone: {error}") from None
    except ValueError:
        raise TraceError(f"start: found {start!r}; allowed: an ISO time such as '2031-06-07T00:00'") from None
    if instant.tzinfo is None:
        return instant.replace(tzinfo=zone or ZoneInfo("UTC"))
    return instant if zone is None else instant.astimezone(zone)
