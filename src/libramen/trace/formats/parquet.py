"""Parquet."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar

import pyarrow as pa
from pyarrow import parquet

from libramen.trace.formats.table import arrow_table, found_in

if TYPE_CHECKING:
    from libramen.trace.formats.reader import Head, Reading
    from libramen.trace.raw_requests import RawRequests
    from libramen.trace.sources import Opened


class ParquetTable:
    """Tables as Parquet; see `reader.Reader`."""

    formats: ClassVar[dict[str, tuple[str, ...]]] = {"parquet": ("columns",)}
    merges: ClassVar[bool] = False

    def recognise(self, head: Head) -> str | None:
        """Whether the file has its first bytes."""
        return "parquet" if head.data.startswith(b"PAR1") else None

    def read(self, kind: str, opened: Opened, head: Head, reading: Reading) -> RawRequests:  # noqa: ARG002
        """Read the whole file."""
        return found_in(kind, opened.path, read_parquet_table(opened), reading)


def read_parquet_table(opened: Opened) -> pa.Table:
    """The rows of a Parquet file.

    Raises:
        TraceError: it is not Parquet.
    """
    return arrow_table(opened, lambda data: parquet.read_table(pa.BufferReader(data)), "Parquet")
