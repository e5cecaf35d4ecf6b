"""The readers, in the order in which they are asked whether a file is theirs."""

from __future__ import annotations

from typing import Final

from libramen.trace.formats.arrow_table import ArrowTable
from libramen.trace.formats.common import CommonLog
from libramen.trace.formats.csv_table import CsvTable
from libramen.trace.formats.json_lines import JsonLines
from libramen.trace.formats.parquet import ParquetTable
from libramen.trace.formats.reader import Reader
from libramen.trace.formats.spans import OtlpSpans
from libramen.trace.formats.w3c import W3CLog

READERS: Final[tuple[Reader, ...]] = (
    ParquetTable(),
    ArrowTable(),
    CommonLog(),
    W3CLog(),
    OtlpSpans(),
    JsonLines(),
    CsvTable(),
)

BY_FORMAT: Final[dict[str, Reader]] = {name: reader for reader in READERS for name in reader.formats}


def users_of(option: str) -> tuple[str, ...]:
    """The formats whose readers know an option of `read_trace`; empty: it is for all."""
    return tuple(name for reader in READERS for name, options in reader.formats.items() if option in options)
