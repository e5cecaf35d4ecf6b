"""JSON Lines: an object a request."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from typing import ClassVar, Final

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from pyarrow import json as arrow_json

from libramen.base.errors import TraceError
from libramen.trace.formats.reader import Head, Reading
from libramen.trace.formats.table import COLUMNS, IN, TEXTS, found_in, saying
from libramen.trace.lines import MOST_BYTES, Block, blocks_of, refuse_garbage
from libramen.trace.raw_requests import RawRequests
from libramen.trace.sources import Opened

_NEEDED: Final = {"time": ("time", "at_s"), "latency_s": ("latency_s", "cpu_s", "requests")}
"""What a line must have, if others have it: one of these."""
_LIST: Final = re.compile(rb"\s*\[\s*\{")
_INNER: Final = re.compile(rb'"in_(?:[^"\\]|\\.)+_s"')
_MOST_OTHERS: Final = 50
"""So many columns that are not used are said."""
_DEEP: Final = 200
"""So many objects and lists in a line are no danger for a parser that calls itself."""


class JsonLines:
    """Tables as JSON Lines; see `reader.Reader`."""

    formats: ClassVar[dict[str, tuple[str, ...]]] = {"json_lines": ("columns", "latency_unit", "work")}
    merges: ClassVar[bool] = False

    def recognise(self, head: Head) -> str | None:
        """Whether the first line that is not empty begins an object, or a list of objects."""
        first = next((line for line in head.lines if line.strip()), b"").lstrip()
        return "json_lines" if first.startswith(b"{") or _LIST.match(head.data) else None

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
    for block in _blocks(opened, reading):
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
        table = _table(rows, columns)
        for what, names in _needed(columns):
            if _all_have(table, names):
                continue
            without = [number for number, row in rows.items() if all(row.get(name) is None for name in names)]
            if len(without) < len(rows) or (n and what == "time"):
                for number in without:
                    skipped.add(path, number, f"no {what}")
                    del rows[number]
                table = _table(rows, columns)
            elif what == "time":  # nobody has one: then it is said what they have instead
                table = _table({number: _flat(row) for number, row in rows.items()}, columns)
        if rows:
            n += len(rows)
            yield saying(table, made, *rows)
        refuse_garbage(path, n, skipped)
    if not n:
        raise TraceError(f"{path}: no line is a JSON object")


def _blocks(opened: Opened, reading: Reading) -> Iterator[Block]:
    """The lines of a file; of one that is a single list each of its objects is one.

    Raises:
        TraceError: such a list is too long, or not whole.
    """
    if not _LIST.match(opened.head(1024)):
        yield from blocks_of(opened, reading.skipped, reading.position)
        return
    path, data = str(opened.path), opened.head(MOST_BYTES + 1)
    if len(data) > MOST_BYTES:
        raise TraceError(f"{path}: found a list of more than {MOST_BYTES >> 20} MiB; allowed: an object a line")
    try:
        rows = json.loads(data)
    except (ValueError, RecursionError) as error:
        raise TraceError(f"{path}: this is not JSON: {str(error)[:60]}") from None
    yield Block(path, 1, b"".join(json.dumps(row).encode() + b"\n" for row in rows))


def _opened(row: dict[str, object], inner: list[str]) -> dict[str, object]:
    """An object with what stands within others under the names of the way there, such as `request.path`.

    What has been opened is left out: it is used.
    """
    found: dict[str, object] = {}
    for path in inner:
        value = _within(row, path)
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

    That is several times as fast. The first line says which columns are read, and as numbers or texts.
    """
    lines = data.count(b"\n")
    ends = data.count(b"}\n") + data.count(b"}\r\n")
    if not data.startswith(b"{") or data.count(b"\n{") != lines - 1 or ends != lines or not _is_shallow(data, lines):
        return None
    try:
        data.decode()  # the parser does not look at that
        first = json.loads(data[: data.index(b"\n")])
        kinds = None if list(first) == ["libramen"] else _kinds_in(first, columns, data)
        if kinds is None:
            return None
        ways = {path: _way_to(path, first) for path in kinds}
        table = arrow_json.read_json(
            pa.BufferReader(data),
            read_options=arrow_json.ReadOptions(block_size=len(data) + 1, use_threads=False),
            parse_options=arrow_json.ParseOptions(
                explicit_schema=pa.schema([*_nested({ways[path]: kind for path, kind in kinds.items()}).items()]),
                unexpected_field_behavior="ignore",
            ),
        )
    except (ValueError, RecursionError, pa.ArrowException):
        return None
    found = {path: pc.struct_field(table[way[0]], way[1:]) if way[1:] else table[path] for path, way in ways.items()}
    cells = {path: pc.cast(cell, pa.string()) if pa.types.is_int64(cell.type) else cell for path, cell in found.items()}
    rows = pa.table(cells)
    for what, names in _needed(columns):
        if not _all_have(rows, names) and (what == "time" or not cells.keys().isdisjoint(names)):
            return None
    if table.num_rows != lines:
        return None
    used = {way[0] for way in ways.values()}
    others = [_cell(name) or "" for name in first if name not in used][:_MOST_OTHERS]
    return pa.table(cells | {name: pa.nulls(lines) for name in others})


def _is_shallow(data: bytes, lines: int) -> bool:
    """Whether no line has more in it than a parser that calls itself can bear."""
    if data.count(b"{") + data.count(b"[") <= lines + _DEEP:
        return True
    letters = np.frombuffer(data, np.uint8)
    begins = np.flatnonzero((letters == ord("{")) | (letters == ord("[")))
    of_line = np.searchsorted(np.flatnonzero(letters == ord("\n")), begins)
    return int(np.bincount(of_line).max()) <= _DEEP


def _kinds_in(first: dict[str, object], columns: Mapping[str, str], data: bytes) -> dict[str, pa.DataType] | None:
    """As what each column of the model is to be read, by what it is called; None: the first line does not say."""
    kinds: dict[str, pa.DataType] = {}
    inner = [json.loads(name) for name in dict.fromkeys(_INNER.findall(data))] if b'"in_' in data else []
    called = {ours: columns.get(ours, ours) for ours in COLUMNS} | {name: name for name in inner} | dict(columns)
    for ours, theirs in called.items():
        value = first.get(theirs, _within(first, theirs))
        name = theirs.rpartition(".")[2]
        written = {json.dumps(name, ensure_ascii=only_ascii).encode() for only_ascii in (True, False)}
        if value is None and any(one in data for one in written):
            return None  # later ones have it
        if isinstance(value, str):
            kinds[theirs] = pa.string()
        elif isinstance(value, int | float) and not isinstance(value, bool) and ours not in TEXTS:
            kinds[theirs] = pa.float64()
        elif isinstance(value, int) and not isinstance(value, bool):
            kinds[theirs] = pa.int64()
        elif value is not None:
            return None
    return kinds


def _nested(kinds: Mapping[tuple[str, ...], pa.DataType]) -> dict[str, pa.DataType]:
    """Kinds of what stands in objects, by the way there, as kinds of these."""
    inner: dict[str, dict[tuple[str, ...], pa.DataType]] = {}
    for way, kind in kinds.items():
        inner.setdefault(way[0], {})[way[1:]] = kind
    return {name: rest[()] if () in rest else pa.struct([*_nested(rest).items()]) for name, rest in inner.items()}


def _way_to(path: str, row: dict[str, object]) -> tuple[str, ...]:
    """The names that lead to a value: one, where an object has a name with points in it."""
    return (path,) if path in row else tuple(path.split("."))


def _within(row: dict[str, object], path: str) -> object:
    """What stands within other objects at the end of this way; None: nothing does."""
    value: object = row
    for name in path.split("."):
        value = value.get(name) if isinstance(value, dict) else None
    return value


def _table(rows: dict[int, dict[str, object]], columns: Mapping[str, str]) -> pa.Table:
    """Their cells as texts; of what no column of the model is the names are enough."""
    names = list(dict.fromkeys(name for row in rows.values() for name in row))
    ours = {*COLUMNS, *columns.values()}
    cells = {
        _cell(name) or "": pa.array([_cell(row.get(name)) for row in rows.values()], pa.string())
        for name in names
        if name in ours or IN.fullmatch(name)
    }
    others = [name for name in map(_cell, names) if name is not None and name not in cells][:_MOST_OTHERS]
    return pa.table(cells | {name: pa.nulls(len(rows)) for name in others})


def _cell(value: object) -> str | None:
    if value is None:
        return None
    text = value if isinstance(value, str) else json.dumps(value)
    return text.encode("utf-8", "replace").decode()  # JSON may have halves of surrogate pairs
