"""What a reader found, before it is a trace; and how it becomes one."""

from __future__ import annotations

import fnmatch
import math
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING, Any, Final, Literal

import numpy as np

from libramen import units
from libramen.errors import TraceError
from libramen.trace.routes import gather
from libramen.trace.stamps import spread_within_second
from libramen.trace.trace import Source, Trace

if TYPE_CHECKING:
    from collections.abc import Sequence
    from zoneinfo import ZoneInfo

    from libramen.trace.leaving import LeaveOut
    from libramen.trace.lines import SkippedLines

_GAP_NEIGHBOURS: Final = 20
_COLUMNS: Final = ("at_s", "cpu_s", "wait_s", "latency_s", "status", "bytes_out", "file")


@dataclass
class Found:
    """Requests as a reader found them, in the order of the files. Arrays of one length, None: not known."""

    format: str
    files: tuple[str, ...]
    at_s: np.ndarray  # float64, from `base`
    base: int | None  # whole seconds since 1970, None: times count from the start of the trace
    stamp: Literal["arrival", "answer"]
    whole_seconds: bool  # the stamps have no parts of a second
    skipped: SkippedLines
    lines: int
    cpu_s: np.ndarray | None = None
    wait_s: np.ndarray | None = None
    latency_s: np.ndarray | None = None
    status: np.ndarray | None = None
    bytes_out: np.ndarray | None = None
    labels: tuple[np.ndarray, Sequence[str]] | None = None  # paths or routes
    fold: bool = True  # the labels are paths, to be folded to routes
    agents: tuple[np.ndarray, Sequence[str]] | None = None
    hosts: tuple[np.ndarray, Sequence[str]] | None = None
    file: np.ndarray | None = None  # number of the file
    span_s: float | None = None
    sampled_share: float | None = None  # of the requests, what the source says that it kept
    notes: list[str] = field(default_factory=list)

    def keep(self, rows: np.ndarray) -> Found:
        """Some of the rows, by index or mask."""
        changed: dict[str, Any] = {}
        for name in _COLUMNS:
            array = getattr(self, name)
            changed[name] = None if array is None else array[rows]
        for name in ("labels", "agents", "hosts"):
            pair = getattr(self, name)
            changed[name] = None if pair is None else (pair[0][rows], pair[1])
        return replace(self, **changed)

    def sort(self) -> None:
        """Put the rows in order of time, a column at a time: a long log need not fit twice."""
        order = np.argsort(self.at_s, kind="stable")
        for name in _COLUMNS:
            array = getattr(self, name)
            if array is not None:
                setattr(self, name, array[order])
        if self.labels is not None:
            self.labels = (self.labels[0][order], self.labels[1])
        self.agents = self.hosts = None


def without_doubles(found: Found) -> Found:
    """Without the lines that stand in a second file too, as rotations that overlap leave them.

    A line is known again by its instant, latency, status, bytes, path, host and agent; as many of
    equal lines are kept as one file has.
    """
    if found.file is None or len(found.files) < 2:
        return found
    columns = [found.at_s, found.latency_s, found.status, found.bytes_out]
    columns += [pair[0] for pair in (found.labels, found.hosts, found.agents) if pair is not None]
    order = np.lexsort([found.file, *(column for column in columns if column is not None)])
    same = np.ones(len(order) - 1, bool)
    for column in columns:
        if column is not None:
            ordered = column[order]
            same &= (ordered[1:] == ordered[:-1]) | (
                np.isnan(ordered[1:].astype(float)) & np.isnan(ordered[:-1].astype(float))
            )
    group = np.concatenate([[0], np.cumsum(~same)])
    file = found.file[order]
    # Within a group the files come in turn: the k-th of a file doubles the k-th of an earlier one.
    start_of_file = np.concatenate([[True], (group[1:] != group[:-1]) | (file[1:] != file[:-1])])
    positions = np.arange(len(order))
    rank = positions - np.maximum.accumulate(np.where(start_of_file, positions, 0))
    by_rank = np.lexsort((file, rank, group))
    again = np.concatenate(
        [[False], (group[by_rank][1:] == group[by_rank][:-1]) & (rank[by_rank][1:] == rank[by_rank][:-1])]
    )
    doubled = order[by_rank[again]]
    if not doubled.size:
        return found
    rows = np.ones(len(order), bool)
    rows[doubled] = False
    kept = found.keep(rows)
    kept.notes.append(f"{doubled.size:,} lines stand in two files, and count once")
    return kept


def leave_out(found: Found, what: Sequence[LeaveOut], routes: Sequence[tuple[str, str]]) -> Found:
    """Without some requests; how many of each kind is noted."""
    for kind in what:
        rows = np.ones(len(found.at_s), bool)
        if kind.route is not None:
            rows &= _fits(found.labels, kind.route, routes, found.fold)
        if kind.status is not None:
            status = np.zeros(len(rows), int) if found.status is None else found.status.astype(int)
            distinct, inverse = np.unique(status, return_inverse=True)
            rows &= np.array([fnmatch.fnmatchcase(str(s), kind.status) for s in distinct], bool)[inverse]
        if kind.agent is not None:
            rows &= _fits(found.agents, kind.agent, (), fold=False)
        if kind.longer is not None:
            rows &= np.zeros(len(rows), bool) if found.latency_s is None else found.latency_s > kind.longer
        found = found.keep(~rows)
        found.notes.append(f"{np.count_nonzero(rows):,} requests are left out: {kind}")
        if not len(found.at_s):
            raise TraceError(f"leave_out leaves no request of {', '.join(found.files)}")
    return found


def _fits(
    labels: tuple[np.ndarray, Sequence[str]] | None, pattern: str, routes: Sequence[tuple[str, str]], fold: bool
) -> np.ndarray | bool:
    """Which rows have a label that fits a pattern, as it stands or as the route that it is folded to."""
    if labels is None:
        return False
    from libramen.trace.routes import route_of

    codes, texts = labels
    hits = [
        any(
            fnmatch.fnmatchcase(name.lower(), pattern.lower())
            for name in {text, route_of(text, routes) if fold else text}
        )
        for text in texts
    ]
    fitting: np.ndarray = np.array(hits, bool)[codes]
    return fitting


def to_trace(
    found: Found,
    zone: ZoneInfo,
    *,
    seed: int,
    stamp: Literal["arrival", "answer"] | None,
    within_second: Literal["draw", "even", "none"],
    routes: Sequence[tuple[str, str]],
) -> Trace:
    """A trace with its arrivals in order; its demand is still to come where it was not given.

    Raises:
        TraceError: times from the start of the trace go back, or values are not allowed.
    """
    at_s, notes = found.at_s, found.notes
    if found.base is not None:
        at_s = _arrivals(found, seed, stamp or found.stamp, within_second)
        back = int(np.count_nonzero(np.diff(found.at_s) < 0))
        if back:
            notes.append(f"{back:,} lines stand before earlier ones, and are sorted by time")
        found.at_s = at_s
        found.sort()
        at_s = found.at_s
        start_s = float(at_s[0])
        at_s -= start_s
        assert found.base is not None
        microseconds = math.floor(start_s * 1e6)
        whole = datetime.fromtimestamp(found.base + microseconds // 1_000_000, UTC)
        start: datetime | None = whole.replace(microsecond=microseconds % 1_000_000).astimezone(zone)
        span_s: float | None = max(60.0, math.ceil(at_s[-1] / 60 - 1e-9) * 60.0)
    else:
        start, span_s = None, found.span_s
    n = len(at_s)
    trace = Trace.from_arrays(
        at_s=at_s,
        cpu_s=np.zeros(n) if found.cpu_s is None else found.cpu_s,
        wait_s=found.wait_s,
        bytes_out=found.bytes_out,
        latency_s=found.latency_s,
        status=found.status,
        span_s=span_s,
        start=start,
    )
    if found.labels is not None:
        codes, names = gather(*found.labels, routes=routes, fold=found.fold)
        trace = replace(trace, route_codes=codes, routes=names)
    notes += _gaps(trace)
    source = Source(
        files=found.files,
        format=found.format,
        lines=found.lines,
        skipped=found.skipped.count,
        first_skipped=tuple(found.skipped.first),
        reasons=tuple(found.skipped.reasons.most_common()),
        notes=tuple(notes),
        sampled_share=found.sampled_share,
    )
    return replace(trace, source=source)


def _arrivals(found: Found, seed: int, stamp: str, within_second: str) -> np.ndarray:
    """Arrivals from stamps [s from `base`], and a note of what was done."""
    at_s = found.at_s.copy()
    words = []
    if found.whole_seconds and within_second != "none":
        at_s += spread_within_second(found.at_s, seed, evenly=within_second == "even")
        words.append(f"whole-second time stamps, spread within their second ({within_second})")
    if stamp == "answer" and found.latency_s is not None:
        at_s -= found.latency_s
        words.append("stamps are of answers: arrival = stamp - request time")
    elif stamp == "answer":
        words.append("stamps are of answers, and without request times count as arrivals")
    if words:
        found.notes.append("; ".join(words))
    return at_s


def _gaps(trace: Trace) -> list[str]:
    """Clock hours without a request between hours that have many: perhaps a lost file."""
    if trace.start is None or trace.span_s < 3 * 3600:
        return []
    into_s = trace.start.minute * 60 + trace.start.second + trace.start.microsecond / 1e6
    hour = ((trace.at_s + into_s) // 3600).astype(np.int64)
    count = np.bincount(hour)
    notes = []
    k = 0
    while k < len(count):
        if count[k] == 0:
            end = k
            while count[end] == 0:
                end += 1
            if min(count[k - 1], count[end]) >= _GAP_NEIGHBOURS:
                begin = trace.start.astimezone(UTC) - timedelta(seconds=into_s) + timedelta(hours=k)
                local = begin.astimezone(trace.start.tzinfo)
                notes.append(
                    f"no line for {units.show_duration((end - k) * 3600.0)} from {local:%Y-%m-%d %H:%M}: "
                    "is a file missing?"
                )
            k = end
        k += 1
    return notes
