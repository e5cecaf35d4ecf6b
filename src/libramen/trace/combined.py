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

from libramen.trace.arrow import to_numpy
from libramen.trace.stamps import STAMP_LENGTH, offset_seconds, stamp_seconds

if TYPE_CHECKING:
    from collections.abc import Iterable

    from libramen.trace.lines import Block, LogRows, SkippedLines

_WORD: Final = rb'[^\s\v"][^\s\v]*'
_QUOTED: Final = rb'"((?:[^"\\]|\\.)*)"'
_STAMP: Final = rb"\[([^\]\s\v]+) ([^\]\s\v]+)\]"
# Both regular expression engines read these patterns, and to both they mean the same.
_FRONT: Final = rb"^%b %b %b %b %b (\d{3}) (\d+|-) %b %b" % (
    _WORD,
    _WORD,
    _WORD,
    _STAMP,
    _QUOTED,
    _QUOTED,
    _QUOTED,
)
_LINE: Final = _FRONT + rb" (\d+(?:\.\d+)?)\r?\n?$"
_CAREFUL: Final = re.compile(_LINE)
_CAREFUL_FRONT: Final = re.compile(_FRONT)
_COLUMNS: Final = (
    "host",
    "ident",
    "user",
    "day",
    "offset",
    "request",
    "status",
    "bytes",
    "referer",
    "agent",
    "took",
)
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
    for block in blocks:
        lines = _split(block.data)
        good = to_numpy(pc.match_substring_regex(lines, pattern=_LINE))
        plain = good
        if b"\\" in block.data:  # quotes may be escaped: the CSV reader would take other care of that
            plain = good & ~to_numpy(pc.match_substring(lines, pattern=b"\\"))
        if plain.all():
            fields = _split_fields(block.data)
        else:
            for i in np.flatnonzero(~good).tolist():
                skipped.add(block.file, block.first_line + i, _reason(lines[i].as_py()))
            escaped = np.flatnonzero(good & ~plain)
            fields = _merge(lines, plain, escaped)
        keep = np.flatnonzero(good)
        second = _seconds(fields)
        for i in np.flatnonzero(second < 0).tolist():
            stamp = (fields.day[i].as_py() + b" " + fields.offset[i].as_py()).strip(b"[]").decode("utf-8", "replace")
            skipped.add(block.file, block.first_line + int(keep[i]), f"{stamp[:40]!r} is not a time stamp")
        rows.add(second, fields, np.flatnonzero(second >= 0))


def _split(data: bytes) -> pa.Array:
    """The lines of a block, with their line ends, as a binary array that does not copy them."""
    ends = np.flatnonzero(np.frombuffer(data, np.uint8) == ord("\n")) + 1
    offsets = np.concatenate([[0], ends, [] if data.endswith(b"\n") else [len(data)]]).astype(np.int64)
    buffers = [None, pa.py_buffer(offsets), pa.py_buffer(data)]
    return pa.Array.from_buffers(pa.large_binary(), len(offsets) - 1, buffers)


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
    return _Fields(*(table[name].chunk(0) for name in _USED))


def _merge(lines: pa.Array, plain: np.ndarray, escaped: np.ndarray) -> _Fields:
    """The fields of the plain lines and of the few with backslashes, in the order of the lines."""
    parts = _split_fields(b"".join(lines.filter(pa.array(plain)).to_pylist())) if plain.any() else None
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


def _seconds(fields: _Fields) -> np.ndarray:
    """Whole seconds since 1970 of each line, -1: no such stamp. Each distinct text is read once."""
    day, offset = fields.day.dictionary_encode(), fields.offset.dictionary_encode()
    ahead = [offset_seconds(text.rstrip(b"]")) for text in offset.dictionary.to_pylist()]
    ahead_s = np.array([0 if seconds is None else seconds for seconds in ahead], np.int64)
    known = np.array([seconds is not None for seconds in ahead], bool)
    # A stamp with its bracket has one length; others are no stamps.
    right_length = to_numpy(pc.binary_length(day.dictionary)) == STAMP_LENGTH + 1
    text = b"".join(stamp for stamp, right in zip(day.dictionary.to_pylist(), right_length, strict=True) if right)
    own_s = np.full(len(right_length), -1, np.int64)
    own_s[right_length] = stamp_seconds(np.frombuffer(text, np.uint8).reshape(-1, STAMP_LENGTH + 1)[:, 1:])
    own_s, offset_index = own_s[to_numpy(day.indices)], to_numpy(offset.indices)
    return np.where((own_s >= 0) & known[offset_index], own_s - ahead_s[offset_index], -1)


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
