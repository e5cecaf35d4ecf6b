"""JSON Lines: an object a request."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import ClassVar, Final

import pyarrow as pa

from libramen.base.errors import TraceError
from libramen.trace.formats.reader import Head, Reading
from libramen.trace.formats.table import found_in, saying
from libramen.trace.lines import blocks_of, refuse_garbage
from libramen.trace.raw_requests import RawRequests
from libramen.trace.sources import Opened

_NEEDED: Final = {"time": ("time", "at_s"), "latency_s": ("latency_s", "cpu_s", "requests")}
"""What a line must have, if others have it: one of these."""


class JsonLines:
    """Tables as JSON Lines; see `reader.Reader`."""

    formats: ClassVar[dict[str, tuple[str, ...]]] = {"json_lines": ("columns",)}
    merges: ClassVar[bool] = False

    def recognise(self, head: Head) -> str | None:
        """Whether the first line that is not empty begins an object."""
        first = next((line for line in head.lines if line.strip()), b"")
        return "json_lines" if first.lstrip().startswith(b"{") else None

    def read(self, kind: str, opened: Opened, head: Head, reading: Reading) -> RawRequests:  # noqa: ARG002
        """Read the whole file."""
        return found_in(kind, opened.path, json_blocks(opened, reading), reading)


def json_blocks(opened: Opened, reading: Reading) -> Iterator[pa.Table]:
    """The rows of a JSON Lines file, an object each, block by block.

    Lines that are no object are skipped and counted, and so are those that have no time, or no work, where others have
    it: a log is also about other things than requests.

    Raises:
        TraceError: no line is an object.
    """
    skipped, path = reading.skipped, str(opened.path)
    made = None
    n = 0
    for block in blocks_of(opened, skipped, reading.position):
        rows: dict[int, dict[str, object]] = {}  # by line
        for number, line in enumerate(block.data.split(b"\n"), start=block.first_line):
            if not line.strip():
                continue
            try:
                row = json.loads(line)
            except (ValueError, RecursionError) as error:
                skipped.add(path, number, f"not JSON: {str(error)[:60]}")
                continue
            if isinstance(row, dict) and list(row) == ["libramen"] and not n and not rows:
                made = json.dumps(row["libramen"])
            elif isinstance(row, dict):
                rows[number] = row
            else:
                skipped.add(path, number, f"not a JSON object but {type(row).__name__}")
        table = _table(rows)
        for what, ours in _NEEDED.items():
            names = [reading.options.columns.get(name, name) for name in ours]
            if any(name in table.column_names and not table[name].null_count for name in names):
                continue  # all have it
            without = [number for number, row in rows.items() if all(row.get(name) is None for name in names)]
            if len(without) < len(rows) or (n and what == "time"):  # else it is said what they have instead
                for number in without:
                    skipped.add(path, number, f"no {what}")
                    del rows[number]
                table = _table(rows)
        if rows:
            n += len(rows)
            yield saying(table, made, *rows)
        refuse_garbage(path, n, skipped)
    if not n:
        raise TraceError(f"{path}: no line is a JSON object")


def _table(rows: dict[int, dict[str, object]]) -> pa.Table:
    """All of their cells as texts."""
    names = list(dict.fromkeys(name for row in rows.values() for name in row))
    return pa.table(
        {_cell(name) or "": pa.array([_cell(row.get(name)) for row in rows.values()], pa.string()) for name in names}
    )


def _cell(value: object) -> str | None:
    if value is None:
        return None
    text = value if isinstance(value, str) else json.dumps(value)
    return text.encode("utf-8", "replace").decode()  # JSON may have halves of surrogate pairs
