"""A picture of the load: what a trace has, when, and what it cannot tell."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, timedelta
from typing import Any, Final, NamedTuple

import numpy as np

from libramen.base import heavy
from libramen.base.errors import StudyError
from libramen.base.ranks import PERCENTILES, nearest_rank
from libramen.base.shown import Shown, figure_of
from libramen.base.times import quietest
from libramen.trace.growing import Growing, blocks, counted
from libramen.trace.implausible import quiet_doubts
from libramen.trace.trace import Trace

_WINDOWS: Final = {"1s": 1.0, "1min": 60.0, "1h": 3600.0}
_QUIET_S: Final = (1800.0, 7200.0)


class Peak(NamedTuple):
    """The highest mean rate over windows of one length, aligned to the start."""

    per_second: float
    at_s: float


class RouteLoad(NamedTuple):
    """One route of a trace; latencies [s] and bytes None where they are not known."""

    route: str
    requests: int
    share: float
    p50: float | None
    p95: float | None
    p99: float | None
    bytes: float | None


class AreaLoad(NamedTuple):
    """One area of a trace, where its users are; latencies [s] None where they are not known."""

    area: str
    requests: int
    share: float
    p50: float | None
    p95: float | None


class HourLoad(NamedTuple):
    """The requests of one local hour of the day, over all days, and their latencies [s]."""

    hour: int
    requests: int
    p50: float
    p95: float
    p99: float


class Quiet(NamedTuple):
    """The quietest window of one length."""

    at_s: float
    length_s: float
    requests: int


@dataclass(frozen=True, eq=False)
class Summary(Shown):
    """What `libramen trace inspect` tells of a trace.

    Attributes:
        trace: what it is about.
        mean_rate: arrivals per second over the span.
        peaks: by length of the window: "1s", "1min", "1h".
        dispersion: index of dispersion of counts per minute, their variance over their mean (1 for a
            Poisson process of constant rate; Cox and Lewis 1966), None for fewer than two minutes.
        week: float64 (7, 24), mean arrivals per second by weekday and local hour, NaN where the trace
            has none of that hour; None where the start is not known.
        hours: the latencies of each local hour of the day that has requests; empty where they, or the start, are not
            known.
        statuses: requests by HTTP status; empty where it is not known.
        routes: busiest first.
        areas: where users are, the most first; empty: nobody knows.
        concurrency: requests in progress as observed: mean by Little's law (rate x mean latency), mean
            over the span and greatest number counted; None without latencies.
        quiet: the quietest windows of 30 minutes and 2 hours, where the trace is that long.
        unknown: what it cannot tell, a sentence each.
        doubts: what speaks against taking its quiet minutes for quiet, a sentence each.
    """

    trace: Trace
    mean_rate: float
    peaks: dict[str, Peak]
    dispersion: float | None
    week: np.ndarray | None
    hours: tuple[HourLoad, ...]
    statuses: dict[int, int]
    routes: tuple[RouteLoad, ...]
    concurrency: dict[str, float] | None
    quiet: tuple[Quiet, ...]
    unknown: tuple[str, ...]
    doubts: tuple[str, ...] = ()
    areas: tuple[AreaLoad, ...] = ()

    def to_dict(self) -> dict[str, Any]:
        """The summary as the JSON of the command line."""
        trace, source = self.trace, self.trace.source
        return {
            "requests": len(trace),
            "skipped": source.skipped,
            "skipped_reasons": dict(source.reasons),
            "first_skipped": [vars(skipped) for skipped in source.first_skipped],
            "format": source.format,
            "start": None if trace.start is None else trace.start.isoformat(),
            "time_zone": None if trace.start is None else str(trace.start.tzinfo),
            "span_s": trace.span_s,
            "mean_rate": self.mean_rate,
            "peak_rate": {name: peak.per_second for name, peak in self.peaks.items()},
            "peak_start": {name: self.when(peak.at_s) for name, peak in self.peaks.items()},
            "dispersion_1min": self.dispersion,
            "week": None
            if self.week is None
            else [[None if np.isnan(x) else x for x in day] for day in self.week.tolist()],
            "hours": [hour._asdict() for hour in self.hours],
            "statuses": {str(status): n for status, n in self.statuses.items()},
            "routes": [route._asdict() for route in self.routes],
            **({"areas": [area._asdict() for area in self.areas]} if self.areas else {}),
            "concurrency": self.concurrency,
            "quiet": [
                {"start": self.when(quiet.at_s), "length_s": quiet.length_s, "requests": quiet.requests}
                for quiet in self.quiet
            ],
            "notes": list(source.notes),
            "unknown": list(self.unknown),
            "doubts": list(self.doubts),
        }

    def when(self, at_s: float) -> str | float:
        """An instant of the trace: ISO 8601 where its start is known, else seconds from the start."""
        local = self.trace.local_time(at_s)
        return at_s if local is None else local.isoformat()

    def plot(self) -> heavy.Figure:
        """Load over time, the week as a heat map, latency by route.

        Returns:
            A Matplotlib figure: `figure.savefig("load.png")` keeps it (or .svg), and a notebook shows it.
        """
        return figure_of(self)


def summarise(trace: Trace) -> Summary:
    """Look at the load of a trace.

    Example:
        >>> from libramen import make_trace
        >>> round(summarise(make_trace(span="1h", rate=2.0)).mean_rate)
        2
    """
    rates = {name: _peak(trace, window_s) for name, window_s in _WINDOWS.items()}
    whole_minutes = int(trace.span_s // 60)
    dispersion = None
    if whole_minutes >= 2:
        counts = counted(trace.at_s, 60.0, whole_minutes)
        dispersion = float(counts.var() / counts.mean()) if counts.any() else None
    statuses: dict[int, int] = {}
    if trace.status is not None and trace.status.any():
        values, n = np.unique(trace.status, return_counts=True)
        statuses = dict(zip(values.tolist(), n.tolist(), strict=True))
    return Summary(
        trace=trace,
        mean_rate=len(trace) / trace.span_s,
        peaks=rates,
        dispersion=dispersion,
        week=_week(trace),
        hours=_hours(trace),
        statuses=statuses,
        routes=_routes(trace),
        areas=_areas(trace),
        concurrency=_concurrency(trace),
        quiet=tuple(_quiet(trace)),
        unknown=tuple(_unknown(trace)),
        doubts=trace.demand.doubts if trace.cpu_s.any() else quiet_doubts(trace),
    )


def _peak(trace: Trace, window_s: float) -> Peak:
    counts = counted(trace.at_s, window_s)
    k = int(np.argmax(counts))
    return Peak(float(counts[k]) / min(window_s, trace.span_s), k * window_s)


def _week(trace: Trace) -> np.ndarray | None:
    """Mean rate of each local hour of the week."""
    if trace.start is None:
        return None
    into_s = trace.into_hour_s
    n = int((into_s + trace.span_s) // 3600) + 1
    bounds = np.searchsorted(trace.at_s, np.arange(1, n) * 3600.0 - into_s, side="left")
    counts = np.diff(np.concatenate([[0], bounds, [len(trace)]]))
    begin = trace.start.astimezone(UTC) - timedelta(seconds=into_s)
    local = [(begin + timedelta(hours=k)).astimezone(trace.start.tzinfo) for k in range(n)]
    edges = np.clip(np.arange(n + 1) * 3600.0 - into_s, 0.0, trace.span_s)
    covered, total = np.zeros((7, 24)), np.zeros((7, 24))
    for k, time in enumerate(local):
        covered[time.weekday(), time.hour] += edges[k + 1] - edges[k]
        total[time.weekday(), time.hour] += counts[k]
    week: np.ndarray = np.divide(total, covered, out=np.full((7, 24), np.nan), where=covered >= 60)
    return week


def _hours(trace: Trace) -> tuple[HourLoad, ...]:
    """Latencies by local hour of the day."""
    if trace.start is None or trace.latency_s is None:
        return ()
    into_s = trace.into_hour_s
    n = int((float(trace.at_s[-1]) + into_s) // 3600) + 1
    begin = trace.start.astimezone(UTC) - timedelta(seconds=into_s)
    local = [(begin + timedelta(hours=k)).astimezone(trace.start.tzinfo).hour for k in range(n)]
    inner = np.searchsorted(trace.at_s, np.arange(1, n) * 3600.0 - into_s, side="left").tolist()
    bounds = [0, *inner, len(trace)]
    found = []
    for number in range(24):
        pieces = [trace.latency_s[bounds[k] : bounds[k + 1]] for k in range(n) if local[k] == number]
        ascending = np.concatenate([np.zeros(0), *pieces])
        if len(ascending):
            ascending.sort()
            shown = (nearest_rank(ascending, PERCENTILES[name]) for name in ("p50", "p95", "p99"))
            found.append(HourLoad(number, len(ascending), *shown))
    return tuple(found)


def _areas(trace: Trace) -> tuple[AreaLoad, ...]:
    found = []
    for code, area in enumerate(trace.areas if trace.area is not None else ()):
        here = np.flatnonzero(trace.area == code)
        p50 = p95 = None
        if trace.latency_s is not None and len(here):
            p50, p95 = (nearest_rank(np.sort(trace.latency_s[here]), PERCENTILES[name]) for name in ("p50", "p95"))
        if len(here):
            found.append(AreaLoad(area, len(here), len(here) / len(trace), p50, p95))
    return tuple(sorted(found, key=lambda one: -one.requests))


def _routes(trace: Trace) -> tuple[RouteLoad, ...]:
    found = []
    for code, route in enumerate(trace.routes):
        latencies, sent, n = Growing(np.float64), 0.0, 0
        for rows in blocks(len(trace)):
            here = trace.route_codes[rows] == code
            n += int(np.count_nonzero(here))
            if trace.latency_s is not None:
                latencies.add(trace.latency_s[rows][here])
            if trace.bytes_out is not None:
                sent += float(trace.bytes_out[rows][here].sum())
        if not n:
            continue
        p50 = p95 = p99 = None
        if trace.latency_s is not None:
            ascending = latencies.take()
            ascending.sort()
            p50, p95, p99 = (nearest_rank(ascending, PERCENTILES[name]) for name in ("p50", "p95", "p99"))
        size = None if trace.bytes_out is None else sent
        found.append(RouteLoad(route, n, n / len(trace), p50, p95, p99, size))
    return tuple(sorted(found, key=lambda load: -load.requests))


def _concurrency(trace: Trace) -> dict[str, float] | None:
    if trace.latency_s is None:
        return None
    ends = trace.at_s + trace.latency_s
    ends.sort()
    most, within_s = 0, 0.0
    for rows in blocks(len(trace)):
        at_s = trace.at_s[rows]
        # At an arrival, all that came and have not ended by then are in progress.
        in_progress = np.arange(rows.start + 1, rows.stop + 1) - np.searchsorted(ends, at_s, side="right")
        most = max(most, int(in_progress.max()))
        within_s += float(np.maximum(np.minimum(at_s + trace.latency_s[rows], trace.span_s) - at_s, 0).sum())
    return {
        "little": len(trace) / trace.span_s * float(trace.latency_s.mean()),
        "mean": within_s / trace.span_s,
        "max": float(most),
    }


def _quiet(trace: Trace) -> list[Quiet]:
    found = []
    for length_s in _QUIET_S:
        try:
            at_s = quietest(trace, length_s, "quietest")
        except StudyError:  # the trace is shorter than that
            continue
        n = int(np.searchsorted(trace.at_s, at_s + length_s) - np.searchsorted(trace.at_s, at_s))
        found.append(Quiet(at_s, length_s, n))
    return found


def _unknown(trace: Trace) -> list[str]:
    unknown = []
    if trace.latency_s is None:
        unknown.append("how long requests took: there is no request time, so demand must be given")
    if trace.bytes_out is None:
        unknown.append("how many bytes were sent: egress costs nothing in a bill")
    if trace.start is None:
        unknown.append("when it begins: times of day cannot be used")
    if trace.span_s < 86400:
        unknown.append("the shape of a whole day: it is shorter")
    elif trace.span_s < 7 * 86400:
        unknown.append("the shape of a week: it is shorter")
    if trace.demand.kind != "given":
        unknown.append("how much of a request's time is CPU work: cpu_share must be set")
    if trace.latency_s is not None and trace.source.format != "spans":
        unknown.append("how long requests queued: their latencies include it")
    return unknown
