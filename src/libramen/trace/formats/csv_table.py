"""CSV: one row a request, or one an interval with a number of requests."""

from __future__ import annotations

import io
from collections.abc import Iterator
from csv import Error as CsvError, reader as csv_rows
from pathlib import Path
from typing import ClassVar, Final

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from pyarrow import csv

from libramen.base.errors import TraceError
from libramen.trace.formats.called import mapping_of
from libramen.trace.formats.reader import Head, Reading
from libramen.trace.formats.table import COLUMNS, first_line_of, found_in, saying
from libramen.trace.lines import LONGEST_LINE, Block, SkippedLines, blocks_of, refuse_garbage
from libramen.trace.raw_requests import RawRequests
from libramen.trace.sources import Opened

_CSV_MADE: Final = b"# libramen: "


class CsvTable:
    """Tables as CSV; see `reader.Reader`."""

    formats: ClassVar[dict[str, tuple[str, ...]]] = {
        "csv": ("columns", "latency_unit", "work"),
        "counts": ("columns", "latency_unit", "counts", "work"),
    }
    merges: ClassVar[bool] = False

    def recognise(self, head: Head) -> str | None:
        """Whether the first line says how a table of ours was made, or names columns: ours, a user's, or like ours."""
        data = head.data
        if data.startswith(_CSV_MADE):
            return None if data.partition(b"\n")[2].lstrip().startswith(b"{") else "csv"
        first = next((line for line in head.lines if line.strip()), b"")
        names = first.decode("utf-8", "replace").removeprefix("\ufeff").split(_delimiter_of(first))
        header = {name.strip().strip('"'): None for name in names}
        if header.keys() & {*COLUMNS, *head.names} or mapping_of(header):
            return "counts" if "requests" in header else "csv"
        return None

    def read(self, kind: str, opened: Opened, head: Head, reading: Reading) -> RawRequests:  # noqa: ARG002
        """Read the whole file."""
        return found_in(kind, opened.path, csv_blocks(opened, reading), reading)


def csv_blocks(opened: Opened, reading: Reading) -> Iterator[pa.Table]:
    """The rows of a CSV file as columns of text, block by block; rows of another length are skipped and counted.

    Raises:
        TraceError: it is not CSV at all.
    """
    path, n = opened.path, 0
    made: bytes | None = None
    names: list[str] = []
    delimiter = ","
    for block in _whole_rows(blocks_of(opened, reading.skipped, reading.position)):
        data, first_line = block.data, block.first_line
        if first_line == 1 and data.startswith(_CSV_MADE):
            line, _, data = data.partition(b"\n")
            made, first_line = line.removeprefix(_CSV_MADE), 2
        if not names:
            delimiter = _delimiter_of(data.lstrip().partition(b"\n")[0])
            names = _header(path, data, delimiter)
            if not names:
                continue
            skip = 1
        else:
            skip = 0
        table = _read(path, data, names, skip, first_line, reading.skipped, delimiter)
        if table is None:
            continue
        if made is not None and "route" in names:  # a table of ours: without what keeps spreadsheets from running cells
            route = pc.replace_substring_regex(table["route"], r"^'([=+\-@\t])", r"\1")
            table = table.set_column(names.index("route"), "route", route)
        n += table.num_rows
        yield saying(table, made, first_line + skip)
        refuse_garbage(str(path), n, reading.skipped)
    if not names:
        raise TraceError(f"{path}: this is not a CSV table: it has no line with the names of columns")


def _whole_rows(blocks: Iterator[Block]) -> Iterator[Block]:
    """Blocks that end where a row does: a value in quotes may go over several lines."""
    rest, first_line = b"", 1
    for block in blocks:
        data = rest + block.data
        first_line = block.first_line if not rest else first_line
        end = len(data) if data.count(b'"') % 2 == 0 else _end_of_rows(data)
        rest = data[end:]
        if len(rest) > LONGEST_LINE:  # a quote that is never closed is no sign that a value goes on
            end, rest = len(data), b""
        if end:
            yield Block(block.file, first_line, data[:end])
            first_line += data.count(b"\n", 0, end)
    if rest:
        yield Block("", first_line, rest)


def _end_of_rows(data: bytes) -> int:
    """Behind the last line end that is not within quotes."""
    letters = np.frombuffer(data, np.uint8)
    ends = np.flatnonzero(letters == ord("\n"))
    quotes = np.flatnonzero(letters == ord('"'))
    outside = ends[np.searchsorted(quotes, ends) % 2 == 0]
    return int(outside[-1]) + 1 if len(outside) else 0


def _delimiter_of(header: bytes) -> str:
    """What stands between the names of columns: a comma, or what spreadsheets of other countries write."""
    return max(",;\t", key=lambda mark: header.count(mark.encode()))  # the first, where none is there


def _header(path: Path, data: bytes, delimiter: str) -> list[str]:
    text = io.StringIO(data[: 1 << 16].decode("utf-8", "replace"))
    try:
        header = next(iter(csv_rows(text, delimiter=delimiter)), [])
    except CsvError as error:
        raise TraceError(f"{path}: this is not a CSV table: {error}") from None
    names = [name.strip().removeprefix("\ufeff") for name in header]
    if len(set(names)) < len(names):
        raise TraceError(f"{path}: two columns have one name; found: {', '.join(names)}")
    return names


def _read(
    path: Path, data: bytes, names: list[str], skip_rows: int, first_line: int, skipped: SkippedLines, delimiter: str
) -> pa.Table | None:
    """The rows of a block; None: there are none."""

    def skip(row: csv.InvalidRow) -> str:
        reason = f"{row.actual_columns} values where the header has {row.expected_columns}"
        skipped.add(str(path), 0 if row.number is None else first_line - 1 + row.number, reason)
        return "skip"

    try:
        data.decode("utf-8")
    except UnicodeDecodeError:  # Arrow would stop at the first such byte
        data = data.decode("utf-8", "replace").encode()
    if not data.strip():
        return None
    try:
        return csv.read_csv(
            pa.py_buffer(data),
            read_options=csv.ReadOptions(
                use_threads=False, block_size=len(data) + 1, column_names=names, skip_rows=skip_rows
            ),
            parse_options=csv.ParseOptions(delimiter=delimiter, invalid_row_handler=skip, newlines_in_values=True),
            convert_options=csv.ConvertOptions(
                column_types=dict.fromkeys(names, pa.string()), strings_can_be_null=True, null_values=[""]
            ),
        )
    except (pa.ArrowException, UnicodeDecodeError) as error:
        raise TraceError(f"{path}: this is not a CSV table: {first_line_of(error)}") from None
