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

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping
    from pathlib import Path

    from libramen.trace.lines import SkippedLines
    from libramen.trace.sources import Opened

NUMBERS: Final = ("at_s", "cpu_s", "wait_s", "bytes_out", "latency_s", "status")
PERCENTILES: Final = ("mean_s", "p50_s", "p90_s", "p95_s", "p99_s")
COLUMNS: Final = ("time", *NUMBERS, "route", "requests", *PERCENTILES)
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
        return csv.read_csv(
            pa.py_buffer(data),
            read_options=csv.ReadOptions(
                use_threads=False, block_size=max(1, len(data)) + 1, column_names=names, skip_rows=1
            ),
            parse_options=csv.ParseOptions(invalid_row_handler=skip, newlines_in_values=True),
            convert_options=csv.ConvertOptions(
                column_types=dict.fromkeys(names, pa.string()), strings_can_be_null=True, null_values=[""]
            ),
        )
    except (pa.ArrowInvalid, UnicodeDecodeError) as error:
        raise TraceError(f"{path}: this is not a CSV table: {str(error).splitlines()[0]}") from None


def read_json_lines(opened: Opened, skipped: SkippedLines) -> pa.Table:
    """The rows of a JSON Lines file, an object each; lines that are none are skipped and counted.

    Raises:
        TraceError: no line is an object.
    """
    rows = []
    for number, line in enumerate(_whole(opened).splitlines(), start=1):
        if not line.strip():
            continue
        try:
            row = json.loads(line)
        except ValueError as error:
            skipped.add(str(opened.path), number, f"not JSON: {str(error)[:60]}")
            continue
        if isinstance(row, dict):
            rows.append(row)
        else:
            skipped.add(str(opened.path), number, f"not a JSON object but {type(row).__name__}")
    if not rows:
        raise TraceError(f"{opened.path}: no line is a JSON object")
    names = list(dict.fromkeys(name for row in rows for name in row))
    cells = {name: [_cell(row.get(name)) for row in rows] for name in names}
    return pa.table({name: pa.array(values, pa.string()) for name, values in cells.items()})


def _cell(value: object) -> str | None:
    return None if value is None else value if isinstance(value, str) else json.dumps(value)


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
        return read(_whole(opened))
    except (pa.ArrowException, OSError) as error:
        raise TraceError(f"{opened.path}: this is not a {kind} file: {str(error).splitlines()[0]}") from None


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
    return table.rename_columns(names)


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
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
            raise TraceError(f"{path}: column {name}: found {column.type}; allowed: numbers") from None
        return np.ascontiguousarray(values.to_numpy(), np.float64)
    try:
        return np.ascontiguousarray(pc.cast(column, pa.float64()).to_numpy(), np.float64)
    except pa.ArrowInvalid:
        for row, cell in enumerate(column.to_pylist(), start=2):
            if cell is not None and not _is_number(cell):
                raise TraceError(f"{path}: line {row}, column {name}: found {cell[:40]!r}; allowed: a number") from None
        raise


def _is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True


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
        text = column.cast(pa.string())
        fits = pc.fill_null(pc.match_substring_regex(text, _ISO), False).to_numpy()
        if not fits.all():
            row = int(np.flatnonzero(~fits)[0])
            raise TraceError(
                f"{path}: line {row + 2}, column time: found {text[row].as_py()!r}; "
                "allowed: an ISO 8601 time such as 2031-06-07T09:30:00+01:00"
            )
        zoned = pc.match_substring_regex(text, r"(Z|[+-]\d{2}:?\d{2})$")
        text = pc.if_else(zoned, text, pc.binary_join_element_wise(text, "Z", ""))
        try:
            microseconds = pc.cast(text, pa.timestamp("us", tz="UTC"))
        except pa.ArrowInvalid as error:
            raise TraceError(f"{path}: column time: {str(error).splitlines()[0]}") from None
    micro = pc.cast(microseconds, pa.int64()).to_numpy()
    base = int(micro.min() // 1_000_000) if len(micro) else 0
    return (micro - base * 1_000_000) / 1e6, base, not (micro % 1_000_000).any()
