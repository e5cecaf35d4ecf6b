"""What all readers of logs share: blocks of whole lines, and the lines that could not be read."""

from __future__ import annotations

import re
from collections import Counter, deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import TYPE_CHECKING, Final, NamedTuple, TypeVar

from libramen.base.errors import TraceError
from libramen.trace.source import SkippedLine
from libramen.trace.sources import BROKEN, Opened, some_bytes

if TYPE_CHECKING:
    from io import BufferedIOBase

_BLOCK_SIZE: Final = 1 << 21
LONGEST_LINE: Final = 1 << 20
MOST_BYTES: Final = 32 << 20
"""Of one JSON document; a longer file has an object a line."""
_FIRST_SKIPPED: Final = 5
_GARBAGE: Final = 100_000
_NO_LOG: Final = 1 << 30
"""Bytes without the end of a line."""
_FOUND: Final = re.compile(r"'.*'| \(.*\)")
_Result = TypeVar("_Result")


class Block(NamedTuple):
    """Whole lines of one file."""

    file: str
    first_line: int
    data: bytes


class SkippedLines:
    """Counts lines that could not be read, by reason, and remembers the first few."""

    def __init__(self) -> None:
        self.count = 0
        self.reasons: Counter[str] = Counter()  # without what was found in the single line
        self.first: list[SkippedLine] = []

    def add(self, file: str, line: int, reason: str) -> None:
        """One more line."""
        self.count += 1
        self.reasons[_FOUND.sub("...", reason).removesuffix("...")] += 1
        self.first.append(SkippedLine(file, line, reason))
        if self.first[0].file == file:  # reasons come kind by kind, not line by line
            self.first.sort(key=lambda skipped: skipped.line)
        del self.first[_FIRST_SKIPPED:]

    def add_more(self, count: int, reason: str) -> None:
        """More lines like some that were added, if the count is above 0."""
        if count > 0:
            self.count += count
            self.reasons[_FOUND.sub("...", reason).removesuffix("...")] += count


def refuse_garbage(file: str, n: int, skipped: SkippedLines) -> None:
    """Stop where a hundred thousand lines have been looked at and not one can be read.

    Raises:
        TraceError: so it is.
    """
    if not n and skipped.count > _GARBAGE:
        raise TraceError(f"{file}: none of its first {skipped.count:,} lines can be read: {skipped.first[0].reason}")


def blocks_of(opened: Opened, skipped: SkippedLines, progress: Callable[[int], None]) -> Iterator[Block]:
    """The content of a file in blocks of whole lines.

    A packed file that breaks off is read as far as it goes; the break counts as a skipped line.

    Raises:
        TraceError: more than 1 GiB without the end of a line, which is no log and may go on for ever.
    """
    file, line = str(opened.path), 1
    rest: list[bytes] = []  # of a line that has not ended yet
    kept = 0  # bytes of it; of one that is too long none are kept
    too_long = False
    since_line = 0  # bytes since the last end of a line
    while True:
        data, broken = _read_block(opened.content)
        progress(opened.position())
        begin, end = 0, data.rfind(b"\n") + 1
        since_line = len(data) - end if end else since_line + len(data)
        if since_line > _NO_LOG:
            raise TraceError(f"{file}: line {line:,} has not ended after {_NO_LOG >> 30} GiB; allowed: lines of text")
        if too_long and end:
            begin = data.find(b"\n") + 1
            skipped.add(file, line, f"the line is longer than {LONGEST_LINE:,} bytes")
            line, too_long = line + 1, False
        if end > begin:
            whole = b"".join([*rest, data[begin:end]])
            yield Block(file, line, whole)
            line += whole.count(b"\n")
        if end:
            rest, kept = [], 0
        rest.append(data[end:])
        kept += len(data) - end
        if kept > LONGEST_LINE:
            rest, kept, too_long = [], 0, True
        if broken:
            skipped.add(file, line, broken)
        if broken or not data:
            if too_long:
                skipped.add(file, line, f"the line is longer than {LONGEST_LINE:,} bytes")
            elif kept:
                yield Block(file, line, b"".join(rest))
            return


def _read_block(content: BufferedIOBase) -> tuple[bytes, str]:
    """The next block of a file, and why it could be read no further; a packed file may break off."""
    parts: list[bytes] = []
    size = 0
    try:
        # Small reads: one large read would lose what comes before the break.
        while size < _BLOCK_SIZE and (part := some_bytes(content, _BLOCK_SIZE - size)):
            parts.append(part)
            size += len(part)
    except BROKEN as error:
        return b"".join(parts), f"the file breaks off here ({error})"
    return b"".join(parts), ""


def in_order(work: Callable[[Block], _Result], blocks: Iterable[Block]) -> Iterator[tuple[Block, _Result]]:
    """Each block with what `work` makes of it, two blocks at a time, in the order of the blocks.

    Checking and splitting lines happens in compiled code that lets other threads run.
    """
    with ThreadPoolExecutor(2) as pool:
        ahead: deque[tuple[Block, object]] = deque()
        for block in blocks:
            ahead.append((block, pool.submit(work, block)))
            if len(ahead) > 2:
                first, future = ahead.popleft()
                yield first, future.result()  # type: ignore[attr-defined]
        while ahead:
            first, future = ahead.popleft()
            yield first, future.result()  # type: ignore[attr-defined]
