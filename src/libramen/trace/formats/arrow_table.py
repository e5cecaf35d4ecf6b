"""Arrow files and streams."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, ClassVar, Final

import pyarrow as pa
import pyarrow.ipc

from libramen.trace.formats.reader import Head, Reading
from libramen.trace.formats.table import arrow_blocks, found_in
from libramen.trace.raw_requests import RawRequests
from libramen.trace.sources import Opened

_ROWS: Final = 1 << 18
"""That are read at once."""


class ArrowTable:
    """Tables as Arrow files and streams; see `reader.Reader`."""

    formats: ClassVar[dict[str, tuple[str, ...]]] = {"arrow": ("columns", "latency_unit", "work")}
    merges: ClassVar[bool] = False

    def recognise(self, head: Head) -> str | None:
        """Whether the file has its first bytes."""
        return "arrow" if head.data.startswith((b"ARROW1", b"\xff\xff\xff\xff")) else None

    def read(self, kind: str, opened: Opened, head: Head, reading: Reading) -> RawRequests:  # noqa: ARG002
        """Read the whole file."""
        return found_in(kind, opened.path, arrow_blocks(opened, _batches, "Arrow"), reading)


def _batches(place: Any) -> Iterator[pa.RecordBatch]:
    source = pa.memory_map(place) if isinstance(place, str) else place
    is_file = source.read(6) == b"ARROW1"
    source.seek(0)
    if is_file:
        file = pa.ipc.open_file(source)
        whole = (file.get_batch(number) for number in range(file.num_record_batches))
    else:
        whole = iter(pa.ipc.open_stream(source))
    for batch in whole:
        yield from (batch.slice(first, _ROWS) for first in range(0, batch.num_rows, _ROWS))
