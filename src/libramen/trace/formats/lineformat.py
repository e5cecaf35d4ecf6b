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
    "stamp": rb'\[([^\]\s\v"]+) ([^\]\s\v"]+)\]',  # no quotes: the CSV reader would take them for its own
    "status": rb"\d{3}",
    "size": rb"(?:\d+|-)",
    "either": rb'(?:"(?:[^"\\]|\\.)*"|[^\s\v"][^\s\v]*)',
}
_ODD: Final = b"\\\t\r\v\f\0"
"""Letters that the CSV reader and the patterns may take differently."""


class Token(NamedTuple):
    """One piece of a line."""

    kind: str  # "word", "quoted", "stamp", "status", "size", "either" (a word or a quoted text) or "literal"
    role: str  # what it is: "host", "request", ...; a stamp makes two columns, "day" and "offset"
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
        columns = self._split_at_once(data, used)
        if columns is not None:
            return columns, np.arange(data.count(b"\n")), []
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

    def _split_at_once(self, data: bytes, used: tuple[str, ...]) -> dict[str, pa.Array] | None:
        """The columns of a block in which every line fits and nothing is odd; None: look more closely.

        Where quotes stand says enough: each line has those of its quoted texts, with spaces around,
        and these texts are as long as the CSV reader finds them. That is several times as fast as a
        regular expression, and lets nothing through that does not match it.
        """
        kinds = [token.kind for token in self.tokens]
        if "either" in kinds or "literal" in kinds or not data.endswith(b"\n"):
            return None
        if len(data.translate(None, _ODD)) < len(data):
            return None
        letters = np.frombuffer(data, np.uint8)
        ends = np.flatnonzero(letters == ord("\n"))
        starts = np.concatenate([[0], ends[:-1] + 1])
        is_space = letters == ord(" ")
        if (is_space[1:] & is_space[:-1]).any() or is_space[starts].any() or is_space[ends - 1].any():
            return None  # an empty word, which the CSV reader would take for one
        quotes: np.ndarray = np.flatnonzero(letters == ord('"'))
        n_quoted = kinds.count("quoted")
        if len(quotes) != 2 * n_quoted * len(ends):
            return None
        quotes = quotes.reshape(len(ends), -1)
        if n_quoted and not ((quotes[:, 0] >= starts) & (quotes[:, -1] < ends)).all():
            return None
        lengths = {}
        for k, number in enumerate([i for i, kind in enumerate(kinds) if kind == "quoted"]):
            opening, closing = quotes[:, 2 * k], quotes[:, 2 * k + 1]
            before = (opening == starts) if number == 0 else is_space[opening - 1]
            last = number == len(kinds) - 1
            after = (closing + 1 == ends) if last else is_space[closing + 1]
            if not (before & after).all():
                return None
            lengths[self._column_of(number)] = closing - opening - 1
        names = tuple(
            dict.fromkeys([*used, *lengths, *(n for n in ("status", "bytes", "day", "offset") if n in self.columns)])
        )
        try:
            table = self._read(data, names)
        except pa.ArrowInvalid:  # a line of another number of columns
            return None
        if table.num_rows != len(ends):
            return None
        for name, length in lengths.items():
            if not np.array_equal(to_numpy(pc.binary_length(table[name].chunk(0))), length):
                return None
        checks = {"status": rb"^\d{3}$", "bytes": rb"^(\d+|-)$", "day": rb"^\[[^\]]+$", "offset": rb"^[^\]]+\]$"}
        for token in self.tokens:
            for name in {"stamp": ("day", "offset"), "status": ("status",), "size": ("bytes",)}.get(token.kind, ()):
                distinct = table[name].chunk(0).dictionary_encode().dictionary
                if not to_numpy(pc.match_substring_regex(distinct, pattern=checks[name])).all():
                    return None
        return _columns(table, used)

    def _column_of(self, token: int) -> str:
        """The column of a token; a stamp before it has two."""
        return self.columns[token + sum(t.kind == "stamp" for t in self.tokens[:token])]

    def _split_plain(self, data: bytes, used: tuple[str, ...]) -> dict[str, pa.Array]:
        """Columns of lines that all fit and have no backslash."""
        return _columns(self._read(data, used), used)

    def _read(self, data: bytes, used: tuple[str, ...]) -> pa.Table:
        return csv.read_csv(
            pa.py_buffer(data),
            read_options=csv.ReadOptions(column_names=self.columns, use_threads=False, block_size=len(data) + 1),
            parse_options=csv.ParseOptions(delimiter=" ", double_quote=False),
            convert_options=csv.ConvertOptions(
                column_types=dict.fromkeys(self.columns, pa.binary()), include_columns=used, check_utf8=False
            ),
        ).combine_chunks()

    def _split_one(self, line: bytes) -> list[bytes]:
        match = self.careful.match(line)
        assert match is not None
        quoted = [token.kind == "quoted" for token in self.tokens for _ in range(1 + (token.kind == "stamp"))]
        return [_unescape(text, quoted=is_quoted) for text, is_quoted in zip(match.groups(), quoted, strict=True)]


def _columns(table: pa.Table, used: tuple[str, ...]) -> dict[str, pa.Array]:
    return {name: table[name].chunk(0) for name in used}


def _unescape(text: bytes, *, quoted: bool) -> bytes:
    """What a quoted text says; a word is as it stands, whatever backslashes it has."""
    if not quoted and not text.startswith(b'"'):
        return text
    return re.sub(rb"\\(.)", rb"\1", text if quoted else text[1:-1])


def _end(line: bytes) -> bytes:
    return line if line.endswith(b"\n") else line + b"\n"


def _lines_of(data: bytes) -> pa.Array:
    """The lines of a block, with their line ends, as a binary array that does not copy them."""
    ends = np.flatnonzero(np.frombuffer(data, np.uint8) == ord("\n")) + 1
    offsets = np.concatenate([[0], ends, [] if data.endswith(b"\n") else [len(data)]]).astype(np.int64)
    buffers = [None, pa.py_buffer(offsets), pa.py_buffer(data)]
    return pa.Array.from_buffers(pa.large_binary(), len(offsets) - 1, buffers)
