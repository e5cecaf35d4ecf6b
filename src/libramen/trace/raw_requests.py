"""What a reader found, before it is a trace; and how it becomes one."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING, Any, Final, Literal

import numpy as np

from libramen.base import units
from libramen.base.errors import TraceError
from libramen.base.times import seconds_between
from libramen.trace.arrays import check_numbers
from libramen.trace.growing import backs, blocks, is_ascending
from libramen.trace.lines import SkippedLines
from libramen.trace.routes import gather
from libramen.trace.source import Made, Source
from libramen.trace.stamps import spread_within_second
from libramen.trace.statuses import gave_up, has_failed
from libramen.trace.trace import Trace

if TYPE_CHECKING:
    from zoneinfo import ZoneInfo


_GAP_NEIGHBOURS: Final = 20
_GAP_S: Final = 60.0
_MOST_GAPS: Final = 5
_YEAR_S: Final = 366 * 86400.0
_LATEST_S: Final = 7_258_118_400.0  # 2200
_FEW_LINES: Final = 3
_COLUMNS: Final = ("at_s", "cpu_s", "wait_s", "latency_s", "status", "bytes_out", "file", "visitor")


@dataclass
class RawRequests:
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
    servers: tuple[np.ndarray, Sequence[str]] | None = None  # that answered
    areas: tuple[np.ndarray, Sequence[str]] | None = None  # where they come from
    file: np.ndarray | None = None  # number of the file
    visitor: np.ndarray | None = None  # int32, a number for whoever sent it, -1: not known
    in_s: dict[str, np.ndarray] = field(default_factory=dict)  # by service, how much of it was spent there [s]
    covers_s: tuple[float, float] | None = None  # what the source says that it covers, from `base`, where it does
    made: Made = field(default_factory=Made)  # what a table says of itself
    sampled_share: float | None = None  # of the requests, what the source says that it kept
    notes: list[str] = field(default_factory=list)

    def keep(self, rows: np.ndarray) -> RawRequests:
        """Some of the rows, by index or mask."""
        changed: dict[str, Any] = {}
        for name in _COLUMNS:
            array = getattr(self, name)
            changed[name] = None if array is None else array[rows]
        for name in ("labels", "agents", "hosts", "servers", "areas"):
            pair = getattr(self, name)
            changed[name] = None if pair is None else (pair[0][rows], pair[1])
        return replace(self, in_s={name: values[rows] for name, values in self.in_s.items()}, **changed)

    def tell_visitors(self) -> None:
        """Number those who sent requests by their address and agent, in the order in which they first come.

        Who they are is forgotten: of address and agent nothing is kept but that two of them are alike.
        """
        pairs = [pair[0] for pair in (self.hosts, self.agents) if pair is not None]
        if self.visitor is not None or not pairs:
            return
        _, first, codes = np.unique(np.stack(pairs), axis=1, return_index=True, return_inverse=True)
        rank = np.empty(len(first), np.int32)
        rank[np.argsort(first)] = np.arange(len(first), dtype=np.int32)
        self.visitor = rank[codes.reshape(-1)]

    def sort(self) -> None:
        """Put the rows in order of time, a column at a time: a long log need not fit twice."""
        if is_ascending(self.at_s):
            self.agents = self.hosts = None
            return
        order = np.argsort(self.at_s, kind="stable")
        for name in _COLUMNS:
            array = getattr(self, name)
            if array is not None:
                setattr(self, name, array[order])
        self.in_s = {name: values[order] for name, values in self.in_s.items()}
        if self.labels is not None:
            self.labels = (self.labels[0][order], self.labels[1])
        if self.servers is not None:
            self.servers = (self.servers[0][order], self.servers[1])
        if self.areas is not None:
            self.areas = (self.areas[0][order], self.areas[1])
        self.agents = self.hosts = None


def _moved(back: int) -> str:
    stand = "1 line stands" if back == 1 else f"{back:,} lines stand"
    return f"{stand} before earlier ones, and the lines are sorted by time"


def to_trace(
    found: RawRequests,
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
    _check(found)
    at_s, notes = found.at_s, found.notes
    start: datetime | None = None
    span_s: float | None = None
    if found.base is not None:
        back = backs(found.at_s)
        _arrivals(found, seed, stamp or found.stamp, within_second)
        notes += [_moved(back)] if back else []
        found.sort()
        start, span_s = _whole_minutes(found, zone)
        at_s = found.at_s
    elif found.covers_s is not None:
        span_s = found.covers_s[1]
    elif found.made.span_s is not None and found.made.span_s >= at_s.max(initial=0.0):
        span_s = found.made.span_s
    n = len(at_s)
    names: tuple[str, ...] = ("all",)
    codes: np.ndarray = np.zeros(n, np.int32)
    if found.labels is not None:
        codes, names = gather(*found.labels, routes=routes, fold=found.fold)
    trace = Trace.of_own_arrays(
        at_s=at_s,
        cpu_s=np.zeros(n) if found.cpu_s is None else found.cpu_s,
        wait_s=np.zeros(n) if found.wait_s is None else found.wait_s,
        route_codes=codes,
        routes=names,
        bytes_out=found.bytes_out,
        latency_s=found.latency_s,
        status=None if found.status is None else found.status.astype(np.int16, copy=False),
        visitor=found.visitor,
        area=None if found.areas is None else found.areas[0],
        areas=() if found.areas is None else tuple(found.areas[1]),
        in_s=found.in_s,
        span_s=span_s,
        start=start,
    )
    notes += [*_gaps(trace), *_failures(trace)]
    source = Source(
        files=found.files,
        format=found.format,
        lines=found.lines,
        skipped=found.skipped.count,
        first_skipped=tuple(found.skipped.first),
        reasons=tuple(found.skipped.reasons.most_common()),
        notes=tuple(notes),
        made=found.made,
        sampled_share=found.sampled_share,
        whole_seconds=found.base is not None and found.whole_seconds,
    )
    return replace(trace, source=source)


def _whole_minutes(found: RawRequests, zone: ZoneInfo) -> tuple[datetime, float]:
    """Count times from the beginning of a minute of the clock, in place; its real time, and the time covered [s].

    Windows, worst minutes and counts then begin where people expect them. A table that says when its trace began and
    how long it was (because no request came at first, or at last) is believed.
    """
    assert found.base is not None
    at_s, base, made = found.at_s, found.base, found.made
    first_s, last_s = found.covers_s or (float(at_s[0]), float(at_s[-1]) + 1e-9)
    ahead_s = round((datetime.fromtimestamp(base, UTC).astimezone(zone).utcoffset() or timedelta()).total_seconds())
    shift_s = (base + ahead_s) % 60
    zero_s = 60.0 * math.floor((first_s + shift_s) / 60) - shift_s
    span_s = max(60.0, 60.0 * math.ceil((last_s - zero_s) / 60 - 1e-12))
    start = datetime.fromtimestamp(base + int(zero_s), UTC).astimezone(zone)
    if made.start is not None and made.span_s is not None:
        said = datetime.fromisoformat(made.start)
        earlier_s = seconds_between(said, start)
        # 1e-6: what ISO times round to.
        if said.tzinfo is not None and earlier_s >= -60 and earlier_s + last_s - zero_s <= made.span_s + 1e-6:
            at_s -= zero_s - earlier_s
            np.clip(at_s, 0.0, made.span_s, out=at_s)
            return said.astimezone(zone), made.span_s
    at_s -= zero_s
    return start, span_s


def without_far_stamps(found: RawRequests) -> RawRequests:
    """Without the lines whose stamps cannot be true: over a year away from nearly all others, or before 1970.

    A clock that was not set yet writes such lines; one of them would make a trace of decades. They count as lines that
    cannot be read.

    Raises:
        TraceError: no line is left.
    """
    if found.base is None or not len(found.at_s):
        return found
    first_s, last_s = float(np.min(found.at_s)), float(np.max(found.at_s))
    if first_s + found.base > 0 and last_s + found.base < _LATEST_S and last_s - first_s <= _YEAR_S:
        return found
    at_s = found.at_s + found.base
    far = ~((at_s > 0) & (at_s < _LATEST_S))
    order = np.argsort(at_s, kind="stable")
    group = np.cumsum(np.diff(at_s[order], prepend=at_s[order[0]]) > _YEAR_S)
    sizes = np.bincount(group)
    lost = np.flatnonzero(sizes <= max(_FEW_LINES, 0.01 * len(at_s)))
    if len(at_s) > 2 * len(lost) and len(lost) < len(sizes):
        far[order] |= np.isin(group, lost)
    if not far.any():
        return found
    for row in np.flatnonzero(far)[:5].tolist():
        file = found.files[0 if found.file is None else int(found.file[row])]
        found.skipped.add(file, 0, f"its time stamp {_shown_time(at_s[row])} is over a year away from the others")
    found.skipped.add_more(int(far.sum()) - 5, "its time stamp '' is over a year away from the others")
    if far.all():
        raise TraceError(f"{', '.join(found.files)}: no time stamp is between 1970 and 2200")
    return found.keep(~far)


def _shown_time(at_s: float) -> str:
    if not -62_000_000_000 < at_s < 253_000_000_000:
        return f"'{at_s:.4g} s after 1970'"
    return f"'{datetime(1970, 1, 1, tzinfo=UTC) + timedelta(seconds=float(at_s)):%Y-%m-%d %H:%M:%S} UTC'"


def _check(found: RawRequests) -> None:
    """Refuse values that no request has, before anything is worked out from them.

    Raises:
        TraceError: there are some.
    """
    for name in ("cpu_s", "wait_s", "latency_s", "status", "bytes_out"):
        if (array := getattr(found, name)) is not None:
            check_numbers(name, array)
    for name, array in found.in_s.items():
        check_numbers(f"in_{name}_s", array)
    if found.base is not None and not np.isfinite([found.at_s.min(), found.at_s.max()]).all():
        check_numbers("at_s", found.at_s)


def _arrivals(found: RawRequests, seed: int, stamp: str, within_second: str) -> None:
    """Arrivals from stamps [s from `base`], in their place, and a note of what was done."""
    at_s = found.at_s
    words = []
    if found.whole_seconds and within_second != "none":
        # Each file has an order of its own: that of one server, or of its own time.
        files = [slice(None)] if found.file is None else [found.file == n for n in range(len(found.files))]
        for number, rows in enumerate(files):
            evenly = within_second == "even"
            at_s[rows] += spread_within_second(at_s[rows], seed, evenly=evenly, number=number)
        words.append(f"whole-second time stamps, spread within their second ({within_second})")
    if stamp == "answer" and found.latency_s is not None:
        at_s -= found.latency_s
        words.append("stamps are of answers: arrival = stamp - request time")
    elif stamp == "answer":
        words.append("stamps are of answers, and without request times count as arrivals")
    if words:
        found.notes.append("; ".join(words))


def _gaps(trace: Trace) -> list[str]:
    """Stretches of a minute or more without a line where as many before and after would make one expect several."""
    at_s = trace.at_s
    places = np.concatenate([
        first + np.flatnonzero(np.diff(at_s[first : some.stop]) >= _GAP_S)
        for some in blocks(len(at_s)) if (first := max(0, some.start - 1)) >= 0
    ])  # fmt: skip
    lasts_s = at_s[places + 1] - at_s[places]
    notes = []
    for place in np.argsort(-lasts_s, kind="stable")[:_MOST_GAPS].tolist():
        from_s, length_s = float(at_s[places[place]]), float(lasts_s[place])
        to_s = from_s + length_s
        # At least two minutes on both sides: how many there were in as long a time, had it gone on like that.
        around_s = max(length_s, 120.0)
        before = int(np.diff(np.searchsorted(at_s, [from_s - around_s, from_s], side="right"))[0])
        after = int(np.diff(np.searchsorted(at_s, [to_s, to_s + around_s], side="left"))[0])
        expected = min(before, after) * length_s / around_s
        if expected >= _GAP_NEIGHBOURS:
            when = trace.local_time(from_s)
            began = f"{units.show_duration(from_s)} after the start" if when is None else f"{when:%Y-%m-%d %H:%M:%S}"
            notes.append(
                f"no line for {units.show_duration(length_s)} from {began}, where some {expected:,.0f} would be "
                "expected: an outage, or a file that is missing? It is replayed as a quiet time"
            )
    return notes


def _failures(trace: Trace) -> list[str]:
    """What failed when the log was written: it is replayed like everything else."""
    if trace.status is None:
        return []
    n_failed = n_given_up = 0
    arrivals = np.zeros(int(trace.at_s[-1] // 60) + 1, np.int64)
    bad = np.zeros_like(arrivals)
    for some in blocks(len(trace)):
        status, minute = trace.status[some], (trace.at_s[some] // 60).astype(np.int64)
        failed = has_failed(status)
        n_failed += int(np.count_nonzero(failed))
        n_given_up += int(np.count_nonzero(gave_up(status)))
        first = int(minute[0])
        arrivals[first : int(minute[-1]) + 1] += np.bincount(minute - first)
        bad[first : int(minute[-1]) + 1] += np.bincount(minute[failed] - first, minlength=int(minute[-1]) - first + 1)
    notes = []
    if n_failed or n_given_up:
        notes.append(
            f"in the log {n_failed:,} {'request' if n_failed == 1 else 'requests'} failed (a status of 500 or more, or "
            f"429) and in {n_given_up:,} the client gave up (408, 499): they are replayed like all others, and say "
            "nothing of what fails in a replay"
        )
    out = np.flatnonzero((bad > 0.5 * arrivals) & (arrivals >= 10))
    if len(out):
        when = trace.local_time(60.0 * int(out[0]))
        began = (
            f"{units.show_duration(60.0 * int(out[0]))} after the start" if when is None else f"{when:%Y-%m-%d %H:%M}"
        )
        notes.append(
            f"in {len(out):,} minutes, from {began} on, more than half of the requests in the log failed: an outage; "
            "what was quick or slow then is no measure of work"
        )
    return notes
