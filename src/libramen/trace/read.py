"""`read_trace`: from files to a trace."""

from __future__ import annotations

import math
import zlib
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final, Literal
from zoneinfo import ZoneInfo

import numpy as np

from libramen.errors import TraceError, UnitError
from libramen.study.moments import parse_zone
from libramen.trace.combined import EXAMPLE, looks_combined, read_combined
from libramen.trace.demand import with_demand
from libramen.trace.lines import LogRows, SkippedLines, blocks_of, first_bytes, open_bytes
from libramen.trace.routes import gather
from libramen.trace.stamps import spread_within_second
from libramen.trace.trace import Source, Trace

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

Format = Literal["combined", "csv", "parquet"]
FORMATS: Final = ("combined", "csv", "parquet")


def read_trace(
    path: str | Path | Sequence[str | Path],
    *,
    format: Format | None = None,  # noqa: A002  (the word of the study file)
    demand: Literal["given", "quiet", "observed"] | None = None,
    cpu_share: float = 0.4,
    recorded_speed: float = 1.0,
    time_zone: str = "UTC",
    seed: int = 0,
    progress: Callable[[float], None] | None = None,
) -> Trace:
    """Read logs or trace tables.

    Args:
        path: one file or several of one format: combined logs with the request time in seconds
            behind each line, CSV or Parquet tables; logs and CSV plain or gzip.
        format: of the files. Default: recognised by content.
        demand: where `cpu_s` and `wait_s` come from. `"given"`: their columns. `"quiet"`: latencies
            of quiet minutes. `"observed"`: each request's own latency. Default: given if there is
            a column `cpu_s`, else quiet.
        cpu_share: share of the work that is CPU work, 0 to 1.
        recorded_speed: speed of the core on which the log was recorded.
        time_zone: zone for local times.
        seed: for the seconds filled in within whole-second time stamps.
        progress: called with the share of the bytes read so far, from 0 to 1.

    Raises:
        TraceError: a file cannot be read as a trace. Single lines of a log that cannot be read are
            not an error: `trace.source` counts them.

    Example:
        >>> trace = read_trace("saltmarsh/saltmarsh.log.gz", time_zone="Europe/Lisbon")  # doctest: +SKIP
    """
    paths = [Path(path)] if isinstance(path, str | Path) else [Path(one) for one in path]
    if not paths:
        raise TraceError("there is no file to read; allowed: one or more")
    if not 0 <= cpu_share <= 1:
        raise TraceError(f"cpu_share: found {cpu_share!r}; allowed: 0 to 1")
    if not (recorded_speed > 0 and math.isfinite(recorded_speed)):
        raise TraceError(f"recorded_speed: found {recorded_speed!r}; allowed: a number above 0")
    try:
        zone = ZoneInfo(parse_zone(time_zone))
    except UnitError as error:
        raise TraceError(f"time_zone: {error}") from None
    formats = {one: format or recognise(one) for one in paths}
    if len(set(formats.values())) > 1:
        raise TraceError("the files are of several formats: " + ", ".join(f"{p} is {f}" for p, f in formats.items()))
    kind = formats[paths[0]]
    if kind not in FORMATS:
        raise TraceError(f"format: found {kind!r}; allowed: {', '.join(FORMATS)}")
    if kind == "combined":
        trace, has_cpu = _read_logs(paths, zone, seed, progress), False
    else:
        trace, has_cpu = _read_table(paths, kind, zone, seed)
    if progress is not None:
        progress(1.0)
    return with_demand(trace, demand, cpu_share=cpu_share, recorded_speed=recorded_speed, has_cpu=has_cpu)


def recognise(path: Path) -> str:
    """The format of a file, by its content.

    Raises:
        TraceError: it cannot be opened, is empty, or is of no format that can be read.
    """
    content, raw = open_bytes(path)
    with raw:
        try:
            head = first_bytes(content, 1 << 16)
        except (OSError, EOFError, zlib.error) as error:
            raise TraceError(f"{path}: the packed file cannot be unpacked: {error}") from None
    if not head:
        raise TraceError(f"{path}: the file is empty")
    if head.startswith(b"PAR1"):
        return "parquet"
    lines = head.splitlines()[:100]
    if looks_combined(lines):
        return "combined"
    from libramen.trace import tables

    header = {name.strip().strip('"') for name in lines[0].decode("utf-8", "replace").split(",")} if lines else set()
    if header & set(tables.COLUMNS):
        return "csv"
    if b"\0" in head:
        raise TraceError(f"{path}: found binary data; allowed: a combined log, CSV or Parquet")
    raise TraceError(
        f"{path}: its first lines are neither a combined log with the request time behind it ({EXAMPLE}) "
        f"nor a CSV table with some of the columns {', '.join(tables.COLUMNS)}"
    )


def _read_logs(paths: list[Path], zone: ZoneInfo, seed: int, progress: Callable[[float], None] | None) -> Trace:
    rows, skipped = LogRows(), SkippedLines()
    total = max(1, sum(path.stat().st_size for path in paths))
    before = 0
    for path in paths:

        def position(at: int, before: int = before) -> None:
            if progress is not None:
                progress(min(1.0, (before + at) / total))

        read_combined(blocks_of(path, skipped, position), rows, skipped)
        before += path.stat().st_size
    second = np.concatenate(rows.second) if rows.second else np.zeros(0, np.int64)
    if not second.size:
        first = skipped.first[0]
        raise TraceError(
            f"{first.file}: none of {skipped.count} lines can be read as a combined log with the request "
            f"time behind it; line {first.line}: {first.reason}"
        )
    took_s = np.concatenate(rows.took_s)
    base = int(second.min())
    # The line is written when the answer is: the request came its latency earlier.
    arrival_s = (second - base) + spread_within_second(second, seed) - took_s
    order = np.argsort(arrival_s, kind="stable")
    at_s = arrival_s[order] - arrival_s[order[0]]
    codes, routes = gather(np.concatenate(rows.path_codes), list(rows.paths))
    source = Source(
        files=tuple(str(path) for path in paths),
        format="combined",
        lines=len(second) + skipped.count,
        skipped=skipped.count,
        first_skipped=tuple(skipped.first),
        notes=("whole-second time stamps of answers, spread within their second; arrival = stamp - request time",),
    )
    return Trace(
        at_s=at_s,
        cpu_s=np.zeros(len(at_s)),
        wait_s=np.zeros(len(at_s)),
        span_s=max(60.0, math.ceil(at_s[-1] / 60 - 1e-9) * 60.0),
        start=_instant(base, float(arrival_s[order[0]]), zone),
        route_codes=codes[order],
        routes=routes,
        bytes_out=np.concatenate(rows.bytes_out)[order],
        latency_s=took_s[order],
        status=np.concatenate(rows.status)[order],
        source=source,
    )


def _read_table(paths: list[Path], kind: str, zone: ZoneInfo, seed: int) -> tuple[Trace, bool]:
    if len(paths) > 1:
        raise TraceError(f"found {len(paths)} {kind} tables; allowed: one, or several logs")
    from libramen.trace import tables

    path, skipped = paths[0], SkippedLines()
    table = tables.read_csv_table(path, skipped) if kind == "csv" else tables.read_parquet_table(path)
    notes = tables.check_columns(path, table)
    if not table.num_rows:
        raise TraceError(f"{path}: the table has no rows")
    columns: dict[str, Any] = {
        name: tables.numbers(path, table, name) for name in tables.NUMBERS if name in table.column_names
    }
    start = None
    if "time" in table.column_names:
        at_s, base = tables.times(path, table, seed)
        if at_s.size and not (np.diff(at_s) < 0).any():
            start = _instant(base, float(at_s[0]), zone)
            at_s = at_s - at_s[0]
        columns["at_s"] = at_s
    at_s = columns["at_s"]
    if "route" in table.column_names:
        columns["route"] = np.array([str(route) for route in table["route"].to_pylist()])
    has_cpu = "cpu_s" in columns
    try:
        trace = Trace.from_arrays(
            **{"cpu_s": np.zeros(len(at_s)), **columns},
            span_s=max(60.0, math.ceil(at_s[-1] / 60 - 1e-9) * 60.0) if "time" in table.column_names else None,
            start=start,
            source=Source(
                files=(str(path),),
                format=kind,
                lines=table.num_rows + skipped.count,
                skipped=skipped.count,
                first_skipped=tuple(skipped.first),
                notes=notes,
            ),
        )
    except TraceError as error:
        raise TraceError(f"{path}: {error}") from None
    return trace, has_cpu


def _instant(base: int, offset_s: float, zone: ZoneInfo) -> datetime:
    """A real time from whole seconds since 1970 and an offset."""
    microseconds = math.floor(offset_s * 1e6)
    whole = datetime.fromtimestamp(base + microseconds // 1_000_000, UTC)
    return whole.replace(microsecond=microseconds % 1_000_000).astimezone(zone)
