"""What a reader of a format is, and what it is given."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass, field
from typing import ClassVar, NamedTuple, Protocol

from libramen.trace.lines import SkippedLines
from libramen.trace.options import ReadOptions
from libramen.trace.raw_requests import RawRequests
from libramen.trace.rows import Rows
from libramen.trace.sources import Opened


class Head(NamedTuple):
    """How a file begins, unpacked: its first bytes, its first lines, and names of columns that a user told of."""

    data: bytes
    lines: list[bytes]
    names: Collection[str]


@dataclass
class Reading:
    """What is read, one file after the other.

    Attributes:
        options: of `read_trace`.
        who: whether hosts and agents are wanted too, to leave requests out or to know doubled lines again.
        skipped: lines that cannot be read go here.
        rows: the rows of logs go here, file by file.
        notes: what was assumed goes here.
        number: of the file that is read now, from 0.
        position: is told how many bytes of this file have been read.
    """

    options: ReadOptions
    who: bool = False
    skipped: SkippedLines = field(default_factory=SkippedLines)
    rows: Rows = field(default_factory=Rows)
    notes: list[str] = field(default_factory=list)
    number: int = 0
    position: Callable[[int], None] = lambda _at: None


class Reader(Protocol):
    """Reads files of one format, or of a few that are close.

    Attributes:
        formats: their names, as a user says them, and which of the options of `read_trace` that are not for all formats
            have an effect on each.
        merges: whether several files are merged by time; then `read` fills `Reading.rows` and returns None.
    """

    formats: ClassVar[dict[str, tuple[str, ...]]]
    merges: ClassVar[bool]

    def recognise(self, head: Head) -> str | None:
        """Which of its formats a file is that begins so; None: none of them."""

    def read(self, kind: str, opened: Opened, head: Head, reading: Reading) -> RawRequests | None:
        """Read one file.

        Raises:
            TraceError: it is not of this format, or not one row of it can be read.
        """
