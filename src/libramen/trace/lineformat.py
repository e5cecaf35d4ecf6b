"""A log whose lines are words, quoted texts and bracketed stamps between single spaces.

The common and the combined format are such logs, with anything appended; so are formats that a user
describes by directives, and W3C extended logs. A block of lines is checked by one regular expression
and split by a CSV reader, both compiled; lines with backslashes are split one by one.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cached_property
from typing import Final, NamedTuple

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from pyarrow import csv

from libramen.trace.arrow import to_numpy

# Both regular expression engines read these patterns, and to both they mean the same.
_PATTERNS: Final = {
    "word": rb'[^\s\v"][^\s\v]*',
    "quoted": rb'"((?:[^"\\]|\\.)*)"',
    "stamp": rb"\[([^\]\s\v]+) ([^\]\s\v]+)\]",
    "status": rb"\d{3}",
    "size": rb"(?:\d+|-)",
    "either": rb'(?:"(?:[^"\\]|\\.)*"|[^\s\v"][^\s\v]*)',
}


class Token(NamedTuple):
    """One piece of a line."""

    kind: str  # "word", "quoted", "stamp", "status", "size", "either" (a word or a quoted text) or "literal"
    role: str  # what it is: "host", "request", "status", ...; a stamp makes two columns, "day" and "offset"
    text: str = ""  # of a literal

    @property
    def pattern(self) -> bytes:
        """The regular expression that it fits."""
        return re.escape(self.text.encode()) if self.kind == "literal" else _PATTERNS[self.kind]


@dataclass(frozen=True)
class LineFormat:
    """The pieces of a line in order."""

    tokens: tuple[Token, ...]

    @cached_property
    def pattern(self) -> bytes:
        """A whole line, with its end."""
        return rb"^" + rb" ".join(token.pattern for token in self.tokens) + rb"\r?\n?$"

    @cached_property
    def careful(self) -> re.Pattern[bytes]:
        """The same with a group around each column."""
        groups = []
        for token in self.tokens:
            if token.kind in {"quoted", "stamp"}:
                groups.append(token.pattern)
            else:
                groups.append(rb"(" + token.pattern + rb")")
        return re.compile(rb"^" + rb" ".join(groups) + rb"\r?\n?$")

    @cached_property
    def columns(self) -> tuple[str, ...]:
        """A name for each column: its role, numbered where that is not enough."""
        names: list[str] = []
        for number, token in enumerate(self.tokens):
            if token.kind == "stamp":
                names += ["day", "offset"]
            else:
                names.append(token.role if token.role not in {"", "other"} else f"other {number}")
        return tuple(names)

    def split(
        self, data: bytes, used: tuple[str, ...]
    ) -> tuple[dict[str, pa.Array], np.ndarray, list[tuple[int, bytes]]]:
        """Split a block of lines.

        Returns:
            the columns `used` of the lines that fit, as binary text; int64 (n,), the places of these
            lines in the block; and the lines that do not fit, with their places.
        """
        lines = _lines_of(data)
        good = to_numpy(pc.match_substring_regex(lines, pattern=self.pattern))
        plain = good
        if b"\\" in data:  # quotes may be escaped: the CSV reader would take other care of that
            plain = good & ~to_numpy(pc.match_substring(lines, pattern=b"\\"))
        if plain.all():
            return self._split_plain(data, used), np.arange(len(good)), []
        places, careful = np.flatnonzero(plain), np.flatnonzero(good & ~plain)
        columns = None
        if places.size:
            columns = self._split_plain(b"".join(_end(lines[int(i)].as_py()) for i in places), used)
        rows = [self._split_one(lines[int(i)].as_py()) for i in careful]
        order = np.argsort(np.concatenate([places, careful]), kind="stable")
        merged = {}
        for name in used:
            some = pa.array([row[self.columns.index(name)] for row in rows], pa.binary())
            merged[name] = (some if columns is None else pa.concat_arrays([columns[name], some])).take(pa.array(order))
        bad = [(int(i), lines[int(i)].as_py()) for i in np.flatnonzero(~good)]
        return merged, np.flatnonzero(good), bad

    def _split_plain(self, data: bytes, used: tuple[str, ...]) -> dict[str, pa.Array]:
        """Columns of lines that all fit and have no backslash."""
        table = csv.read_csv(
            pa.py_buffer(data),
            read_options=csv.ReadOptions(column_names=self.columns, use_threads=False, block_size=len(data) + 1),
            parse_options=csv.ParseOptions(delimiter=" ", double_quote=False),
            convert_options=csv.ConvertOptions(
                column_types=dict.fromkeys(self.columns, pa.binary()), include_columns=used, check_utf8=False
            ),
        ).combine_chunks()
        columns = {name: table[name].chunk(0) for name in used}
        for name, bracket in (("day", r"^\["), ("offset", r"\]$")):
            if name in columns and any(token.kind == "stamp" for token in self.tokens):
                columns[name] = pc.replace_substring_regex(columns[name], pattern=bracket, replacement="")
        return columns

    def _split_one(self, line: bytes) -> list[bytes]:
        match = self.careful.match(line)
        assert match is not None
        return [re.sub(rb"\\(.)", rb"\1", text.strip(b'"')) for text in match.groups()]


def _end(line: bytes) -> bytes:
    return line if line.endswith(b"\n") else line + b"\n"


def _lines_of(data: bytes) -> pa.Array:
    """The lines of a block, with their line ends, as a binary array that does not copy them."""
    ends = np.flatnonzero(np.frombuffer(data, np.uint8) == ord("\n")) + 1
    offsets = np.concatenate([[0], ends, [] if data.endswith(b"\n") else [len(data)]]).astype(np.int64)
    buffers = [None, pa.py_buffer(offsets), pa.py_buffer(data)]
    return pa.Array.from_buffers(pa.large_binary(), len(offsets) - 1, buffers)
