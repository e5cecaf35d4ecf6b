"""CSV: one row a request, or one an interval with a number of requests."""

from __future__ import annotations

import io
from csv import Error as CsvError
from csv import reader as csv_rows
from typing import TYPE_CHECKING, ClassVar, Final

import pyarrow as pa
import pyarrow.compute as pc
from pyarrow import csv

from libramen.errors import TraceError
from libramen.trace.formats.table import COLUMNS, first_line_of, found_in, saying, whole

if TYPE_CHECKING:
    from libramen.trace.formats.reader import Head, Reading
    from libramen.trace.lines import SkippedLines
    from libramen.trace.raw_requests import RawRequests
    from libramen.trace.sources import Opened

_CSV_MADE: Final = b"# libramen: "


class CsvTable:
    """Tables as CSV; see `reader.Reader`."""

    formats: ClassVar[dict[str, tuple[str, ...]]] = {"csv": ("columns",), "counts": ("columns", "counts", "work")}
    merges: ClassVar[bool] = False

    def recognise(self, head: Head) -> str | None:
        """Whether the first line says how a table of ours was made, or names columns of the model or of a user."""
        data = head.data
        if data.startswith(_CSV_MADE):
            return None if data.partition(b"\n")[2].lstrip().startswith(b"{") else "csv"
        first = next((line for line in head.lines if line.strip()), b"")
        names = (name.strip().strip('"').removeprefix("\ufeff") for name in first.decode("utf-8", "replace").split(","))
        header = set(names)
        if header & {*COLUMNS, *head.names}:
            return "counts" if "requests" in header else "csv"
        return None

    def read(self, kind: str, opened: Opened, head: Head, reading: Reading) -> RawRequests:  # noqa: ARG002
        """Read the whole file."""
        return found_in(kind, opened.path, read_csv_table(opened, reading.skipped), reading)


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

    data = whole(opened)
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
        raise TraceError(f"{path}: this is not a CSV table: {first_line_of(error)}") from None
    if made is not None and "route" in names:  # a table of ours: without what keeps spreadsheets from running cells
        route = pc.replace_substring_regex(table["route"], r"^'([=+\-@\t])", r"\1")
        table = table.set_column(names.index("route"), "route", route)
    return saying(table, made, first_line)
