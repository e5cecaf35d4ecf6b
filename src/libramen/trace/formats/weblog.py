"""Logs of web servers: lines of a `LineFormat`, and what their pieces mean."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Final

import numpy as np

from libramen.trace.arrow import coded, numbers_of
from libramen.trace.formats.instants import date_and_time, stamps_of
from libramen.trace.formats.latency import UNITS, Latency
from libramen.trace.formats.lineformat import LineFormat, Token
from libramen.trace.rows import Part

if TYPE_CHECKING:
    import pyarrow as pa


NO_REQUEST: Final = "no request line"
COMMON: Final = (
    Token("word", "host"),
    Token("word", "ident"),
    Token("word", "user"),
    Token("stamp", "stamp"),
    Token("quoted", "request"),
    Token("status", "status"),
    Token("size", "bytes"),
)
COMBINED: Final = (*COMMON, Token("quoted", "referer"), Token("quoted", "agent"))
COMMON_FRONT: Final = re.compile(LineFormat(COMMON).pattern.removesuffix(rb"\r?\n?$"))
"""How a line of the common format begins."""
_PIECE: Final = re.compile(rb'"(?:[^"\\]|\\.)*"|[^\s"]\S*')


@dataclass(frozen=True)
class WebLog:
    """A line format and what its columns mean."""

    lines: LineFormat
    latency: Latency | None
    notes: tuple[str, ...] = field(default=())
    who: bool = False
    """Whether hosts and agents are wanted too, to leave requests out or to know doubled lines again."""

    @property
    def used(self) -> tuple[str, ...]:
        """The columns that are needed."""
        wanted: tuple[str, ...] = ("day", "offset", "date", "time", "epoch", "request", "path", "status", "bytes")
        wanted += ("server",)
        if self.who:
            wanted += ("agent", "host")
        names = [name for name in wanted if name in self.lines.columns]
        for name in self.latency.columns if self.latency else ():
            if name not in names:
                names.append(name)
        return tuple(names)

    def parse(self, data: bytes) -> tuple[Part, list[tuple[int, str]]]:
        """The rows of a block of lines, and the places of the lines that cannot be read, with reasons."""
        columns, places, bad = self.lines.split(data, self.used)
        reasons = [(at, self._reason(line)) for at, line in bad]
        second, fraction_s = self._instants(columns)
        for i in np.flatnonzero(second < 0).tolist():
            text = b" ".join(
                columns[name][i].as_py() for name in ("day", "offset", "date", "time", "epoch") if name in columns
            )
            text = text.replace(b"[", b"").replace(b"]", b"")
            reasons.append((int(places[i]), f"{text.decode('utf-8', 'replace')[:40]!r} is not a time stamp"))
        keep = second >= 0
        took_s = self._took(columns)
        if took_s is not None:
            for i in np.flatnonzero(keep & np.isnan(took_s)).tolist():
                found = columns[self.latency.columns[0]][i].as_py().decode("utf-8", "replace")[:40]  # type: ignore[union-attr]
                reasons.append((int(places[i]), f"the request time is {found!r}, not a number"))
            keep &= ~np.isnan(took_s)
        for what, values, most in (
            ("status", numbers_of(columns["status"]) if "status" in columns else None, 999.0),
            ("size of the answer", numbers_of(columns["bytes"]) if "bytes" in columns else None, 1e15),
            ("request time", took_s, 1e6),
        ):
            if values is not None:
                beyond = keep & (values > most)
                reasons += [
                    (int(places[i]), f"the {what} is '{values[i]:g}', more than can be") for i in np.flatnonzero(beyond)
                ]
                keep &= ~beyond
        part = Part(
            second=second[keep],
            fraction_s=None if fraction_s is None else fraction_s[keep],
            took_s=None if took_s is None else took_s[keep],
            status=_some(columns, "status", keep),
            bytes_out=_some(columns, "bytes", keep),
            path=self._paths(columns, keep),
            agent=_texts(columns, "agent", keep),
            host=_texts(columns, "host", keep),
            server=_texts(columns, "server", keep),
        )
        return part, reasons

    def _took(self, columns: dict[str, pa.Array]) -> np.ndarray | None:
        """The latency of each line [s]; of several pieces the first that is a number."""
        if self.latency is None:
            return None
        took_s: np.ndarray | None = None
        for name in self.latency.columns:
            cells = columns[name]
            if self.latency.prefix:
                import pyarrow.compute as pc

                cells = pc.replace_substring_regex(cells, pattern=rb"^[A-Za-z_]\w*=", replacement=b"")
            values = numbers_of(cells) * UNITS[self.latency.unit]
            took_s = values if took_s is None else np.where(np.isnan(took_s), values, took_s)
        return took_s

    def _instants(self, columns: dict[str, pa.Array]) -> tuple[np.ndarray, np.ndarray | None]:
        if "day" in columns:
            return stamps_of(columns["day"], columns["offset"]), None
        if "epoch" in columns:
            role = next(token.text for token in self.lines.tokens if token.role == "epoch")
            values = numbers_of(columns["epoch"]) * UNITS[role]
            whole = np.where(np.isnan(values), -1, np.floor(np.nan_to_num(values))).astype(np.int64)
            return whole, None if role == "s" else np.nan_to_num(values) - np.maximum(whole, 0)
        return date_and_time(columns["date"], columns["time"])

    def _paths(self, columns: dict[str, pa.Array], keep: np.ndarray) -> tuple[np.ndarray, list[str]]:
        if "request" in columns:
            codes, texts = coded(columns["request"])
            return codes[keep], [path_of(text) for text in texts]
        if "path" in columns:
            codes, texts = coded(columns["path"])
            return codes[keep], [text.decode("utf-8", "replace") for text in texts]
        return np.zeros(int(keep.sum()), np.int32), [NO_REQUEST]

    def _reason(self, line: bytes) -> str:
        """Why a line cannot be read, in words."""
        if not line.strip():
            return "the line is empty"
        pieces = len(_PIECE.findall(_without_stamp(line)))
        wanted = len(self.lines.tokens) - (1 if "day" in self.lines.columns else 0)
        if pieces < wanted and self.latency is not None and COMMON_FRONT.match(line):
            return "no request time behind the line"
        return "not of this log's format" + (f" ({pieces} pieces for {wanted})" if pieces != wanted else "")


def _without_stamp(line: bytes) -> bytes:
    return re.sub(rb" \[[^\]]*\]", b"", line, count=1)


def path_of(request: bytes) -> str:
    """The path of a request line such as `GET /timetable HTTP/1.1`."""
    words = request.decode("utf-8", "replace").split(" ")
    return words[1] if len(words) in {2, 3} and words[1].startswith(("/", "http")) else NO_REQUEST


def _some(columns: dict[str, pa.Array], name: str, keep: np.ndarray) -> np.ndarray | None:
    return np.nan_to_num(numbers_of(columns[name])[keep]) if name in columns else None


def _texts(columns: dict[str, pa.Array], name: str, keep: np.ndarray) -> tuple[np.ndarray, list[str]] | None:
    if name not in columns:
        return None
    codes, texts = coded(columns[name])
    return codes[keep], [text.decode("utf-8", "replace") for text in texts]
