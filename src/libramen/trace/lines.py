"""What all readers of logs share: blocks of lines, the rows read so far, the lines skipped."""

from __future__ import annotations

import gzip
import zlib
from typing import TYPE_CHECKING, Any, Final, NamedTuple

import numpy as np

from libramen.errors import TraceError
from libramen.trace.trace import SkippedLine

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator
    from io import BufferedIOBase
    from pathlib import Path

_BLOCK_SIZE: Final = 1 << 23
_FIRST_SKIPPED: Final = 5
_GZIP: Final = b"\x1f\x8b"


class Block(NamedTuple):
    """Whole lines of one file."""

    file: str
    first_line: int
    data: bytes


class SkippedLines:
    """Counts lines that could not be read, and remembers the first few."""

    def __init__(self) -> None:
        self.count = 0
        self.first: list[SkippedLine] = []

    def add(self, file: str, line: int, reason: str) -> None:
        """One more line."""
        self.count += 1
        self.first.append(SkippedLine(file, line, reason))
        if self.first[0].file == file:  # reasons come kind by kind, not line by line
            self.first.sort(key=lambda skipped: skipped.line)
        del self.first[_FIRST_SKIPPED:]


class LogRows:
    """Rows of a log read so far, a list of arrays per column."""

    def __init__(self) -> None:
        self.second: list[np.ndarray] = []  # int64, whole seconds since 1970
        self.took_s: list[np.ndarray] = []  # float64
        self.status: list[np.ndarray] = []  # int16
        self.bytes_out: list[np.ndarray] = []  # float64
        self.path_codes: list[np.ndarray] = []  # int64, index into `paths`
        self.paths: dict[str, int] = {}

    def add(self, second: np.ndarray, fields: Any, keep: np.ndarray) -> None:
        """Append the rows `keep` of some fields of text."""
        import pyarrow as pa
        import pyarrow.compute as pc

        from libramen.trace.arrow import cells_to_numbers, to_numpy
        from libramen.trace.combined import path_of

        self.second.append(second[keep])
        self.took_s.append(cells_to_numbers(fields.took, pa.float64())[keep])
        self.status.append(cells_to_numbers(fields.status, pa.int16())[keep])
        sizes = pc.replace_substring_regex(fields.bytes, pattern="^-$", replacement="0")
        self.bytes_out.append(cells_to_numbers(sizes, pa.float64())[keep])
        requests = fields.request.dictionary_encode()
        codes = [self.paths.setdefault(path_of(r), len(self.paths)) for r in requests.dictionary.to_pylist()]
        self.path_codes.append(np.array(codes, np.int64)[to_numpy(requests.indices)[keep]])


def open_bytes(path: Path) -> tuple[BufferedIOBase, BufferedIOBase]:
    """A file's content, unpacked if it is gzip by content, and the file itself (for its position).

    Raises:
        TraceError: it cannot be opened.
    """
    try:
        raw = path.open("rb")
        packed = raw.read(2) == _GZIP
        raw.seek(0)
    except FileNotFoundError:
        raise TraceError(f"{path}: there is no such file") from None
    except IsADirectoryError:
        raise TraceError(f"{path}: found a directory; allowed: a log or a trace table") from None
    except OSError as error:
        raise TraceError(f"{path}: cannot be read: {error.strerror}") from None
    return (gzip.GzipFile(fileobj=raw), raw) if packed else (raw, raw)


def blocks_of(path: Path, skipped: SkippedLines, progress: Callable[[int], None] | None) -> Iterator[Block]:
    """The content of a file in blocks of whole lines.

    A packed file that breaks off is read as far as it goes; the break counts as a skipped line.
    """
    content, raw = open_bytes(path)
    with raw:
        line, rest = 1, b""
        while True:
            data, broken = _read_block(content)
            if progress is not None:
                progress(raw.tell())
            end = data.rfind(b"\n") + 1
            whole, rest = (rest + data[:end], data[end:]) if end else (b"", rest + data)
            if whole:
                yield Block(str(path), line, whole)
                line += whole.count(b"\n")
            if broken:
                skipped.add(str(path), line, broken)
            if broken or not data:
                if rest:
                    yield Block(str(path), line, rest)
                return


def first_bytes(content: BufferedIOBase, most: int) -> bytes:
    """Some of the next bytes of a file, as many as one read of it gives; empty at its end."""
    return content.read1(most)


def _read_block(content: BufferedIOBase) -> tuple[bytes, str]:
    """The next block of a file, and why it could be read no further; a packed file may break off."""
    parts: list[bytes] = []
    size = 0
    try:
        # Small reads: one large read would lose what comes before the break.
        while size < _BLOCK_SIZE and (part := first_bytes(content, _BLOCK_SIZE - size)):
            parts.append(part)
            size += len(part)
    except (EOFError, zlib.error, gzip.BadGzipFile) as error:
        return b"".join(parts), f"the packed file breaks off here ({error})"
    return b"".join(parts), ""
