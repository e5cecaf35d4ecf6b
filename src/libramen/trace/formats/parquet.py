"""Parquet."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, ClassVar, Final

import pyarrow as pa
from pyarrow import parquet

from libramen.trace.formats.reader import Head, Reading
from libramen.trace.formats.table import arrow_blocks, found_in
from libramen.trace.raw_requests import RawRequests
from libramen.trace.sources import Opened

_ROWS: Final = 1 << 18
"""That are read at once."""


class ParquetTable:
    """Tables as Parquet; see `reader.Reader`."""

    formats: ClassVar[dict[str, tuple[str, ...]]] = {"parquet": ("columns", "latency_unit", "work")}
    merges: ClassVar[bool] = False

    def recognise(self, head: Head) -> str | None:
        """Whether the file has its first bytes."""
        return "parquet" if head.data.startswith(b"PAR1") else None

    def read(self, kind: str, opened: Opened, head: Head, reading: Reading) -> RawRequests:  # noqa: ARG002
        """Read the whole file."""
        return found_in(kind, opened.path, arrow_blocks(opened, _batches, "Parquet"), reading)


def _batches(place: Any) -> Iterator[pa.RecordBatch]:
    # Without buffering ahead: that would hold whole groups of rows.
    yield from parquet.ParquetFile(place, pre_buffer=False).iter_batches(_ROWS)
