"""Arrow files and streams."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar

import pyarrow as pa
import pyarrow.ipc

from libramen.trace.formats.table import arrow_table, found_in

if TYPE_CHECKING:
    from libramen.trace.formats.reader import Head, Reading
    from libramen.trace.raw_requests import RawRequests
    from libramen.trace.sources import Opened


class ArrowTable:
    """Tables as Arrow files and streams; see `reader.Reader`."""

    formats: ClassVar[dict[str, tuple[str, ...]]] = {"arrow": ("columns",)}
    merges: ClassVar[bool] = False

    def recognise(self, head: Head) -> str | None:
        """Whether the file has its first bytes."""
        return "arrow" if head.data.startswith((b"ARROW1", b"\xff\xff\xff\xff")) else None

    def read(self, kind: str, opened: Opened, head: Head, reading: Reading) -> RawRequests:  # noqa: ARG002
        """Read the whole file."""
        return found_in(kind, opened.path, read_arrow_table(opened), reading)


def read_arrow_table(opened: Opened) -> pa.Table:
    """The rows of an Arrow file or stream.

    Raises:
        TraceError: it is neither.
    """

    def read(data: bytes) -> pa.Table:
        if data.startswith(b"ARROW1"):
            return pa.ipc.open_file(pa.BufferReader(data)).read_all()
        return pa.ipc.open_stream(pa.BufferReader(data)).read_all()

    return arrow_table(opened, read, "Arrow")
