"""Files as people have them: several by a pattern, packed or not, or standard input."""

from __future__ import annotations

import bz2
import glob
import gzip
import io
import lzma
import sys
import zlib
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final, Self

from libramen.base.errors import TraceError

if TYPE_CHECKING:
    from io import BufferedIOBase

STANDARD_INPUT: Final = "-"
BROKEN: Final = (EOFError, zlib.error, gzip.BadGzipFile, lzma.LZMAError, OSError)
"""What reading a packed file raises where it breaks off or is damaged."""
_MAGIC: Final = {b"\x1f\x8b": "gzip", b"BZh": "bzip2", b"\xfd7zXZ\x00": "xz", b"\x28\xb5\x2f\xfd": "zstandard"}


def expand(paths: Iterable[str | Path]) -> list[Path]:
    """The files that some names and patterns stand for, each once, in the order of the patterns.

    Raises:
        TraceError: a pattern matches nothing.
    """
    found: dict[Path, None] = {}
    for path in paths:
        text = str(path)
        if any(letter in text for letter in "*?[") and not Path(text).exists():
            matches = sorted(glob.glob(text))  # noqa: PTH207  (Path.glob takes no absolute patterns)
            if not matches:
                raise TraceError(f"{text}: no file matches this pattern")
            found.update(dict.fromkeys(map(Path, matches)))
        else:
            found[Path(text)] = None
    if not found:
        raise TraceError("there is no file to read; allowed: one or more")
    return list(found)


class Opened:
    """A file that is open: its unpacked `content`, and how many of its bytes on disk have been read."""

    def __init__(self, path: Path) -> None:
        self.path, self._is_plain = path, str(path) != STANDARD_INPUT and path.is_file()
        try:
            if not self._is_plain and _is_endless(path):
                raise TraceError(f"{path}: found a device; allowed: a file or a pipe")
            raw: Any = sys.stdin.buffer if str(path) == STANDARD_INPUT else path.open("rb")
            self._file = raw
            if not raw.seekable():  # what a pipe has given cannot be read again
                raw = io.BufferedReader(_PutBack(_first(raw, 8), raw, None))
            head = raw.peek(8)[:8]
        except FileNotFoundError:
            raise TraceError(f"{path}: there is no such file") from None
        except IsADirectoryError:
            raise TraceError(f"{path}: found a directory; allowed: a log or a trace table") from None
        except OSError as error:
            raise TraceError(f"{path}: cannot be read: {error.strerror}") from None
        self.packing = next((name for magic, name in _MAGIC.items() if head.startswith(magic)), "")
        self._raw = raw
        self.content: BufferedIOBase = _unpack(raw, self.packing)

    def head(self, most: int) -> bytes:
        """The first bytes, unpacked, as many as there are up to `most`; they are read again later.

        Nothing is opened twice: a pipe has its bytes only once.

        Raises:
            TraceError: a packed file that cannot be unpacked at all.
        """
        parts: list[bytes] = []
        size, broken = 0, None
        try:
            while size < most and (more := some_bytes(self.content, most - size)):
                parts.append(more)
                size += len(more)
        except BROKEN as error:
            if not parts:
                raise TraceError(f"{self.path}: the packed file cannot be unpacked: {error}") from None
            broken = error
        head = b"".join(parts)
        self.content = io.BufferedReader(_PutBack(head, self.content, broken))
        return head

    @property
    def place(self) -> str | None:
        """Its path, where it is a plain file that is not packed: it may be read again there, in any order."""
        return str(self.path) if not self.packing and self._is_plain else None

    def position(self) -> int:
        """Bytes read so far; 0 where that is not known."""
        try:
            return int(self._raw.tell())
        except (OSError, ValueError):
            return 0

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        if str(self.path) != STANDARD_INPUT:
            self._raw.close()
            self._file.close()


def _is_endless(path: Path) -> bool:
    """Whether it is a device that gives bytes for ever, or none, and no terminal."""
    if str(path) == STANDARD_INPUT or not path.is_char_device():
        return False
    with path.open("rb", buffering=0) as device:
        return not device.isatty()


class _PutBack(io.RawIOBase):
    """Bytes that were read already, then the rest of what they were read from, or the error that ended them."""

    def __init__(self, head: bytes, rest: BufferedIOBase, broken: BaseException | None) -> None:
        self._head, self._rest, self._broken = memoryview(head), rest, broken

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        if not len(self._head):
            if self._broken is not None:
                raise self._broken
            data = self._rest.read1(len(buffer))
            buffer[: len(data)] = data
            return len(data)
        n = min(len(buffer), len(self._head))
        buffer[:n] = self._head[:n]
        self._head = self._head[n:]
        return n


def _unpack(raw: Any, packing: str) -> Any:
    if packing == "gzip":
        return gzip.GzipFile(fileobj=raw)
    if packing == "bzip2":
        return bz2.BZ2File(raw)
    if packing == "xz":
        return lzma.LZMAFile(raw)
    if packing == "zstandard":
        import pyarrow as pa

        stream = pa.CompressedInputStream(pa.PythonFile(raw, mode="r"), "zstd")
        return io.BufferedReader(stream)
    return raw


def _first(raw: Any, least: int) -> bytes:
    """At least so many of the first bytes, if there are so many."""
    data = b""
    while len(data) < least and (more := raw.read1(1 << 16)):
        data += more
    return data


def some_bytes(content: BufferedIOBase, most: int) -> bytes:
    """Some of the next bytes, as many as one read gives; empty at the end."""
    return content.read1(most)
