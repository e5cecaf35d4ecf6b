"""Trace tables: CSV, JSON Lines, Parquet and Arrow files with the model's columns."""

from __future__ import annotations

import io
import json
from csv import Error as CsvError
from csv import reader as csv_rows
from typing import TYPE_CHECKING, Final

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.ipc
from pyarrow import csv, parquet

from libramen.errors import TraceError
from libramen.fields import nearest
from libramen.trace.sources import BROKEN
from libramen.trace.trace import Made
from libramen.trace.write import MADE

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping
    from pathlib import Path

    from libramen.trace.lines import SkippedLines
    from libramen.trace.sources import Opened

NUMBERS: Final = ("at_s", "cpu_s", "wait_s", "bytes_out", "latency_s", "status")
PERCENTILES: Final = ("mean_s", "p50_s", "p90_s", "p95_s", "p99_s")
COLUMNS: Final = ("time", *NUMBERS, "route", "requests", *PERCENTILES)
_PLAIN_NUMBER: Final = r"^[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]+)?$"
_CSV_MADE: Final = b"# libramen: "
_FIRST_LINE: Final = b"first line"
_ISO: Final = r"^\d{4}-\d{2}-\d{2}[T ]\d{2}:\d{2}:\d{2}(\.\d+)?(Z|[+-]\d{2}:?\d{2})?$"


def read_csv_table(opened: Opened, skipped: SkippedLines) -> pa.Table:
    """The rows of a CSV file as columns of text; rows of another length are skipped and counted.

    Raises:
        TraceError: it is not CSV at all.
    """
    path = opened.path

    def skip(row: csv.InvalidRow) -> str:
        reason = f"{row.actual_columns} values where the header has {row.expected_columns}"
        skipped.add(str(path), 0 if row.number is None else row.number, reason)
        return "skip"

    data = _whole(opened)
    made, first_line = None, 2
    if data.startswith(_CSV_MADE):
        line, _, data = data.partition(b"\n")
        made, first_line = line.removeprefix(_CSV_MADE), 3
    try:
        data.decode("utf-8")
    except UnicodeDecodeError:  # Arrow would stop at the first such byte
        data = data.decode("utf-8", "replace").encode()
    try:
        header = next(iter(csv_rows(io.StringIO(data[: 1 << 16].decode("utf-8", "replace")))), [])
    except CsvError as error:
        raise TraceError(f"{path}: this is not a CSV table: {error}") from None
    names = [name.strip().removeprefix("\ufeff") for name in header]
    if len(set(names)) < len(names):
        raise TraceError(f"{path}: two columns have one name; found: {', '.join(names)}")
    try:
        table = csv.read_csv(
            pa.py_buffer(data),
            read_options=csv.ReadOptions(
                use_threads=False, block_size=max(1, len(data)) + 1, column_names=names, skip_rows=1
            ),
            parse_options=csv.ParseOptions(invalid_row_handler=skip, newlines_in_values=True),
            convert_options=csv.ConvertOptions(
                column_types=dict.fromkeys(names, pa.string()), strings_can_be_null=True, null_values=[""]
            ),
        )
    except (pa.ArrowException, UnicodeDecodeError) as error:
        raise TraceError(f"{path}: this is not a CSV table: {_first_line(error)}") from None
    if made is not None and "route" in names:  # a table of ours: without what keeps spreadsheets from running cells
        route = pc.replace_substring_regex(table["route"], r"^'([=+\-@\t])", r"\1")
        table = table.set_column(names.index("route"), "route", route)
    return _saying(table, made, first_line)


def _first_line(error: Exception) -> str:
    return (str(error).splitlines() or [type(error).__name__])[0][:200]


def _saying(table: pa.Table, made: bytes | str | None, first_line: int = 1) -> pa.Table:
    """The table with what it says of itself, and the line of its first row, in its metadata."""
    metadata = {_FIRST_LINE: str(first_line)} | ({} if made is None else {MADE: made})
    return table.replace_schema_metadata(metadata)


def taken_from(path: Path, table: pa.Table) -> tuple[pa.Table, Made]:
    """A table, and what it says of itself.

    Raises:
        TraceError: what it says cannot be understood.
    """
    text = (table.schema.metadata or {}).get(MADE)
    if text is None:
        return table, Made()
    try:
        return table, Made.from_json(text)
    except (ValueError, RecursionError) as error:
        raise TraceError(
            f"{path}: what it says of how it was made cannot be understood ({error}); allowed: what "
            "`libramen trace convert` writes, or nothing"
        ) from None


def read_json_lines(opened: Opened, skipped: SkippedLines) -> pa.Table:
    """The rows of a JSON Lines file, an object each; lines that are none are skipped and counted.

    Raises:
        TraceError: no line is an object.
    """
    rows: list[dict[str, object]] = []
    made = None
    for number, line in enumerate(_whole(opened).splitlines(), start=1):
        if not line.strip():
            continue
        try:
            row = json.loads(line)
        except (ValueError, RecursionError) as error:
            skipped.add(str(opened.path), number, f"not JSON: {str(error)[:60]}")
            continue
        if isinstance(row, dict) and list(row) == ["libramen"] and not rows:
            made = json.dumps(row["libramen"])
        elif isinstance(row, dict):
            rows.append(row)
        else:
            skipped.add(str(opened.path), number, f"not a JSON object but {type(row).__name__}")
    if not rows:
        raise TraceError(f"{opened.path}: no line is a JSON object")
    names = list(dict.fromkeys(name for row in rows for name in row))
    cells = {name: [_cell(row.get(name)) for row in rows] for name in names}
    return _saying(pa.table({name: pa.array(values, pa.string()) for name, values in cells.items()}), made)


def _cell(value: object) -> str | None:
    if value is None:
        return None
    text = value if isinstance(value, str) else json.dumps(value)
    return text.encode("utf-8", "replace").decode()  # JSON may have halves of surrogate pairs


def read_parquet_table(opened: Opened, skipped: SkippedLines) -> pa.Table:  # noqa: ARG001  (one signature for all)
    """The rows of a Parquet file.

    Raises:
        TraceError: it is not Parquet.
    """
    return _arrow(opened, lambda data: parquet.read_table(pa.BufferReader(data)), "Parquet")


def read_arrow_table(opened: Opened, skipped: SkippedLines) -> pa.Table:  # noqa: ARG001
    """The rows of an Arrow file or stream.

    Raises:
        TraceError: it is neither.
    """

    def read(data: bytes) -> pa.Table:
        if data.startswith(b"ARROW1"):
            return pa.ipc.open_file(pa.BufferReader(data)).read_all()
        return pa.ipc.open_stream(pa.BufferReader(data)).read_all()

    return _arrow(opened, read, "Arrow")


def _arrow(opened: Opened, read: Callable[[bytes], pa.Table], kind: str) -> pa.Table:
    try:
        table = read(_whole(opened))
        # What is damaged must not be touched: offsets beyond the data would be followed wherever they lead.
        table.validate(full=True)
    except (pa.ArrowException, OSError, ValueError, MemoryError) as error:
        raise TraceError(f"{opened.path}: this is not a whole {kind} file: {_first_line(error)}") from None
    metadata = table.schema.metadata or {}
    return _saying(table, metadata.get(MADE))


def _whole(opened: Opened) -> bytes:
    try:
        data: bytes = opened.content.read()
    except BROKEN as error:
        raise TraceError(f"{opened.path}: cannot be read to its end: {error}") from None
    return data


def renamed(path: Path, table: pa.Table, columns: Mapping[str, str]) -> pa.Table:
    """The table with the columns that a user maps under the names of the model.

    Raises:
        TraceError: the model has no such column, or the table has not.
    """
    names = list(table.column_names)
    for ours, theirs in columns.items():
        if ours not in COLUMNS:
            raise TraceError(f"columns: found {ours!r}; {nearest(ours, COLUMNS)}")
        if theirs not in names:
            raise TraceError(f"{path}: there is no column {theirs!r}; {nearest(theirs, names)}")
        if ours in names and ours != theirs:
            names[names.index(ours)] = f"{ours} (replaced)"
        names[names.index(theirs)] = ours
    return table.rename_columns(names).replace_schema_metadata(table.schema.metadata)


def check_columns(path: Path, table: pa.Table) -> tuple[str, ...]:
    """Say which columns of a table are not used.

    Raises:
        TraceError: it has no times.
    """
    names = table.column_names
    if "at_s" not in names and "time" not in names:
        raise TraceError(
            f"{path}: there is no column at_s or time; found: {', '.join(names) or 'none'}; "
            f"allowed: {', '.join(COLUMNS)}"
        )
    if "at_s" in names and "time" in names:
        raise TraceError(f"{path}: there are a column at_s and a column time; allowed: one of them")
    other = [name for name in names if name not in COLUMNS]
    return tuple(f"column {name!r} of {path.name} is not used; {nearest(name, COLUMNS)}" for name in other)


def numbers(path: Path, table: pa.Table, name: str) -> np.ndarray:
    """A column as float64; an empty cell is NaN.

    Raises:
        TraceError: a cell is not a number; it names the row.
    """
    column = table[name]
    if not (pa.types.is_string(column.type) or pa.types.is_large_string(column.type)):
        try:
            values = pc.cast(column, pa.float64())
        except pa.ArrowException:
            raise TraceError(f"{path}: column {name}: found {column.type}; allowed: numbers") from None
        return np.ascontiguousarray(values.to_numpy(), np.float64)
    cells = pc.utf8_trim_whitespace(column)
    try:
        return np.ascontiguousarray(pc.cast(cells, pa.float64()).to_numpy(), np.float64)
    except pa.ArrowInvalid:
        bad = np.flatnonzero(~pc.fill_null(pc.match_substring_regex(cells, _PLAIN_NUMBER), True).to_numpy())
        at = int(bad[0]) if bad.size else 0
        found = str(cells[at].as_py())[:40]
        raise TraceError(
            f"{path}: {_place(table, at)}, column {name}: found {found!r}; allowed: a number such as 0.25 or 1e-3"
        ) from None


def _place(table: pa.Table, row: int) -> str:
    """Where a row stands, for messages."""
    return f"line {row + int((table.schema.metadata or {}).get(_FIRST_LINE, 1))}"


def times(path: Path, table: pa.Table) -> tuple[np.ndarray, int, bool]:
    """Column `time`: seconds from a base, the base in whole seconds since 1970, and whether all are whole.

    A stamp without an offset is UTC.

    Raises:
        TraceError: a cell is not an ISO 8601 time; it names the row.
    """
    column = table["time"]
    if pa.types.is_timestamp(column.type):
        microseconds = pc.cast(column, pa.timestamp("us", tz=column.type.tz), safe=False)
        if column.null_count:
            raise TraceError(f"{path}: column time: {column.null_count} cells are empty; allowed: an ISO 8601 time")
    else:
        try:
            text = pc.utf8_trim_whitespace(column.cast(pa.string()))
        except pa.ArrowException:
            raise TraceError(f"{path}: column time: found {column.type}; allowed: ISO 8601 times") from None
        fits = pc.fill_null(pc.match_substring_regex(text, _ISO), False).to_numpy()
        if not fits.all():
            row = int(np.flatnonzero(~fits)[0])
            raise TraceError(
                f"{path}: {_place(table, row)}, column time: found {text[row].as_py()!r}; "
                "allowed: an ISO 8601 time such as 2031-06-07T09:30:00+01:00"
            )
        zoned = pc.match_substring_regex(text, r"(Z|[+-]\d{2}:?\d{2})$")
        text = pc.if_else(zoned, text, pc.binary_join_element_wise(text, "Z", ""))
        try:
            microseconds = pc.cast(text, pa.timestamp("us", tz="UTC"))
        except pa.ArrowException as error:
            raise TraceError(f"{path}: column time: {_first_line(error)}") from None
    micro = pc.cast(microseconds, pa.int64()).to_numpy()
    base = int(micro.min() // 1_000_000) if len(micro) else 0
    return (micro - base * 1_000_000) / 1e6, base, not (micro % 1_000_000).any()
