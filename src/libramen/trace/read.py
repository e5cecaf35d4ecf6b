"""`read_trace`: from files of any readable format to a trace. One registry of formats."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace
from pathlib import Path
from typing import Any, Final, NamedTuple
from zoneinfo import ZoneInfo

import numpy as np

from libramen.base.errors import TraceError
from libramen.trace.counts import drawn
from libramen.trace.demand import with_demand, with_told_work
from libramen.trace.doubles import without_doubles
from libramen.trace.formats.reader import Head, Reading
from libramen.trace.formats.registry import BY_FORMAT, READERS, users_of
from libramen.trace.formats.table import COLUMNS
from libramen.trace.growing import blocks, remapped
from libramen.trace.leaving_out import leave_out
from libramen.trace.options import ReadOptions, checked_options
from libramen.trace.raw_requests import RawRequests, to_trace, without_far_stamps
from libramen.trace.sources import Opened, expand
from libramen.trace.trace import Trace

_SAMPLE_SIZE: Final = 1 << 17
_HOUR_S: Final = 3600.0
_EVEN: Final = 0.8
"""Index of dispersion under which counts are more even than chance would have them."""


def read_trace(
    path: str | Path | Iterable[str | Path],
    *,
    progress: Callable[[float], None] | None = None,
    **options: Any,
) -> Trace:
    """Read logs or trace tables, and estimate their demand.

    Args:
        path: one file or several of one format; patterns (`"logs/*.gz"`), packed files (gzip, bzip2, xz,
            zstandard, by content) and `"-"` (standard input) too. Several logs are merged by time.
        progress: called with the share of the bytes read so far, from 0 to 1.
        **options: any of
            `format` (`"common"`, `"combined"`, `"w3c"`, `"spans"`, `"csv"`, `"json_lines"`, `"parquet"`,
            `"arrow"`, `"counts"`; default: recognised by content);
            `columns` (names of a table's columns: `{"latency_s": "duration"}`);
            `line_format` (directives of the common-log family, such as `'%h %l %u %t "%r" %>s %b %D'`);
            `latency_field` (which piece of a line, by number or key, is the request time) and
            `latency_unit` (`"s"`, `"ms"` or `"us"`; `server_field` is for a study, which knows the fleet);
            `stamp` (`"arrival"` or `"answer"`; default: answer for logs, arrival else) and `within_second`
            (`"draw"`, `"even"` or `"none"`);
            `counts` (`"poisson"` or `"even"`) and, where nothing says how long requests took, `work` (a duration, or
            two percentiles of what a request takes: `{"p50": "80ms", "p95": "400ms"}`);
            `routes` (pairs of a pattern of paths and a route);
            `leave_out` (tables with `route`, `status`, `agent`, `longer`);
            `sampled` (share of the requests that the log has) and `servers` (`(2, 5)`: it is of two of five);
            `demand` (`"given"`, `"quiet"` or `"observed"`; default: given if there is `cpu_s`, else quiet),
            `cpu_share` (0.4; a number, or a table by route with `"*"` for the others) and `recorded_speed` (1); with
            given demand these two would have no effect, and are an error;
            `callees` (what client spans call, and the name of the service that it is: `{"db.internal": "database"}`);
            `visitors` (whether those who sent requests are told apart by address and agent; default: no);
            `time_zone` (`"UTC"`) and `seed` (0).

    Raises:
        TraceError: a file cannot be read as a trace, or an option is not allowed. Single lines of a
            log that cannot be read are not an error: `trace.source` counts them.

    Example:
        >>> trace = read_trace("saltmarsh/saltmarsh.log.gz", time_zone="Europe/Lisbon")
    """
    chosen = checked_options(options)
    if chosen.server_field is not None:
        raise TraceError(
            "server_field has no effect in read_trace, which keeps no servers; allowed: recorded_on in the [trace] "
            "of a study"
        )
    trace, has_cpu, _, _ = read_requests(path, chosen, progress)
    if chosen.work is not None:
        if chosen.demand not in {None, "given"}:
            raise TraceError(f"demand = {chosen.demand!r} has no effect beside work, which says how long requests take")
        trace = with_told_work(_told(trace, chosen, has_cpu=has_cpu), chosen.cpu_share, chosen.recorded_speed)
        return whole_load(trace, chosen)
    trace = with_demand(
        trace,
        chosen.demand,
        cpu_share=chosen.cpu_share,
        recorded_speed=chosen.recorded_speed,
        has_cpu=has_cpu,
        seed=chosen.seed,
    )
    return whole_load(trace, chosen)


def _told(trace: Trace, options: ReadOptions, *, has_cpu: bool) -> Trace:
    """Requests of which nobody has seen how long they take, with what a user says of it; counts have it already.

    Raises:
        TraceError: it is known.
    """
    if trace.source.format == "counts":
        return trace
    if has_cpu or trace.latency_s is not None:
        of_its_own = "work" if has_cpu else "latencies"
        raise TraceError(
            f"work has no effect: {', '.join(trace.source.files)} has {of_its_own} of its own; allowed: to leave it out"
        )
    assert options.work is not None
    told_s = drawn(options.work, len(trace), options.seed)
    return replace(trace, latency_s=told_s).noted(f"work is drawn for each request: {options.work}")


class Requests(NamedTuple):
    """Requests as they were found.

    Attributes:
        trace: them, `cpu_s` 0 where it was not given.
        has_cpu: whether it was given.
        server: int32 (n,), which server answered each, -1: none, as where a proxy did; None: not known.
        file: int16 (n,), the number of the file in which each stands, None: there is one.
    """

    trace: Trace
    has_cpu: bool
    server: np.ndarray | None
    file: np.ndarray | None


def read_requests(
    path: str | Path | Iterable[str | Path],
    options: ReadOptions,
    progress: Callable[[float], None] | None = None,
    *,
    hints: bool = False,
) -> Requests:
    """Read requests without estimating demand.

    Args:
        path: as in `read_trace`.
        options: as the keywords of `read_trace`.
        progress: as in `read_trace`.
        hints: whether it is noted what is probably not traffic of users, such as health checks.

    Raises:
        TraceError: as `read_trace`.
    """
    zone = ZoneInfo(options.time_zone)
    paths = expand([path] if isinstance(path, str | Path) else path)
    found = _find(paths, options, progress or (lambda _share: None), agents=hints)
    has_cpu = found.cpu_s is not None
    if hints:
        from libramen.trace.hints import hints_of

        found.notes += hints_of(found, options.routes)
    found = leave_out(without_doubles(without_far_stamps(found)), options.leave_out, options.routes)
    if options.wants_visitors:
        found.tell_visitors()
    try:
        trace = to_trace(
            found,
            zone,
            seed=options.seed,
            stamp=options.stamp,
            within_second=options.within_second,
            routes=options.routes,
        )
    except TraceError as error:
        raise TraceError(f"{', '.join(found.files)}: {error}") from None
    if found.file is not None:
        trace = replace(trace, gaps=_gaps(trace.at_s, found.file))
    if progress is not None:
        progress(1.0)
    server = None
    if found.servers is not None:
        codes, texts = found.servers
        nobody = np.array([text.rpartition("=")[2] in {"", "-"} for text in texts], bool)
        server = remapped(codes, np.where([*nobody, True], -1, np.arange(len(texts) + 1)).astype(np.int32))
    return Requests(trace, has_cpu, server, found.file)


def _gaps(at_s: np.ndarray, file: np.ndarray) -> tuple[tuple[float, float], ...]:
    """Stretches of an hour or more between the last request of some files and the first of the next [s]."""
    numbers = np.unique(file).tolist()
    times_s = (at_s[file == number] for number in numbers)
    ranges = sorted((float(mine.min()), float(mine.max())) for mine in times_s)
    found, reached_s = [], ranges[0][1]
    for first_s, last_s in ranges[1:]:
        if first_s - reached_s >= _HOUR_S:
            found.append((reached_s, first_s))
        reached_s = max(reached_s, last_s)
    return tuple(found)


def whole_load(trace: Trace, options: ReadOptions) -> Trace:
    """Multiply back what a log that is sampled, or of some servers only, does not show."""
    servers, sample = options.servers[1] / options.servers[0], options.sampled
    factor = servers / sample.share
    spans = trace.source.sampled_share
    if spans is not None:
        factor /= spans
    if abs(factor - 1) < 1e-9:
        return trace
    from libramen.trace.steps import OF_A_SAMPLE, Scale

    notes = [f"the log shows {1 / factor:.4g} of the load: its requests are multiplied by {factor:.4g}"]
    if sample.by == "request":  # spans are sampled by trace, which is a request
        notes += _clumping(trace, servers, servers / factor)
    return Scale(scale=factor).apply(trace, options.seed, number=OF_A_SAMPLE).noted(*notes)


def _clumping(trace: Trace, servers: float, share: float) -> list[str]:
    """Whether the whole load is clumpier than independent users like those of the log would make it.

    Of counts with an index of dispersion (variance over mean) D each event is kept with chance p: then theirs is
    1 + p (D - 1) (Cox & Isham, Point Processes, 1980). Where a balancer deals in turn it is p D.
    """
    from libramen.trace.stretches import dispersion

    found = dispersion(trace)
    whole = 1 + (found - 1) / share
    vary = f"counts per second of the log vary {found:.2f} times as much as by chance"
    if found > 1 and whole > 1.5 * found:
        vary += (
            f", so those of the whole load vary {whole:.2f} times as much: each visitor asks several times in "
            "a row, and a sample of requests does not show which requests belong together. The replayed load is more "
            'even than the real one; a sample of whole visitors (by = "visitor") would not be'
        )
        return [vary]
    if servers > 1.5 and found < _EVEN:
        vary += (
            f", as where a balancer deals in turn: those of the whole load vary up to {found * servers:.2f} times as "
            "much, and the replayed load is more even than the real one"
        )
        return [vary]
    return []


def _find(paths: list[Path], options: ReadOptions, progress: Callable[[float], None], *, agents: bool) -> RawRequests:
    total = max(1, sum(path.stat().st_size for path in paths if path.is_file()))
    before = 0
    others: list[RawRequests] = []
    kinds: dict[Path, str] = {}
    who = (
        agents or options.wants_visitors or len(paths) > 1 or any(kind.agent is not None for kind in options.leave_out)
    )
    reading = Reading(options, who)
    for number, path in enumerate(paths):
        with Opened(path) as opened:

            def position(at: int, before: int = before) -> None:
                progress(min(1.0, (before + at) / total))

            data = opened.head(_SAMPLE_SIZE)
            head = Head(data, data.splitlines(), options.columns.values())
            kind = kinds[path] = options.format or ("combined" if options.line_format else recognise(path, head))
            reading.number, reading.position = number, position
            found = BY_FORMAT[kind].read(kind, opened, head, reading)
            if found is not None:
                others.append(found)
        before += path.stat().st_size if path.is_file() else 0
    _check_formats(kinds, options, {found.format for found in others} or set(kinds.values()))
    if not others:
        kind = "described" if options.line_format else kinds[paths[0]]
        return _from_rows(reading, kind, tuple(str(path) for path in paths))
    if len(others) > 1:
        raise TraceError(f"found {len(others)} files of format {kinds[paths[0]]}; allowed: one, or several logs")
    return others[0]


def _check_formats(kinds: dict[Path, str], options: ReadOptions, formats: set[str]) -> None:
    """Refuse files that cannot be merged, and options that would have no effect.

    Raises:
        TraceError: there are some.
    """
    if len({"log" if BY_FORMAT[kind].merges else kind for kind in kinds.values()}) > 1:
        raise TraceError("the files are of several formats: " + ", ".join(f"{p} is {k}" for p, k in kinds.items()))
    for name in options.model_fields_set:
        users = users_of(name)
        if users and not formats & set(users):
            path, kind = next(iter(kinds.items()))
            raise TraceError(
                f"{name} has no effect: {path} is of format {kind}, and {name} is for "
                f"{', '.join(users)}; allowed: to leave it out"
            )


def recognise(path: Path, head: Head) -> str:
    """The format of a file, by how it begins.

    Raises:
        TraceError: it is empty, or of no format that can be read.
    """
    if not head.data:
        raise TraceError(f"{path}: the file is empty")
    for reader in READERS:
        kind = reader.recognise(head)
        if kind is not None:
            return kind
    if b"\0" in head.data:
        raise TraceError(f"{path}: found binary data; allowed: a log, or a table as CSV, JSON Lines, Parquet or Arrow")
    raise TraceError(
        f"{path}: its first lines are neither a web server's log nor a table with some of the columns "
        f"{', '.join(COLUMNS)}; format and line_format say what it is, columns what its columns are called"
    )


def _from_rows(reading: Reading, kind: str, files: tuple[str, ...]) -> RawRequests:
    rows, skipped, notes = reading.rows, reading.skipped, list(dict.fromkeys(reading.notes))
    if not rows.n:
        first = skipped.first[0] if skipped.first else None
        why = f"; line {first.line}: {first.reason}" if first else ""
        raise TraceError(f"{', '.join(files)}: none of {skipped.count} lines can be read{why}")
    second = rows.take("second")
    assert second is not None
    fraction_s, took_s, bytes_out = (rows.take(name) for name in ("fraction_s", "took_s", "bytes_out"))
    base, n = int(second.min()), rows.n
    at_s = second.view(np.float64)  # each number in the place of the one that it comes from
    for some in blocks(n):
        at_s[some] = second[some] - base
        if fraction_s is not None:
            at_s[some] += np.nan_to_num(fraction_s[some])
    del second
    return RawRequests(
        format=kind,
        files=files,
        at_s=at_s,
        base=base,
        stamp="answer",
        whole_seconds=fraction_s is None,
        skipped=skipped,
        lines=n + skipped.count,
        latency_s=None if took_s is None or np.isnan(took_s).any() else took_s,
        status=rows.take("status"),
        bytes_out=None if bytes_out is None or np.isnan(bytes_out).any() else bytes_out,
        labels=rows.paths.take(),
        agents=rows.pair("agents"),
        hosts=rows.pair("hosts"),
        servers=rows.pair("servers"),
        file=rows.take("file"),
        notes=notes,
    )
