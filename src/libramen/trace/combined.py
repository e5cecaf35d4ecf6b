"""The combined log format with the request time, in seconds, behind it.

A block of lines is checked by one regular expression and split by a CSV reader, both compiled: a
combined log is a space-separated, quoted table. Only lines that do not fit are looked at one by one.
"""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, Final, NamedTuple

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from pyarrow import csv

from libramen.trace.lines import LogRows, SkippedLines
from libramen.trace.stamps import StampReader

if TYPE_CHECKING:
    from collections.abc import Iterable

    from libramen.trace.lines import Block

_WORD: Final = rb'[^\s\v"][^\s\v]*'
_QUOTED: Final = rb'"((?:[^"\\]|\\.)*)"'
_STAMP: Final = rb"\[([^\]\s\v]+) ([^\]\s\v]+)\]"
# Both regular expression engines read these patterns, and to both they mean the same.
_FRONT: Final = rb"^%b %b %b %b %b (\d{3}) (\d+|-) %b %b" % (_WORD, _WORD, _WORD, _STAMP, _QUOTED, _QUOTED, _QUOTED)
_LINE: Final = _FRONT + rb" (\d+(?:\.\d+)?)\r?$"
_CAREFUL: Final = re.compile(_LINE)
_CAREFUL_FRONT: Final = re.compile(_FRONT)
_COLUMNS: Final = ("host", "ident", "user", "day", "offset", "request", "status", "bytes", "referer", "agent", "took")
_USED: Final = ("day", "offset", "request", "status", "bytes", "took")
_NO_REQUEST: Final = "no request line"

EXAMPLE: Final = '... - - [07/Jun/2031:09:30:00 +0100] "GET /timetable HTTP/1.1" 200 5120 "-" "agent" 0.043'


class _Fields(NamedTuple):
    """The used fields of some lines, as columns of text."""

    day: pa.Array
    offset: pa.Array
    request: pa.Array
    status: pa.Array
    bytes: pa.Array
    took: pa.Array


def looks_combined(lines: Iterable[bytes]) -> bool:
    """Whether any of some lines is of the combined format, with or without a request time."""
    return any(_CAREFUL_FRONT.match(line) for line in lines)


def read_combined(blocks: Iterable[Block], rows: LogRows, skipped: SkippedLines) -> None:
    """Read blocks of whole lines; append what is read to `rows` and the rest to `skipped`."""
    stamps = StampReader()
    for block in blocks:
        lines = _split(block.data)
        good = pc.match_substring_regex(lines, pattern=_LINE).to_numpy(zero_copy_only=False)
        plain = good & ~pc.match_substring(lines, pattern=b"\\").to_numpy(zero_copy_only=False)
        if plain.all():
            fields = _split_fields(block.data)
        else:
            for i in np.flatnonzero(~good).tolist():
                skipped.add(block.file, block.first_line + i, _reason(lines[i].as_py()))
            escaped = np.flatnonzero(good & ~plain)
            fields = _merge(lines, plain, escaped)
        keep = np.flatnonzero(good)
        second = _seconds(fields, stamps)
        for i in np.flatnonzero(second < 0).tolist():
            stamp = f"{fields.day[i].as_py()} {fields.offset[i].as_py()}".replace("[", "").replace("]", "")
            skipped.add(block.file, block.first_line + int(keep[i]), f"{stamp!r} is not a time stamp")
        rows.add(second, fields, np.flatnonzero(second >= 0))


def _split(data: bytes) -> pa.Array:
    """The lines of a block as a binary array, without their line ends, and without copying."""
    ends = np.flatnonzero(np.frombuffer(data, np.uint8) == 10)
    offsets = np.concatenate([[0], ends + 1])
    if not data.endswith(b"\n"):
        offsets = np.append(offsets, len(data) + 1)
    # A line's own end is its last byte: hide it by matching "$" before it.
    buffers = [None, pa.py_buffer(offsets.astype(np.int64)), pa.py_buffer(data + b"\n")]
    whole = pa.Array.from_buffers(pa.large_binary(), len(offsets) - 1, buffers)
    return pc.binary_slice(whole, 0, -1)


def _split_fields(data: bytes) -> _Fields:
    """The fields of lines that all fit the format and have no backslash."""
    table = csv.read_csv(
        pa.py_buffer(data),
        read_options=csv.ReadOptions(column_names=_COLUMNS, use_threads=False, block_size=len(data) + 1),
        parse_options=csv.ParseOptions(delimiter=" ", double_quote=False),
        convert_options=csv.ConvertOptions(
            column_types=dict.fromkeys(_COLUMNS, pa.binary()), include_columns=_USED, check_utf8=False
        ),
    ).combine_chunks()
    return _Fields(*(_one_array(table[name]) for name in _USED))


def _one_array(column: pa.ChunkedArray) -> pa.Array:
    return column.chunk(0) if column.num_chunks else pa.array([], column.type)


def _merge(lines: pa.Array, plain: np.ndarray, escaped: np.ndarray) -> _Fields:
    """The fields of the plain lines and of the few with backslashes, in the order of the lines."""
    parts = _split_fields(b"\n".join(lines.filter(pa.array(plain)).to_pylist()) + b"\n") if plain.any() else None
    careful = [_careful_fields(lines[int(i)].as_py()) for i in escaped]
    order = np.argsort(np.concatenate([np.flatnonzero(plain), escaped]), kind="stable")
    columns = []
    for k in range(len(_USED)):
        some = pa.array([fields[k] for fields in careful], pa.binary())
        column = some if parts is None else pa.concat_arrays([parts[k], some])
        columns.append(column.take(pa.array(order)))
    return _Fields(*columns)


def _careful_fields(line: bytes) -> tuple[bytes, ...]:
    match = _CAREFUL.match(line)
    assert match is not None
    day, offset, request, status, size, _, _, took = match.groups()
    return b"[" + day, offset + b"]", re.sub(rb"\\(.)", rb"\1", request), status, size, took


def _seconds(fields: _Fields, stamps: StampReader) -> np.ndarray:
    """Whole seconds since 1970 of each line, -1: no such stamp. Each distinct text is read once."""
    day, offset = fields.day.dictionary_encode(), fields.offset.dictionary_encode()
    offsets = [text.decode("latin-1").rstrip("]") for text in offset.dictionary.to_pylist()]
    days = [text.decode("latin-1").lstrip("[") for text in day.dictionary.to_pylist()]
    pair = day.indices.to_numpy().astype(np.int64) * max(1, len(offsets)) + offset.indices.to_numpy()
    distinct, inverse = np.unique(pair, return_inverse=True)
    read = [stamps.seconds(days[p // len(offsets)], offsets[p % len(offsets)]) for p in distinct.tolist()]
    seconds = np.array([-1 if second is None else second for second in read], np.int64)
    return seconds[inverse]


def path_of(request: bytes) -> str:
    """The path of a request line such as `GET /timetable HTTP/1.1`."""
    words = request.decode("utf-8", "replace").split(" ")
    return words[1] if len(words) in {2, 3} and words[1].startswith("/") else _NO_REQUEST


def _reason(line: bytes) -> str:
    """Why a line cannot be read, in words."""
    if not line.strip():
        return "the line is empty"
    front = _CAREFUL_FRONT.match(line)
    if front is None:
        return "not the combined log format"
    rest = line[front.end() :].decode("utf-8", "replace").strip()
    return f"the request time is {rest[:40]!r}, not a number of seconds" if rest else "no request time behind the line"
