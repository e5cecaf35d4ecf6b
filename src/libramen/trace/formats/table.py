"""Trace tables with the model's columns, whatever the file they come from."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import Any, Final

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from libramen.base.errors import TraceError
from libramen.base.fields import nearest
from libramen.trace.arrays import MOST_REQUESTS
from libramen.trace.formats.called import SECONDS, has_paths, mapping_of, meant_by, names_said, unit_of
from libramen.trace.formats.reader import Reading
from libramen.trace.growing import Codes, Growing, blocks, remapped
from libramen.trace.options import ReadOptions
from libramen.trace.raw_requests import RawRequests
from libramen.trace.source import Made
from libramen.trace.sources import BROKEN, Opened
from libramen.trace.write import MADE

NUMBERS: Final = ("at_s", "cpu_s", "wait_s", "bytes_out", "latency_s", "status")
PERCENTILES: Final = ("mean_s", "p50_s", "p90_s", "p95_s", "p99_s")
COLUMNS: Final = ("time", *NUMBERS, "route", "server", "visitor", "area", "requests", *PERCENTILES)
TEXTS: Final = ("route", "server", "visitor", "area")
IN: Final = re.compile(r"in_(.+)_s")
"""A column of how much of a request was spent at another service."""
_PLAIN_NUMBER: Final = r"^[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]+)?$"
_LINES: Final = b"lines"
_FIRST_S: Final = 1e8
"""Times since 1970 begin in March 1973 [s]. So many milliseconds are later than any second up to the year 5138."""
_ISO: Final = r"^\d{4}-\d{2}-\d{2}[T ]\d{2}:\d{2}:\d{2}(\.\d+)?(Z|[+-]\d{2}:?\d{2})?$"


def first_line_of(error: Exception) -> str:
    """What an error of a library says, short."""
    return (str(error).splitlines() or [type(error).__name__])[0][:200]


def saying(table: pa.Table, made: bytes | str | None, *lines: int) -> pa.Table:
    """The table with what it says of itself, and the lines of its rows, in its metadata.

    Args:
        table: some rows.
        made: what it says, None: nothing.
        lines: of its rows, or of the first one if they follow each other.
    """
    follow = len(lines) > 1 and lines[-1] - lines[0] == len(lines) - 1
    metadata = {_LINES: json.dumps(lines[:1] if follow else lines)} | ({} if made is None else {MADE: made})
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


def arrow_blocks(opened: Opened, batches: Callable[[Any], Iterator[pa.RecordBatch]], kind: str) -> Iterator[pa.Table]:
    """A table that Arrow reads, block by block, each checked before it is touched.

    Args:
        opened: the file; one that lies on disk unpacked is read where it lies, else it is read whole.
        batches: what Arrow makes of a file's path or of its bytes.
        kind: for messages.

    Raises:
        TraceError: it is not of this kind, or damaged.
    """
    try:
        first_row = 0
        for batch in batches(opened.place or pa.BufferReader(whole(opened))):
            # What is damaged must not be touched: offsets beyond the data would be followed wherever they lead.
            batch.validate(full=True)
            table = pa.Table.from_batches([batch])
            table.column_names  # noqa: B018  (names are not validated, and may be no UTF-8)
            metadata = batch.schema.metadata or {}
            yield saying(table, metadata.get(MADE), first_row + 1)
            first_row += batch.num_rows
    except (pa.ArrowException, OSError, ValueError, MemoryError) as error:
        if isinstance(error, TraceError):
            raise
        raise TraceError(f"{opened.path}: this is not a whole {kind} file: {first_line_of(error)}") from None


def whole(opened: Opened) -> bytes:
    """The whole file, unpacked.

    Raises:
        TraceError: it cannot be read to its end.
    """
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
        if ours not in COLUMNS and not IN.fullmatch(ours):
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
        mapping = mapping_of(names)
        allowed = f"a mapping such as {mapping}" if mapping else ", ".join(COLUMNS)
        raise TraceError(
            f"{path}: there is no column at_s or time; found: {', '.join(names) or 'none'}; allowed: {allowed}"
        )
    if "at_s" in names and "time" in names:
        raise TraceError(f"{path}: there are a column at_s and a column time; allowed: one of them")
    other = [name for name in names if name not in COLUMNS and not IN.fullmatch(name)]
    counted = ("times are numbers since 1970, in UTC",) if "time" in names and _are_numbers(table["time"]) else ()
    return counted + tuple(
        f"column {name!r} of {path.name} is not used; "
        + (f"did you mean {ours!r}?" if (ours := meant_by(name)) not in {None, *names} else nearest(name, COLUMNS))
        for name in other
    )


def numbers(path: Path, table: pa.Table, name: str) -> np.ndarray:
    """A column as float64; an empty cell is NaN.

    Raises:
        TraceError: a cell is not a number; it names the row.
    """
    column = table[name]
    if not (pa.types.is_string(column.type) or pa.types.is_large_string(column.type)):
        try:
            values = pc.cast(column, pa.float64(), safe=not pa.types.is_integer(column.type))
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


def seconds(path: Path, table: pa.Table, name: str, options: ReadOptions) -> np.ndarray:
    """A column as float64, in seconds whatever unit it is written down in; see `numbers`."""
    return numbers(path, table, name) * SECONDS[unit_of(name, options)]


def _place(table: pa.Table, row: int) -> str:
    """Where a row stands, for messages."""
    lines = json.loads((table.schema.metadata or {}).get(_LINES, "[1]"))
    return f"line {lines[row] if row < len(lines) else lines[0] + row}"


def times(path: Path, table: pa.Table, zone: str) -> tuple[np.ndarray, int]:
    """Column `time`: int64 (n,) microseconds since 1970, and how many stamps have no offset of their own.

    Such a stamp is a local time of the zone.

    One that a change of clocks skips is the next that exists, one that it repeats is the first of the two.

    Raises:
        TraceError: a cell is neither an ISO 8601 time nor one since 1970; it names the row.
    """
    column = table["time"]
    if _are_numbers(column):
        return _since_1970(path, table), 0
    if pa.types.is_timestamp(column.type):
        microseconds = pc.cast(column, pa.timestamp("us", tz=column.type.tz), safe=False)
        without_offset = 0 if column.type.tz else len(column)
        if column.null_count:
            raise TraceError(f"{path}: column time: {column.null_count} cells are empty; allowed: an ISO 8601 time")
        if without_offset:
            microseconds = _local(microseconds, zone)
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
        without_offset = len(text) - int(pc.sum(zoned).as_py() or 0)
        try:
            # As if all were UTC; those without an offset are then taken for what they are.
            utc = pc.cast(
                pc.if_else(zoned, text, pc.binary_join_element_wise(text, "Z", "")), pa.timestamp("us", tz="UTC")
            )
            microseconds = utc
            if without_offset:
                naive = pc.cast(pc.cast(utc, pa.int64()), pa.timestamp("us"))
                microseconds = pc.if_else(zoned, pc.cast(utc, pa.int64()), pc.cast(_local(naive, zone), pa.int64()))
        except pa.ArrowException as error:
            raise TraceError(f"{path}: column time: {first_line_of(error)}") from None
    return pc.cast(microseconds, pa.int64()).to_numpy(), without_offset


def _are_numbers(column: pa.ChunkedArray) -> bool:
    """Whether times are numbers, not texts such as ISO 8601: the first cell tells."""
    if pa.types.is_string(column.type) or pa.types.is_large_string(column.type):
        first = next((text for text in column.slice(0, 1).to_pylist() if text), "")
        return re.fullmatch(_PLAIN_NUMBER, first.strip()) is not None
    return bool(pa.types.is_integer(column.type) or pa.types.is_floating(column.type))


def _since_1970(path: Path, table: pa.Table) -> np.ndarray:
    """Times in s, ms, us or ns since 1970, whose size tells the unit: int64 (n,) [us]."""
    values = numbers(path, table, "time")
    fits = (values >= _FIRST_S) & (values < _FIRST_S * 1e11)
    if not fits.all():
        row = int(np.flatnonzero(~fits)[0])
        raise TraceError(
            f"{path}: {_place(table, row)}, column time: found {table['time'][row].as_py()!r}; allowed: an ISO 8601 "
            "time such as 2031-06-07T09:30:00+01:00, or one since 1970, in s, ms, us or ns"
        )
    of_second = 1000.0 ** np.floor(np.log10(values / _FIRST_S) / 3)  # units in a second: 1, 1e3, 1e6 or 1e9
    micro: np.ndarray = np.round(values * (1e6 / of_second)).astype(np.int64)
    return micro


def _local(naive: pa.ChunkedArray, zone: str) -> pa.ChunkedArray:
    return pc.assume_timezone(naive, zone, ambiguous="earliest", nonexistent="latest")


class _Columns:
    """The columns of a table while its blocks come; a column that a block lacks has no values there."""

    def __init__(self) -> None:
        self.n = 0
        self.numbers: dict[str, Growing] = {}
        self.texts: dict[str, Codes] = {}
        self.micro = Growing(np.int64)
        self.without_offset = 0

    def add(self, path: Path, table: pa.Table, options: ReadOptions) -> None:
        """One more block."""
        names, n = table.column_names, table.num_rows
        wanted = [name for name in names if name in NUMBERS or IN.fullmatch(name)]
        for name in [*wanted, *(name for name in self.numbers if name not in wanted)]:
            if name not in self.numbers:
                self.numbers[name] = Growing(np.float64)
                self.numbers[name].add_same(np.nan, self.n)
            if name in names:
                self.numbers[name].add(seconds(path, table, name, options))
            else:
                self.numbers[name].add_same(np.nan, n)
        for name in TEXTS:
            if name not in names and name not in self.texts:
                continue
            if name not in self.texts:
                self.texts[name] = Codes()
                self.texts[name].add(np.full(self.n, -1), [])
            codes, texts = _coded(table, name) if name in names else (np.full(n, -1), [])
            self.texts[name].add(codes, texts)
        if "time" in names:
            micro, without_offset = times(path, table, options.time_zone)
            self.micro.add(micro)
            self.without_offset += without_offset
        self.n += n
        if self.micro.n not in {0, self.n} or ("at_s" in self.numbers and self.micro.n):
            raise TraceError(f"{path}: some rows have a time and some an at_s; allowed: one of them in all rows")
        if self.n > MOST_REQUESTS:
            raise TraceError(f"{path}: there are more than {MOST_REQUESTS:,} rows; allowed: up to so many")


def found_in(kind: str, path: Path, tables: Iterator[pa.Table], reading: Reading) -> RawRequests:
    """The requests of a table that comes in blocks.

    Raises:
        TraceError: it has no rows or no times, or a cell cannot be read.
    """
    columns, made, zone = _Columns(), Made(), reading.options.time_zone
    notes: dict[str, None] = {}
    for number, block in enumerate(tables):
        table, told = taken_from(path, block)
        if told != Made() and reading.options.latency_unit is not None:
            raise TraceError(
                f"latency_unit has no effect: {path} was written by libramen, in seconds; allowed: to leave it out"
            )
        table = renamed(path, table, reading.options.columns)
        notes |= dict.fromkeys(check_columns(path, table))
        if "requests" in table.column_names:
            if number:
                raise TraceError(f"{path}: some rows have requests and some have none; allowed: counts in all rows")
            others = [renamed(path, taken_from(path, more)[0], reading.options.columns) for more in tables]
            return _counts_in(path, [table, *others], told, reading, list(notes))
        made = made if number else told
        columns.add(path, table, reading.options)
    if not columns.n:
        raise TraceError(f"{path}: the table has no rows")
    said = [*notes, *names_said(reading.options, [*columns.numbers])]
    if columns.without_offset:
        said.append(_local_times(path, columns.without_offset, zone))
    if reading.options.latency_unit is not None and "latency_s" not in columns.numbers:
        raise TraceError(f"latency_unit has no effect: {path} has no column latency_s; allowed: to leave it out")
    values, at_s, base, whole_seconds = _times_and_numbers(columns)
    texts = columns.texts
    return RawRequests(
        format=kind,
        files=(str(path),),
        at_s=at_s,
        base=base,
        stamp="arrival",
        whole_seconds=whole_seconds,
        skipped=reading.skipped,
        lines=columns.n + reading.skipped.count,
        labels=_named(texts["route"], "no route") if "route" in texts else None,
        servers=_named(texts["server"], "") if "server" in texts else None,
        visitor=texts["visitor"].take()[0] if "visitor" in texts else None,
        areas=_named(texts["area"], "unknown") if "area" in texts else None,
        in_s={match[1]: column.take() for name, column in columns.numbers.items() if (match := IN.fullmatch(name))},
        fold=has_paths(reading.options),
        made=made,
        notes=said,
        **values,
    )


def _local_times(path: Path, n: int, zone: str) -> str:
    return f"{n:,} times of {path.name} have no offset: they are local times of {zone} (time_zone)"


def _times_and_numbers(columns: _Columns) -> tuple[dict[str, Any], np.ndarray, int | None, bool]:
    """The other numbers by name, then the arrivals: from when on they count, and whether they are whole seconds."""
    values: dict[str, Any] = {name: columns.numbers[name].take() for name in NUMBERS if name in columns.numbers}
    at_s = values.pop("at_s", None)
    return (values, at_s, None, False) if at_s is not None else (values, *_since(columns.micro.take()))


def _since(micro: np.ndarray) -> tuple[np.ndarray, int, bool]:
    """Seconds since a base in the place of microseconds since 1970; the base [s]; whether all are whole seconds."""
    base = int(micro.min() // 1_000_000)
    at_s, are_whole = micro.view(np.float64), True
    for rows in blocks(len(micro)):
        some = micro[rows]
        are_whole = are_whole and not (some % 1_000_000).any()
        at_s[rows] = (some - base * 1_000_000) / 1e6
    return at_s, base, are_whole


def _coded(table: pa.Table, column: str) -> tuple[np.ndarray, list[str]]:
    """Codes of a column of texts, -1: empty; and the texts."""
    cells = table[column].combine_chunks()
    kind = cells.type.value_type if pa.types.is_dictionary(cells.type) else cells.type
    if not (pa.types.is_string(kind) or pa.types.is_large_string(kind)):
        cells = pa.array([None if text is None else str(text) for text in cells.to_pylist()], pa.string())
    elif pa.types.is_dictionary(cells.type):
        cells = pc.cast(cells, kind)
    coded = cells.dictionary_encode()
    codes = pc.fill_null(coded.indices, -1).to_numpy(zero_copy_only=False)
    return codes, coded.dictionary.to_pylist()


def _named(texts: Codes, nothing: str) -> tuple[np.ndarray, list[str]]:
    """Codes and texts in alphabetical order, with a text for those that have none."""
    codes, names = texts.take()
    if len(codes) and int(codes.min()) < 0:
        names = [*names, nothing] if nothing not in names else names
    order = sorted(names)
    place = {text: at for at, text in enumerate(order)}
    lookup = np.array([*(place[text] for text in names[: len(texts.texts)]), place.get(nothing, -1)], np.int32)
    return remapped(codes, lookup), order


def _counts_in(path: Path, tables: list[pa.Table], made: Made, reading: Reading, notes: list[str]) -> RawRequests:
    """Single requests from a table with a number of requests per interval, which is never long."""
    table = pa.concat_tables(tables, promote_options="default").replace_schema_metadata(tables[0].schema.metadata)
    if not table.num_rows:
        raise TraceError(f"{path}: the table has no rows")
    columns = _Columns()
    columns.add(path, table, reading.options)
    values, at_s, base, whole_seconds = _times_and_numbers(columns)
    if columns.without_offset:
        notes.append(_local_times(path, columns.without_offset, reading.options.time_zone))
    found = RawRequests(
        format="counts",
        files=(str(path),),
        at_s=at_s,
        base=base,
        stamp="arrival",
        whole_seconds=whole_seconds,
        skipped=reading.skipped,
        lines=table.num_rows + reading.skipped.count,
        labels=_named(columns.texts["route"], "no route") if "route" in columns.texts else None,
        fold=False,
        made=made,
        notes=notes,
        **values,
    )
    from libramen.trace.formats.counts_table import from_counts

    return from_counts(path, table, found, reading.options)
