"""W3C extended logs: `#Fields:` says what a line has, and may say otherwise further down. Times are UTC."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import TYPE_CHECKING, Final

from libramen.trace import weblogs

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

    from libramen.trace.lines import Block, SkippedLines
    from libramen.trace.rows import Rows
    from libramen.trace.weblogs import WebLog

_FIELDS: Final = b"#Fields:"
_DIRECTIVE: Final = re.compile(rb"^#.*\n?", re.MULTILINE)


def read_w3c(
    blocks: Iterable[Block],
    head: bytes,
    unit: str | None,
    rows: Rows,
    number: int,
    skipped: SkippedLines,
    *,
    who: bool,
) -> tuple[str, ...]:
    """Read blocks of lines into `rows`; returns what was assumed."""
    unit = unit or weblogs.w3c_unit(_times_taken(head))
    log: WebLog | None = None
    for block in blocks:
        for first, piece in _pieces(block.data):
            if piece.startswith(b"#"):
                if piece.startswith(_FIELDS):
                    log = weblogs.w3c(piece[len(_FIELDS) :].decode("utf-8", "replace").split(), unit)
                    log = None if log is None else replace(log, who=who)
            elif log is None:
                for k in range(piece.count(b"\n") + (not piece.endswith(b"\n"))):
                    skipped.add(block.file, block.first_line + first + k, "no #Fields: with date and time before it")
            else:
                part, reasons = log.parse(piece)
                for at, reason in reasons:
                    skipped.add(block.file, block.first_line + first + at, reason)
                rows.add(part, number)
    return (f"time-taken is in {unit} (latency_unit chooses another)",) if log is not None and log.latency else ()


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
