"""`read_trace`: from files of any readable format to a trace. One registry of formats."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final, Literal, get_args
from zoneinfo import ZoneInfo

import numpy as np

from libramen.delays import Delay, parse_delay
from libramen.errors import TraceError, UnitError
from libramen.times import parse_zone
from libramen.trace import weblogs
from libramen.trace.arrow import release_unused
from libramen.trace.demand import with_demand, with_told_work
from libramen.trace.found import Found, leave_out, to_trace, without_doubles, without_far_stamps
from libramen.trace.lines import SkippedLines, blocks_of, in_order
from libramen.trace.rows import Rows
from libramen.trace.sources import Opened, expand

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Mapping, Sequence

    from libramen.trace.leaving import LeaveOut
    from libramen.trace.trace import Trace
    from libramen.trace.weblogs import WebLog

Format = Literal["common", "combined", "w3c", "spans", "csv", "json_lines", "parquet", "arrow", "counts"]
FORMATS: Final = get_args(Format)
Demand = Literal["given", "quiet", "observed"]
_LOGS: Final = ("common", "combined", "w3c")
_SAMPLE_SIZE: Final = 1 << 17


@dataclass(frozen=True)
class ReadOptions:
    """How files are read; each is a keyword of `read_trace` and a key of `[trace]`, described there."""

    format: Format | None = None
    columns: Mapping[str, str] = field(default_factory=dict)
    line_format: str | None = None
    latency_field: int | str | None = None
    latency_unit: str | None = None
    stamp: Literal["arrival", "answer"] | None = None
    within_second: Literal["draw", "even", "none"] = "draw"
    counts: Literal["poisson", "even"] = "poisson"
    work: Delay | None = None
    routes: Sequence[tuple[str, str]] = ()
    leave_out: Sequence[LeaveOut] = ()
    sampled: float = 1.0
    servers: tuple[int, int] = (1, 1)
    demand: Demand | None = None
    cpu_share: float | Mapping[str, float] | None = None
    recorded_speed: float | None = None
    time_zone: str = "UTC"
    seed: int = 0
    given: frozenset[str] = frozenset()
    """Those that were said, and not left to their default."""


_USED_BY: Final[dict[str, tuple[str, ...]]] = {
    "columns": ("csv", "json_lines", "parquet", "arrow", "counts"),
    "line_format": ("common", "combined"),
    "latency_field": ("common", "combined"),
    "latency_unit": _LOGS,
    "counts": ("counts",),
    "work": ("counts",),
}
"""Options that only some formats know; with any other they would have no effect."""


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
            `latency_unit` (`"s"`, `"ms"` or `"us"`);
            `stamp` (`"arrival"` or `"answer"`; default: answer for logs, arrival else) and `within_second`
            (`"draw"`, `"even"` or `"none"`);
            `counts` (`"poisson"` or `"even"`) and, for counts without latencies, `work` (a duration, or two
            percentiles of what a request takes: `{"p50": "80ms", "p95": "400ms"}`);
            `routes` (pairs of a pattern of paths and a route);
            `leave_out` (tables with `route`, `status`, `agent`, `longer`);
            `sampled` (share of the requests that the log has) and `servers` (`(2, 5)`: it is of two of five);
            `demand` (`"given"`, `"quiet"` or `"observed"`; default: given if there is `cpu_s`, else quiet),
            `cpu_share` (0.4; a number, or a table by route with `"*"` for the others) and `recorded_speed` (1); with
            given demand these two would have no effect, and are an error;
            `time_zone` (`"UTC"`) and `seed` (0).

    Raises:
        TraceError: a file cannot be read as a trace, or an option is not allowed. Single lines of a
            log that cannot be read are not an error: `trace.source` counts them.

    Example:
        >>> trace = read_trace("saltmarsh/saltmarsh.log.gz", time_zone="Europe/Lisbon")  # doctest: +SKIP
    """
    chosen = checked_options(options)
    trace, has_cpu = read_requests(path, chosen, progress)
    if chosen.work is not None:
        if chosen.demand not in {None, "given"}:
            raise TraceError(f"demand = {chosen.demand!r} has no effect beside work, which says how long requests take")
        trace = with_told_work(trace, chosen.cpu_share, chosen.recorded_speed)
        return _whole_load(trace, chosen)
    trace = with_demand(
        trace,
        chosen.demand,
        cpu_share=chosen.cpu_share,
        recorded_speed=chosen.recorded_speed,
        has_cpu=has_cpu,
        seed=chosen.seed,
    )
    return _whole_load(trace, chosen)


def checked_options(options: dict[str, Any]) -> ReadOptions:
    """The options of `read_trace`.

    Raises:
        TraceError: one is unknown or not allowed.
    """
    known = {name: field for name, field in ReadOptions.__dataclass_fields__.items() if name != "given"}
    for name in options:
        if name not in known:
            from libramen.fields import nearest

            raise TraceError(f"read_trace: unknown option {name!r}; {nearest(name, known)}")
    options = {name: value for name, value in options.items() if value is not None or known[name].default is None}
    if options.get("work") is not None:
        try:
            options["work"] = parse_delay(options["work"])
        except UnitError as error:
            raise TraceError(f"work: {error}") from None
    chosen = ReadOptions(**options, given=frozenset(options))
    if chosen.format is not None and chosen.format not in FORMATS:
        raise TraceError(f"format: found {chosen.format!r}; allowed: {', '.join(FORMATS)}")
    if not 0 < chosen.sampled <= 1:
        raise TraceError(f"sampled: found {chosen.sampled!r}; allowed: above 0, at most 1")
    if not (len(chosen.servers) == 2 and 1 <= chosen.servers[0] <= chosen.servers[1]):
        raise TraceError(f"servers: found {list(chosen.servers)}; allowed: two numbers such as [2, 5], for two of five")
    if chosen.recorded_speed is not None and not 1e-6 <= chosen.recorded_speed <= 1e6:
        raise TraceError(f"recorded_speed: found {chosen.recorded_speed!r}; allowed: 0.000001 to 1000000")
    return chosen


def read_requests(
    path: str | Path | Iterable[str | Path],
    options: ReadOptions,
    progress: Callable[[float], None] | None = None,
    *,
    hints: bool = False,
) -> tuple[Trace, bool]:
    """Read requests without estimating demand.

    Args:
        path: as in `read_trace`.
        options: as the keywords of `read_trace`.
        progress: as in `read_trace`.
        hints: whether it is noted what is probably not traffic of users, such as health checks.

    Returns:
        the trace, whose `cpu_s` is 0 where it was not given, and whether it was given.

    Raises:
        TraceError: as `read_trace`.
    """
    try:
        zone = ZoneInfo(parse_zone(options.time_zone))
    except UnitError as error:
        raise TraceError(f"time_zone: {error}") from None
    paths = expand([path] if isinstance(path, str | Path) else path)
    found = _find(paths, options, progress or (lambda _share: None), agents=hints)
    has_cpu = found.cpu_s is not None
    if hints:
        from libramen.trace.hints import hints_of

        found.notes += hints_of(found, options.routes)
    found = leave_out(without_doubles(without_far_stamps(found)), options.leave_out, options.routes)
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
    if progress is not None:
        progress(1.0)
    return trace, has_cpu


def _whole_load(trace: Trace, options: ReadOptions) -> Trace:
    """Multiply back what a log that is sampled, or of some servers only, does not show."""
    factor = options.servers[1] / options.servers[0] / options.sampled
    spans = trace.source.sampled_share
    if spans is not None:
        factor /= spans
    if abs(factor - 1) < 1e-9:
        return trace
    from libramen.trace.shape import Scale

    note = f"the log shows {1 / factor:.4g} of the load: its requests are multiplied by {factor:.4g}"
    return Scale(scale=factor).apply(trace, options.seed).noted(note)


def _find(paths: list[Path], options: ReadOptions, progress: Callable[[float], None], *, agents: bool) -> Found:
    total = max(1, sum(path.stat().st_size for path in paths if path.is_file()))
    before = 0
    rows, skipped = Rows(), SkippedLines()
    others: list[Found] = []
    notes: list[str] = []
    kinds: dict[Path, str] = {}
    who = agents or len(paths) > 1 or any(kind.agent is not None for kind in options.leave_out)
    for number, path in enumerate(paths):
        with Opened(path) as opened:

            def position(at: int, before: int = before) -> None:
                progress(min(1.0, (before + at) / total))

            head = opened.head(_SAMPLE_SIZE)
            kind = kinds[path] = options.format or (
                "combined" if options.line_format else recognise(path, head, options.columns.values())
            )
            if kind in _LOGS:
                notes += _read_log(kind, opened, head, options, rows, number, skipped, position, who=who)
            elif kind == "spans":
                others.append(_from_spans(opened, skipped))
            else:
                others.append(_from_table(kind, opened, skipped, options))
        before += path.stat().st_size if path.is_file() else 0
    if len({kind if kind not in _LOGS else "log" for kind in kinds.values()}) > 1:
        raise TraceError("the files are of several formats: " + ", ".join(f"{p} is {k}" for p, k in kinds.items()))
    formats = {found.format for found in others} or set(kinds.values())
    for name, users in _USED_BY.items():
        if name in options.given and not formats & set(users):
            raise TraceError(
                f"{name} has no effect: {paths[0]} is of format {kinds[paths[0]]}, and {name} is for "
                f"{', '.join(users)}; allowed: to leave it out"
            )
    files = tuple(str(path) for path in paths)
    if not others:
        kind = "described" if options.line_format else kinds[paths[0]]
        return _from_rows(rows, skipped, kind, files, list(dict.fromkeys(notes)))
    if len(others) > 1:
        raise TraceError(f"found {len(others)} files of format {kinds[paths[0]]}; allowed: one, or several logs")
    return others[0]


def recognise(path: Path, head: bytes, columns: Iterable[str] = ()) -> str:
    """The format of a file, by its first bytes; `columns` are names that a table may have beside the model's.

    Raises:
        TraceError: it is empty, or of no format that can be read.
    """
    from libramen.trace.spans import looks_like_spans

    if not head:
        raise TraceError(f"{path}: the file is empty")
    if head.startswith(b"PAR1"):
        return "parquet"
    if head.startswith((b"ARROW1", b"\xff\xff\xff\xff")):
        return "arrow"
    if head.startswith((b"# libramen: ", b'{"libramen": ')):
        head = head.partition(b"\n")[2]
        return "csv" if not head.lstrip().startswith(b"{") else "json_lines"
    lines = head.splitlines()[:200]
    if weblogs.looks_common(lines):
        return "combined"
    if any(line.startswith(b"#Fields:") for line in lines):
        return "w3c"
    if looks_like_spans(head):
        return "spans"
    first = next((line for line in lines if line.strip()), b"")
    if first.lstrip().startswith(b"{"):
        return "json_lines"
    from libramen.trace import tables

    header = {name.strip().strip('"').removeprefix("\ufeff") for name in first.decode("utf-8", "replace").split(",")}
    if header & {*tables.COLUMNS, *columns}:
        return "counts" if "requests" in header else "csv"
    if b"\0" in head:
        raise TraceError(f"{path}: found binary data; allowed: a log, or a table as CSV, JSON Lines, Parquet or Arrow")
    raise TraceError(
        f"{path}: its first lines are neither a web server's log nor a table with some of the columns "
        f"{', '.join(tables.COLUMNS)}; format and line_format say what it is, columns what its columns are called"
    )


def _sample(head: bytes, least: int = 2) -> list[bytes]:
    lines = head.splitlines()
    return lines[:-1] if len(lines) > least and not head.endswith(b"\n") else lines


def _read_log(
    kind: str,
    opened: Opened,
    head: bytes,
    options: ReadOptions,
    rows: Rows,
    number: int,
    skipped: SkippedLines,
    position: Callable[[int], None],
    *,
    who: bool,
) -> tuple[str, ...]:
    """Read one log; returns what was assumed."""
    blocks = blocks_of(opened, skipped, position)
    if kind == "w3c":
        from libramen.trace.w3c import read_w3c

        return read_w3c(blocks, head, options.latency_unit, rows, number, skipped, who=who)
    if options.line_format is not None:
        log: WebLog = weblogs.described(options.line_format, options.latency_unit)
    else:
        sample = _sample(head)
        if not weblogs.looks_common(sample):
            raise TraceError(f"{opened.path}: its first lines are not of the {kind} log format")
        log = weblogs.recognise(sample, options.latency_field, options.latency_unit)
    log = replace(log, who=who)
    for block, (part, reasons) in in_order(lambda block: log.parse(block.data), blocks):
        for at, reason in reasons:
            skipped.add(block.file, block.first_line + at, reason)
        rows.add(part, number)
    release_unused()  # what the readers of blocks have used may be much
    return log.notes


def _from_rows(rows: Rows, skipped: SkippedLines, kind: str, files: tuple[str, ...], notes: list[str]) -> Found:
    if not rows.n:
        first = skipped.first[0] if skipped.first else None
        why = f"; line {first.line}: {first.reason}" if first else ""
        raise TraceError(f"{', '.join(files)}: none of {skipped.count} lines can be read{why}")
    second = rows.take("second")
    assert second is not None
    fraction_s, took_s, bytes_out = (rows.take(name) for name in ("fraction_s", "took_s", "bytes_out"))
    base = int(second.min())
    whole = fraction_s is None
    n = rows.n
    return Found(
        format=kind,
        files=files,
        at_s=(second - base).astype(np.float64) if fraction_s is None else (second - base) + np.nan_to_num(fraction_s),
        base=base,
        stamp="answer",
        whole_seconds=whole,
        skipped=skipped,
        lines=n + skipped.count,
        latency_s=None if took_s is None or np.isnan(took_s).any() else took_s,
        status=rows.take("status"),
        bytes_out=None if bytes_out is None or np.isnan(bytes_out).any() else bytes_out,
        labels=(rows.paths.array(), list(rows.paths.texts)),
        agents=rows.agents.pair(),
        hosts=rows.hosts.pair(),
        file=rows.take("file"),
        notes=notes,
    )


def _from_spans(opened: Opened, skipped: SkippedLines) -> Found:
    from libramen.trace import spans

    found = spans.read_spans(opened, skipped)
    columns = spans.arrays(found)
    base = int(columns["start_ns"][0] // 1_000_000_000)
    routes, codes = np.unique(columns["route"], return_inverse=True)
    notes = ["root and server spans are the requests; what their child client spans cover is waiting"]
    share = float(1 / np.mean(1 / columns["probability"]))
    return Found(
        format="spans",
        files=(str(opened.path),),
        at_s=(columns["start_ns"] - base * 1_000_000_000) / 1e9,
        base=base,
        stamp="arrival",
        whole_seconds=False,
        skipped=skipped,
        lines=len(codes) + skipped.count,
        wait_s=columns["wait_s"],
        latency_s=columns["latency_s"],
        status=columns["status"],
        bytes_out=columns["bytes_out"] if columns["bytes_out"].any() else None,
        labels=(codes, [str(route) for route in routes]),
        fold=False,
        sampled_share=None if share > 1 - 1e-9 else share,
        notes=notes,
    )


def _from_table(kind: str, opened: Opened, skipped: SkippedLines, options: ReadOptions) -> Found:
    from libramen.trace import tables

    path = opened.path
    readers = {
        "csv": tables.read_csv_table,
        "counts": tables.read_csv_table,
        "json_lines": tables.read_json_lines,
        "parquet": tables.read_parquet_table,
        "arrow": tables.read_arrow_table,
    }
    table, made = tables.taken_from(path, readers[kind](opened, skipped))
    table = tables.renamed(path, table, options.columns)
    notes = list(tables.check_columns(path, table))
    if not table.num_rows:
        raise TraceError(f"{path}: the table has no rows")
    has = set(table.column_names)
    values: dict[str, Any] = {name: tables.numbers(path, table, name) for name in tables.NUMBERS if name in has}
    at_s, base, whole = values.pop("at_s", None), None, False
    if at_s is None:
        at_s, base, whole = tables.times(path, table)
    labels = None
    if "route" in has:
        texts = ("no route" if route is None else str(route) for route in table["route"].to_pylist())
        names, codes = np.unique(list(texts), return_inverse=True)
        labels = (codes, [str(name) for name in names])
    found = Found(
        format=kind,
        files=(str(path),),
        at_s=at_s,
        base=base,
        stamp="arrival",
        whole_seconds=whole,
        skipped=skipped,
        lines=table.num_rows + skipped.count,
        labels=labels,
        fold=False,
        made=made,
        notes=notes,
        **values,
    )
    return _from_counts(path, table, found, options) if "requests" in has else found


def _from_counts(path: Path, table: Any, found: Found, options: ReadOptions) -> Found:
    """Single requests from a table with a number of requests per interval."""
    from libramen.trace import counts, tables

    has = set(table.column_names)
    requests = tables.numbers(path, table, "requests")
    evenly = options.counts == "even"
    starts_s = found.at_s
    at_s, row, length_s = counts.spread(path, starts_s, requests, evenly=evenly, seed=options.seed)
    if not len(row):
        raise TraceError(f"{path}: all counts are 0")
    order = np.argsort(at_s, kind="stable")
    percentiles = {name: tables.numbers(path, table, name) for name in tables.PERCENTILES if name in has}
    span_s = float(found.at_s.max() - found.at_s.min()) + length_s
    found = found.keep(row[order])
    found.at_s, found.whole_seconds = at_s[order], False
    if percentiles and options.work is not None:
        raise TraceError(
            f"work has no effect: {path} has latencies of its own ({', '.join(percentiles)}); allowed: to leave it out"
        )
    if percentiles:
        found.latency_s = counts.latencies(percentiles, row, options.seed)[order]
        found.notes.append(counts.tail_of(percentiles))
    elif options.work is not None:
        found.latency_s = counts.drawn(options.work, len(row), options.seed)
        found.notes.append(f"work is drawn for each request: {options.work}")
    if found.base is None and found.at_s.min() < 0:
        found.at_s = found.at_s - float(np.min(found.at_s))
    begin_s = float(starts_s.min())
    found.covers_s = (begin_s, max(begin_s + span_s, float(found.at_s[-1])))
    how = "evenly spaced" if evenly else "a Poisson process"
    found.format = "counts"
    found.notes.append(f"counts per interval of {length_s:g} s: requests within one are {how}")
    return found
