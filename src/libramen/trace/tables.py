"""Trace tables: CSV and Parquet files with the model's columns."""

from __future__ import annotations

import io
from csv import reader as csv_rows
from typing import TYPE_CHECKING, Final

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from pyarrow import csv, parquet

from libramen.errors import TraceError
from libramen.fields import nearest
from libramen.trace.lines import open_bytes
from libramen.trace.stamps import spread_within_second

if TYPE_CHECKING:
    from pathlib import Path

    from libramen.trace.lines import SkippedLines

NUMBERS: Final = ("at_s", "cpu_s", "wait_s", "bytes_out", "latency_s", "status")
COLUMNS: Final = ("time", *NUMBERS, "route")
_ISO: Final = r"^\d{4}-\d{2}-\d{2}[T ]\d{2}:\d{2}:\d{2}(\.\d+)?(Z|[+-]\d{2}:?\d{2})?$"


def read_csv_table(path: Path, skipped: SkippedLines) -> pa.Table:
    """The rows of a CSV file as columns of text; rows of another length are skipped and counted.

    Raises:
        TraceError: it is not CSV at all.
    """

    def skip(row: csv.InvalidRow) -> str:
        reason = f"{row.actual_columns} values where the header has {row.expected_columns}"
        skipped.add(str(path), 0 if row.number is None else row.number, reason)
        return "skip"

    content, raw = open_bytes(path)
    with raw:
        data = content.read()
    try:
        names = next(iter(csv_rows(io.StringIO(data.decode("utf-8", "replace")))))
        return csv.read_csv(
            pa.py_buffer(data),
            read_options=csv.ReadOptions(use_threads=False, block_size=max(1, len(data)) + 1),
            parse_options=csv.ParseOptions(invalid_row_handler=skip, newlines_in_values=True),
            convert_options=csv.ConvertOptions(
                column_types=dict.fromkeys(names, pa.string()), strings_can_be_null=True, null_values=[""]
            ),
        )
    except pa.ArrowInvalid as error:
        raise TraceError(f"{path}: this is not a CSV table: {str(error).splitlines()[0]}") from None


def read_parquet_table(path: Path) -> pa.Table:
    """The rows of a Parquet file.

    Raises:
        TraceError: it is not Parquet.
    """
    try:
        return parquet.read_table(path)
    except (pa.ArrowInvalid, OSError) as error:
        raise TraceError(f"{path}: this is not a Parquet file: {str(error).splitlines()[0]}") from None


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


def times(path: Path, table: pa.Table, seed: int) -> tuple[np.ndarray, int]:
    """Column `time`: seconds from a base, and the base in whole seconds since 1970.

    If all stamps are whole seconds, each is spread within its second. A stamp without an offset is UTC.

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
    relative = (micro - base * 1_000_000) / 1e6
    if len(micro) and not (micro % 1_000_000).any():
        relative = relative + spread_within_second(micro // 1_000_000, seed)
    return relative, base
