"""Writing traces as tables, and as counts per interval."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Final

import numpy as np

from libramen.base.errors import OutputError
from libramen.base.files import FORMULA, write_whole
from libramen.trace.growing import blocks
from libramen.trace.trace import Trace

if TYPE_CHECKING:
    import pyarrow as pa


_ROWS: Final = 1 << 17
"""That are written at once."""
SUFFIXES: Final = (".csv", ".jsonl", ".parquet", ".arrow")
MADE: Final = b"libramen"
"""Key of the schema's metadata under which a table says how it was made.

In CSV that is a first comment, `# libramen: {...}`, in JSON Lines a first object, `{"libramen": {...}}`.
"""


def write_trace(trace: Trace, path: str | Path, *, counts_every: float | None = None) -> None:
    """Write a trace as .csv, .jsonl, .parquet or .arrow, whole or not at all; it reads back the same.

    It says of itself how its demand was made, so that an estimate is not taken for a measurement later.

    Args:
        trace: the requests.
        path: where to.
        counts_every: instead of requests their number per interval of this length [s], with the
            percentiles of the latency where it is known.

    Raises:
        OutputError: the ending is not allowed, or the file cannot be written.
    """
    path = Path(path)
    if path.suffix not in SUFFIXES:
        raise OutputError(f"{path}: found the ending {path.suffix!r}; allowed: {', '.join(SUFFIXES)}")
    tables = _tables(trace) if counts_every is None else iter([counts_table(trace, counts_every)])
    write_whole(path, lambda temporary: _WRITERS[path.suffix](tables, temporary))


def _tables(trace: Trace) -> Iterator[pa.Table]:
    """The requests as tables, block by block."""
    yield from (trace_table(trace.part(rows)) for rows in blocks(len(trace), _ROWS))


def _write_parquet(tables: Iterator[pa.Table], path: Path) -> None:
    from pyarrow import parquet

    first = next(tables)
    with parquet.ParquetWriter(path, first.schema) as writer:
        for table in itertools.chain([first], tables):
            writer.write_table(table)


def _write_arrow(tables: Iterator[pa.Table], path: Path) -> None:
    import pyarrow as pa

    first = next(tables)
    with pa.OSFile(str(path), "wb") as sink, pa.ipc.new_file(sink, first.schema) as writer:
        for table in itertools.chain([first], tables):
            writer.write_table(table)


def _write_csv(tables: Iterator[pa.Table], path: Path) -> None:
    import pyarrow as pa
    import pyarrow.compute as pc
    from pyarrow import csv

    with path.open("wb") as lines:
        for number, table in enumerate(tables):
            if not number:
                lines.write(b"".join(b"# libramen: " + made + b"\n" for made in _made(table)))
            safe = table
            for name in ("route", "area"):
                if name in table.column_names:
                    texts, at = table[name].cast(pa.string()), table.column_names.index(name)
                    safe = safe.set_column(at, name, pc.replace_substring_regex(texts, *FORMULA))
            csv.write_csv(safe, lines, csv.WriteOptions(include_header=not number))


def _write_json_lines(tables: Iterator[pa.Table], path: Path) -> None:
    import json

    with path.open("w", encoding="utf-8") as lines:
        for number, table in enumerate(tables):
            if not number:
                lines.writelines(f'{{"libramen": {made.decode()}}}\n' for made in _made(table))
            for batch in table.to_batches(max_chunksize=1 << 14):
                lines.writelines(json.dumps(row) + "\n" for row in batch.to_pylist())


_WRITERS: Final[dict[str, Callable[[Iterator[pa.Table], Path], None]]] = {
    ".csv": _write_csv, ".jsonl": _write_json_lines, ".parquet": _write_parquet, ".arrow": _write_arrow,
}  # fmt: skip


def _made(table: pa.Table) -> list[bytes]:
    """What a table says of itself, where it says it."""
    made = (table.schema.metadata or {}).get(MADE)
    return [] if made is None else [made]


def trace_table(trace: Trace) -> pa.Table:
    """The requests as an Arrow table with the model's columns: `time` where the start is known, else `at_s`."""
    import pyarrow as pa

    columns: dict[str, object] = {}
    if trace.start is None:
        columns["at_s"] = trace.at_s
    else:
        columns["time"] = _iso_times(trace, trace.at_s)
    columns |= {"cpu_s": trace.cpu_s, "wait_s": trace.wait_s}
    columns["route"] = pa.array(trace.routes).take(pa.array(trace.route_codes))
    for name in ("bytes_out", "latency_s", "status"):
        if getattr(trace, name) is not None:
            columns[name] = getattr(trace, name)
    if trace.area is not None:
        columns["area"] = pa.array(trace.areas).take(pa.array(trace.area))
    # Not who sent them: a table may go to anybody.
    columns |= {f"in_{name}_s": values for name, values in trace.in_s.items()}
    return pa.table(columns).replace_schema_metadata({MADE: trace.made.to_json()})


def counts_table(trace: Trace, every_s: float) -> pa.Table:
    """Requests per interval, and the percentiles of their latencies where these are known."""
    import pyarrow as pa

    from libramen.base.ranks import PERCENTILES, nearest_rank

    if every_s <= 0:
        raise OutputError(f"every: found {every_s!r} s; allowed: above 0")
    n = max(1, int(np.ceil(trace.span_s / every_s - 1e-9)))
    edges = np.searchsorted(trace.at_s, np.arange(1, n) * every_s, side="left")
    starts = np.arange(n) * every_s
    columns: dict[str, object] = {"at_s": starts} if trace.start is None else {"time": _iso_times(trace, starts)}
    bounds = np.concatenate([[0], edges, [len(trace)]])
    columns["requests"] = np.diff(bounds)
    if trace.latency_s is not None:
        groups = [np.sort(trace.latency_s[first:last]) for first, last in itertools.pairwise(bounds.tolist())]
        for name in ("p50", "p95", "p99"):
            columns[f"{name}_s"] = [nearest_rank(g, PERCENTILES[name]) if len(g) else 0.0 for g in groups]
    return pa.table(columns)


def _iso_times(trace: Trace, at_s: np.ndarray) -> list[str]:
    """ISO 8601 with microseconds, UTC."""
    from datetime import UTC

    assert trace.start is not None
    base = np.datetime64(trace.start.astimezone(UTC).replace(tzinfo=None), "us")
    stamps = base + np.round(at_s * 1e6).astype("timedelta64[us]")
    return [f"{text}Z" for text in np.datetime_as_string(stamps, unit="us").tolist()]
