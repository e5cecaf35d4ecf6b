"""Trace tables with the model's columns, whatever the file they come from."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, Any, Final, NamedTuple

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from libramen.errors import TraceError
from libramen.fields import nearest
from libramen.trace.raw_requests import RawRequests
from libramen.trace.sources import BROKEN
from libramen.trace.trace import Made
from libramen.trace.write import MADE

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping
    from pathlib import Path

    from libramen.trace.formats.reader import Reading
    from libramen.trace.options import ReadOptions
    from libramen.trace.sources import Opened

NUMBERS: Final = ("at_s", "cpu_s", "wait_s", "bytes_out", "latency_s", "status")
PERCENTILES: Final = ("mean_s", "p50_s", "p90_s", "p95_s", "p99_s")
COLUMNS: Final = ("time", *NUMBERS, "route", "server", "visitor", "requests", *PERCENTILES)
_IN: Final = re.compile(r"in_(.+)_s")
"""A column of how much of a request was spent at another service."""
_PLAIN_NUMBER: Final = r"^[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]+)?$"
_FIRST_LINE: Final = b"first line"
_ISO: Final = r"^\d{4}-\d{2}-\d{2}[T ]\d{2}:\d{2}:\d{2}(\.\d+)?(Z|[+-]\d{2}:?\d{2})?$"


def first_line_of(error: Exception) -> str:
    """What an error of a library says, short."""
    return (str(error).splitlines() or [type(error).__name__])[0][:200]


def saying(table: pa.Table, made: bytes | str | None, first_line: int = 1) -> pa.Table:
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


def arrow_table(opened: Opened, read: Callable[[bytes], pa.Table], kind: str) -> pa.Table:
    """A table that Arrow reads from the whole file, checked before it is touched.

    Raises:
        TraceError: it is not of this kind, or damaged.
    """
    try:
        table = read(whole(opened))
        # What is damaged must not be touched: offsets beyond the data would be followed wherever they lead.
        table.validate(full=True)
    except (pa.ArrowException, OSError, ValueError, MemoryError) as error:
        raise TraceError(f"{opened.path}: this is not a whole {kind} file: {first_line_of(error)}") from None
    metadata = table.schema.metadata or {}
    return saying(table, metadata.get(MADE))


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
        if ours not in COLUMNS and not _IN.fullmatch(ours):
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
    other = [name for name in names if name not in COLUMNS and not _IN.fullmatch(name)]
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


class Times(NamedTuple):
    """Column `time`.

    Attributes:
        at_s: float64 (n,), seconds from the base.
        base: in whole seconds since 1970.
        are_whole: whether no stamp has parts of a second.
        without_offset: how many stamps have no offset of their own.
    """

    at_s: np.ndarray
    base: int
    are_whole: bool
    without_offset: int


def times(path: Path, table: pa.Table, zone: str) -> Times:
    """Column `time`; a stamp without an offset is a local time of the zone.

    One that a change of clocks skips is the next that exists, one that it repeats is the first of the two.

    Raises:
        TraceError: a cell is not an ISO 8601 time; it names the row.
    """
    column = table["time"]
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
    micro = pc.cast(microseconds, pa.int64()).to_numpy()
    base = int(micro.min() // 1_000_000) if len(micro) else 0
    return Times((micro - base * 1_000_000) / 1e6, base, not (micro % 1_000_000).any(), without_offset)


def _local(naive: pa.ChunkedArray, zone: str) -> pa.ChunkedArray:
    return pc.assume_timezone(naive, zone, ambiguous="earliest", nonexistent="latest")


def found_in(kind: str, path: Path, table: pa.Table, reading: Reading) -> RawRequests:
    """The requests of a table.

    Raises:
        TraceError: it has no rows or no times, or a cell cannot be read.
    """
    table, made = taken_from(path, table)
    table = renamed(path, table, reading.options.columns)
    notes = list(check_columns(path, table))
    if not table.num_rows:
        raise TraceError(f"{path}: the table has no rows")
    has = set(table.column_names)
    values: dict[str, Any] = {name: numbers(path, table, name) for name in NUMBERS if name in has}
    at_s, base, whole = values.pop("at_s", None), None, False
    if at_s is None:
        at_s, base, whole, without_offset = times(path, table, reading.options.time_zone)
        if without_offset:
            notes.append(
                f"{without_offset:,} times of {path.name} have no offset: they are local times of "
                f"{reading.options.time_zone} (time_zone)"
            )
    labels = _labels(table, "route", "no route") if "route" in has else None
    in_s = {match[1]: numbers(path, table, name) for name in table.column_names if (match := _IN.fullmatch(name))}
    found = RawRequests(
        format=kind,
        files=(str(path),),
        at_s=at_s,
        base=base,
        stamp="arrival",
        whole_seconds=whole,
        skipped=reading.skipped,
        lines=table.num_rows + reading.skipped.count,
        labels=labels,
        servers=_labels(table, "server", "") if "server" in has else None,
        visitor=_visitors(table) if "visitor" in has else None,
        in_s=in_s,
        fold=False,
        made=made,
        notes=notes,
        **values,
    )
    return _from_counts(path, table, found, reading.options) if "requests" in has else found


def _visitors(table: pa.Table) -> np.ndarray:
    """A number for each visitor, in the order in which they first come; -1: not known."""
    coded = table["visitor"].combine_chunks().dictionary_encode()
    return np.asarray(pc.fill_null(coded.indices, -1).to_numpy(zero_copy_only=False), np.int32)


def _labels(table: pa.Table, column: str, nothing: str) -> tuple[np.ndarray, list[str]]:
    """Codes of a column of texts, and the texts."""
    texts = (nothing if text is None else str(text) for text in table[column].to_pylist())
    names, codes = np.unique(list(texts), return_inverse=True)
    return codes, [str(name) for name in names]


def _from_counts(path: Path, table: pa.Table, found: RawRequests, options: ReadOptions) -> RawRequests:
    """Single requests from a table with a number of requests per interval."""
    from libramen.trace import counts

    has = set(table.column_names)
    requests = numbers(path, table, "requests")
    evenly = options.counts == "even"
    starts_s = found.at_s
    at_s, row, length_s = counts.spread(path, starts_s, requests, evenly=evenly, seed=options.seed)
    if not len(row):
        raise TraceError(f"{path}: all counts are 0")
    order = np.argsort(at_s, kind="stable")
    percentiles = {name: numbers(path, table, name) for name in PERCENTILES if name in has}
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
