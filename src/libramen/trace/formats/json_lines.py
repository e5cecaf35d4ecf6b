"""JSON Lines: an object a request."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from typing import ClassVar, Final

import pyarrow as pa
import pyarrow.compute as pc
from pyarrow import json as arrow_json

from libramen.base.errors import TraceError
from libramen.trace.formats.reader import Head, Reading
from libramen.trace.formats.table import COLUMNS, IN, TEXTS, found_in, saying
from libramen.trace.lines import blocks_of, refuse_garbage
from libramen.trace.raw_requests import RawRequests
from libramen.trace.sources import Opened

_NEEDED: Final = {"time": ("time", "at_s"), "latency_s": ("latency_s", "cpu_s", "requests")}
"""What a line must have, if others have it: one of these."""


class JsonLines:
    """Tables as JSON Lines; see `reader.Reader`."""

    formats: ClassVar[dict[str, tuple[str, ...]]] = {"json_lines": ("columns", "latency_unit")}
    merges: ClassVar[bool] = False

    def recognise(self, head: Head) -> str | None:
        """Whether the first line that is not empty begins an object."""
        first = next((line for line in head.lines if line.strip()), b"")
        return "json_lines" if first.lstrip().startswith(b"{") else None

    def read(self, kind: str, opened: Opened, head: Head, reading: Reading) -> RawRequests:  # noqa: ARG002
        """Read the whole file."""
        return found_in(kind, opened.path, json_blocks(opened, reading), reading)


def json_blocks(opened: Opened, reading: Reading) -> Iterator[pa.Table]:
    """The rows of a JSON Lines file, an object each, block by block.

    Lines that are no object are skipped and counted, and so are those that have no time, or no work, where others have
    it: a log is also about other things than requests.

    Raises:
        TraceError: no line is an object.
    """
    skipped, path, columns = reading.skipped, str(opened.path), reading.options.columns
    inner = [theirs for theirs in columns.values() if "." in theirs]
    made = None
    n = 0
    for block in blocks_of(opened, skipped, reading.position):
        table = _at_once(block.data, columns)
        if table is not None:
            n += table.num_rows
            yield saying(table, made, block.first_line)
            continue
        rows: dict[int, dict[str, object]] = {}  # by line
        for number, line in enumerate(block.data.split(b"\n"), start=block.first_line):
            if not line.strip():
                continue
            try:
                row = json.loads(line)
            except (ValueError, RecursionError) as error:
                skipped.add(path, number, f"not JSON: {str(error)[:60]}")
                continue
            if isinstance(row, dict) and list(row) == ["libramen"] and not n and not rows:
                made = json.dumps(row["libramen"])
            elif isinstance(row, dict):
                rows[number] = _opened(row, inner) if inner else row
            else:
                skipped.add(path, number, f"not a JSON object but {type(row).__name__}")
        table = _table(rows)
        for what, names in _needed(columns):
            if _all_have(table, names):
                continue
            without = [number for number, row in rows.items() if all(row.get(name) is None for name in names)]
            if len(without) < len(rows) or (n and what == "time"):
                for number in without:
                    skipped.add(path, number, f"no {what}")
                    del rows[number]
                table = _table(rows)
            elif what == "time":  # nobody has one: then it is said what they have instead
                table = _table({number: _flat(row) for number, row in rows.items()})
        if rows:
            n += len(rows)
            yield saying(table, made, *rows)
        refuse_garbage(path, n, skipped)
    if not n:
        raise TraceError(f"{path}: no line is a JSON object")


def _opened(row: dict[str, object], inner: list[str]) -> dict[str, object]:
    """An object with what stands within others under the names of the way there, such as `request.path`.

    What has been opened is left out: it is used.
    """
    found: dict[str, object] = {}
    for path in inner:
        value: object = row
        for name in path.split("."):
            value = value.get(name) if isinstance(value, dict) else None
        if path not in row and value is not None:
            found[path] = value
    used = {path.partition(".")[0] for path in found}
    return {name: value for name, value in row.items() if name not in used} | found


def _flat(row: dict[str, object], depth: int = 3) -> dict[str, object]:
    """An object with what stands within others in their place, under the names of the way there."""
    found: dict[str, object] = {}
    for name, value in row.items():
        if isinstance(value, dict) and depth:
            found |= {f"{name}.{inner}": one for inner, one in _flat(value, depth - 1).items()}
        else:
            found[name] = value
    return found


def _needed(columns: Mapping[str, str]) -> Iterator[tuple[str, list[str]]]:
    """What a line must have, if others have it, and the keys of which one is enough."""
    for what, ours in _NEEDED.items():
        yield what, [columns.get(name, name) for name in ours]


def _all_have(table: pa.Table, names: list[str]) -> bool:
    return any(name in table.column_names and not table[name].null_count for name in names)


def _at_once(data: bytes, columns: Mapping[str, str]) -> pa.Table | None:
    """The rows of a block in which each line is an object and nothing is odd; None: look at each line.

    That takes a tenth of the time.
    """
    lines = data.count(b"\n")
    ends = data.count(b"}\n") + data.count(b"}\r\n")
    if not data.startswith(b"{") or data.count(b"\n{") != lines - 1 or ends != lines:
        return None
    try:
        data.decode()  # the parser does not look at that
        first = json.loads(data[: data.index(b"\n")])
        if list(first) == ["libramen"]:
            return None
        texts = pa.schema([(name, pa.string()) for name, value in first.items() if isinstance(value, str)])
        table = arrow_json.read_json(
            pa.BufferReader(data),
            read_options=arrow_json.ReadOptions(block_size=len(data) + 1, use_threads=False),
            parse_options=arrow_json.ParseOptions(explicit_schema=texts),  # else some are taken for times
        )
    except (ValueError, RecursionError, pa.ArrowException):
        return None
    if any("." in theirs for theirs in columns.values()):
        table = _opened_table(table, [theirs for theirs in columns.values() if "." in theirs])
    there = [name for name in table.column_names if table[name].null_count < lines]
    for what, names in _needed(columns):
        if not _all_have(table, names) and (what == "time" or not set(there).isdisjoint(names)):
            return None
    if table.num_rows != lines:
        return None
    ours = {theirs: name for name, theirs in columns.items()}
    cells = {name: _plain(table[name], ours.get(name, name)) for name in table.column_names}
    return None if any(column is None for column in cells.values()) else pa.table(cells)


def _opened_table(table: pa.Table, inner: list[str]) -> pa.Table:
    """The same of a table; see `_opened`."""
    used: dict[str, None] = {}
    for path in inner:
        first, *rest = path.split(".")
        if path in table.column_names or first not in table.column_names:
            continue
        try:
            table = table.append_column(path, pc.struct_field(table[first], rest))
        except pa.ArrowException:  # nobody has it
            continue
        used[first] = None
    return table.drop_columns([*used])


def _plain(column: pa.ChunkedArray, name: str) -> pa.ChunkedArray | pa.Array | None:
    """A column as it would be if each cell were written down: texts, or numbers; None: it is of another kind."""
    is_known, kind = name in COLUMNS or IN.fullmatch(name), column.type
    if not is_known:
        return pa.nulls(len(column), pa.string())
    if pa.types.is_string(kind):
        return column
    if pa.types.is_null(kind) or (name in TEXTS and pa.types.is_int64(kind)):
        return pc.cast(column, pa.string())
    if name not in TEXTS and (pa.types.is_int64(kind) or pa.types.is_float64(kind)):
        return pc.cast(column, pa.float64(), safe=False)
    return None


def _table(rows: dict[int, dict[str, object]]) -> pa.Table:
    """All of their cells as texts."""
    names = list(dict.fromkeys(name for row in rows.values() for name in row))
    return pa.table(
        {_cell(name) or "": pa.array([_cell(row.get(name)) for row in rows.values()], pa.string()) for name in names}
    )


def _cell(value: object) -> str | None:
    if value is None:
        return None
    text = value if isinstance(value, str) else json.dumps(value)
    return text.encode("utf-8", "replace").decode()  # JSON may have halves of surrogate pairs
