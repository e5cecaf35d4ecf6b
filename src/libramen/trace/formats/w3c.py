"""W3C extended logs: `#Fields:` says what a line has, and may say otherwise further down. Times are UTC."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import ClassVar, Final

from libramen.trace.formats.latency import Latency
from libramen.trace.formats.lineformat import LineFormat, Token
from libramen.trace.formats.reader import Head, Reading
from libramen.trace.formats.weblog import WebLog
from libramen.trace.lines import blocks_of, refuse_garbage
from libramen.trace.sources import Opened

_FIELDS: Final = b"#Fields:"
_DIRECTIVE: Final = re.compile(rb"^#.*\n?", re.MULTILINE)

_ROLES: Final = {
    "date": "date", "time": "time", "c-ip": "host", "cs-uri-stem": "path", "cs-uri": "path", "sc-status": "status",
    "sc-bytes": "bytes", "cs(User-Agent)": "agent", "s-computername": "server", "s-ip": "server",
}  # fmt: skip


class W3CLog:
    """W3C extended logs; see `reader.Reader`."""

    formats: ClassVar[dict[str, tuple[str, ...]]] = {"w3c": ("latency_unit", "work")}
    merges: ClassVar[bool] = True

    def recognise(self, head: Head) -> str | None:
        """Whether one of the first lines names the fields."""
        return "w3c" if any(line.startswith(_FIELDS) for line in head.lines[:200]) else None

    def read(self, kind: str, opened: Opened, head: Head, reading: Reading) -> None:  # noqa: ARG002  (there is one kind)
        """Read the lines between one `#Fields:` and the next."""
        unit = reading.options.latency_unit or _unit(_times_taken(head.data))
        log: WebLog | None = None
        for block in blocks_of(opened, reading.skipped, reading.position):
            for first, piece in _pieces(block.data):
                first_line = block.first_line + first
                if piece.startswith(b"#"):
                    if piece.startswith(_FIELDS):
                        log = _log_of(piece[len(_FIELDS) :].decode("utf-8", "replace").split(), unit)
                        log = None if log is None else replace(log, who=reading.who)
                elif log is None:
                    for k in range(piece.count(b"\n") + (not piece.endswith(b"\n"))):
                        reading.skipped.add(block.file, first_line + k, "no #Fields: with date and time before it")
                else:
                    part, reasons = log.parse(piece)
                    for at, reason in reasons:
                        reading.skipped.add(block.file, first_line + at, reason)
                    reading.rows.add(part, reading.number)
            refuse_garbage(block.file, reading.rows.n, reading.skipped)
        if log is not None and log.latency:
            reading.notes.append(f"time-taken is in {unit} (latency_unit chooses another)")


def _pieces(data: bytes) -> Iterator[tuple[int, bytes]]:
    """Each directive, and the lines between two of them together, with the number of its first line."""
    line = at = 0
    for directive in _DIRECTIVE.finditer(data):
        if directive.start() > at:
            yield line, data[at : directive.start()]
            line += data.count(b"\n", at, directive.start())
        yield line, directive.group()
        line += 1
        at = directive.end()
    if at < len(data):
        yield line, data[at:]


def _times_taken(head: bytes) -> list[bytes]:
    """What stands under time-taken in the first lines."""
    values, place = [], -1
    for line in head.splitlines()[:-1] or head.splitlines():
        if line.startswith(_FIELDS):
            names = line[len(_FIELDS) :].split()
            place = names.index(b"time-taken") if b"time-taken" in names else -1
        elif not line.startswith(b"#") and place >= 0:
            pieces = line.split()
            if len(pieces) > place:
                values.append(pieces[place])
    return values


def _log_of(fields: Sequence[str], unit: str) -> WebLog | None:
    """The format that a `#Fields:` line of a W3C extended log describes; None: it has no times."""
    tokens: list[Token] = []
    latency = None
    for number, name in enumerate(fields):
        role = _ROLES.get(name, "other")
        if role in {token.role for token in tokens}:
            role = "other"
        if name == "time-taken":
            latency = Latency((f"other {number}",), unit)
        tokens.append(Token("either", role))
    if not {"date", "time"} <= {token.role for token in tokens}:
        return None
    return WebLog(LineFormat(tuple(tokens)), latency)


def _unit(samples: Sequence[bytes]) -> str:
    """The unit of time-taken: seconds, as the standard says, where there is a decimal point, else milliseconds."""
    return "s" if any(b"." in value for value in samples) else "ms"
