"""Rows of the open cost and usage specification as a file: CSV or Parquet."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from decimal import Decimal
from pathlib import Path
from typing import Any, Final

from libramen.base.files import spreadsheet_safe, write_whole
from libramen.bill.cost_rows import COLUMNS

SUFFIXES: Final = (".csv", ".parquet")


def write_costs(path: Path, rows: Iterable[dict[str, Any]]) -> None:
    """Write rows, whole or not at all.

    In CSV, UTF-8 as in RFC 4180, decimals are plain numbers and times ISO 8601 in UTC; in Parquet they are decimal
    (38, 10) and timestamps.

    Args:
        path: .csv or .parquet.
        rows: from `Outcome.cost_rows`.

    Raises:
        OutputError: it cannot be written.
    """
    if path.suffix.lower() == ".parquet":
        _write_parquet(path, list(rows))
        return
    import csv

    def write(file: Path) -> None:
        with file.open("w", encoding="utf-8", newline="") as handle:
            writer = csv.writer(handle)  # ends lines as RFC 4180 says
            writer.writerow([column.name for column in COLUMNS])
            for row in rows:
                writer.writerow([_text(row[column.name]) for column in COLUMNS])

    write_whole(path, write)


def _text(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, datetime):
        return f"{value:%Y-%m-%dT%H:%M:%SZ}"
    return f"{value:f}" if isinstance(value, Decimal) else str(spreadsheet_safe(value))


def _write_parquet(path: Path, rows: list[dict[str, Any]]) -> None:
    import pyarrow as pa
    from pyarrow import parquet

    kinds = {
        "text": pa.string(),
        "json": pa.string(),
        "decimal": pa.decimal128(38, 10),
        "time": pa.timestamp("s", "UTC"),
    }
    schema = pa.schema([pa.field(column.name, kinds[column.kind], nullable=column.nullable) for column in COLUMNS])
    table = pa.Table.from_pylist(rows, schema)
    write_whole(path, lambda file: parquet.write_table(table, file))
