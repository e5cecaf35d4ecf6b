"""What was read, kept for the next time: a trace as an Arrow file in the user's cache directory.

An entry is known by the content of the files that were read and by everything that was said of how to read them, so a
changed log or key is another entry. It is an uncompressed Arrow file, which several processes can map into
their memory at once, and beside it a small JSON file with the checksum of the first; both come into being by renaming,
so that two processes that write the same entry do not disturb each other. Nothing of an entry is used before its
checksum is found right.
"""

from __future__ import annotations

import dataclasses
import hashlib
import json
import os
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from libramen.base.code import digest_of
from libramen.base.errors import OutputError
from libramen.base.files import cache_directory, write_whole
from libramen.trace.source import Bottleneck, Demand, Made, RouteCpu, RouteDemand, SkippedLine, Source
from libramen.trace.trace import Trace

if TYPE_CHECKING:
    import pyarrow as pa

_MOST_BYTES: Final = 4 * 10**9
_ARRAYS: Final = ("at_s", "cpu_s", "wait_s", "bytes_out", "latency_s", "status", "visitor", "area")


def key_of(files: Iterable[Path], said: Any, reader: str) -> str | None:
    """By what an entry is known.

    Args:
        files: what is read.
        said: all that decides how, as JSON can write it.
        reader: the module whose code reads it.

    Returns:
        a name, None: a file is a pipe or cannot be read, so that its content is not known beforehand.
    """
    digest = hashlib.blake2b(digest_size=20)
    digest.update(json.dumps([digest_of(reader), digest_of(__name__), said], sort_keys=True, default=str).encode())
    for file in files:
        try:
            if not file.is_file():
                return None
            with file.open("rb") as content:
                found = hashlib.file_digest(content, lambda: hashlib.blake2b(digest_size=20))
        except OSError:
            return None
        digest.update(f"{file.resolve()}\0{found.hexdigest()}\0".encode("utf-8", "surrogateescape"))
    return digest.hexdigest()


def find(key: str, files: Sequence[str] = ()) -> Trace | None:
    """The trace of an entry, its arrays mapped from the file; None: there is none that can be trusted.

    Args:
        key: of the entry.
        files: what the files that were read are called from here. Default: what they were called then.
    """
    folder = cache_directory()
    arrow, told = folder / f"{key}.arrow", folder / f"{key}.json"
    try:
        wanted = json.loads(told.read_bytes())["checksum"]
        with arrow.open("rb") as content:
            found = hashlib.file_digest(content, lambda: hashlib.blake2b(digest_size=20)).hexdigest()
    except FileNotFoundError:
        return None
    except (OSError, ValueError, KeyError, TypeError):
        _set_aside(arrow, told)
        return None
    if found != wanted:
        _set_aside(arrow, told)
        return None
    try:
        trace = _trace_of(arrow, key, files)
    except (OSError, ValueError, KeyError, TypeError, AttributeError):
        _set_aside(arrow, told)
        return None
    for path in (arrow, told):  # used last: the last to be thrown away
        try:
            os.utime(path)
        except OSError:
            break
    return trace


def _set_aside(*paths: Path) -> None:
    """A damaged entry is not used, and not in the way of a new one; the latest is kept for whoever wants to look."""
    for path in paths:
        try:
            path.replace(path.with_name(f"damaged{path.suffix}"))
        except OSError:
            continue


def keep(key: str, trace: Trace) -> Trace:
    """Write an entry, and throw away those used longest ago where they are too many.

    Returns:
        the trace, which knows its key now; unchanged where the entry cannot be written, which is no mistake.
    """
    folder = cache_directory()
    try:
        folder.mkdir(parents=True, exist_ok=True)
        table, arrow = _table_of(trace), folder / f"{key}.arrow"
        checksum = ""

        def write(path: Path) -> None:
            nonlocal checksum
            import pyarrow as pa

            with pa.OSFile(str(path), "wb") as sink, pa.ipc.new_file(sink, table.schema) as writer:
                writer.write_table(table)
            with path.open("rb") as content:
                checksum = hashlib.file_digest(content, lambda: hashlib.blake2b(digest_size=20)).hexdigest()

        write_whole(arrow, write)
        told = json.dumps({"checksum": checksum, "requests": len(trace), "files": trace.source.files})
        write_whole(folder / f"{key}.json", lambda path: _write_text(path, told))
        _make_room(folder)
    except (OSError, OutputError):  # a full disk, a folder that cannot be written: then the files are read again
        return trace
    try:
        # What was read is let go: from now on the file is its memory, here and in every other process.
        mapped = _trace_of(arrow, key, trace.source.files)
    except (OSError, ValueError, KeyError):  # another process has thrown it away
        return trace.kept_as(key)
    return mapped.noted_as(from_cache=False)


def _write_text(path: Path, text: str) -> None:
    path.write_text(text, encoding="utf-8")


def _make_room(folder: Path) -> None:
    entries = sorted(
        ((path.stat().st_mtime, path.stat().st_size, path) for path in folder.glob("*.arrow")), reverse=True
    )
    size = 0
    for number, (_, length, path) in enumerate(entries):
        size += length
        if size > _MOST_BYTES and number:
            for part in (path, path.with_suffix(".json")):
                part.unlink(missing_ok=True)


def _table_of(trace: Trace) -> pa.Table:
    import pyarrow as pa

    from libramen.trace.arrow import from_numpy

    columns = {name: from_numpy(array) for name in _ARRAYS if (array := getattr(trace, name)) is not None}
    columns["route_codes"] = from_numpy(trace.route_codes)
    columns |= {f"in {name}": from_numpy(values) for name, values in trace.in_s.items()}
    told = {
        "routes": trace.routes,
        "areas": trace.areas,
        "span_s": trace.span_s,
        "gaps": trace.gaps,
        "start": None if trace.start is None else trace.start.isoformat(),
        "time_zone": None if trace.start is None else str(trace.start.tzinfo),
        "source": dataclasses.asdict(trace.source),
        "content": trace.content_key,
    }
    return pa.table(columns).replace_schema_metadata({b"libramen": json.dumps(told)})


def _trace_of(path: Path, key: str, files: Sequence[str]) -> Trace:
    import pyarrow as pa

    table = pa.ipc.open_file(pa.memory_map(str(path))).read_all()
    told = json.loads(table.schema.metadata[b"libramen"])
    arrays = {name: np.asarray(_one(table[name])) for name in table.column_names}
    source = told["source"]
    called = dict(zip(source["files"], files, strict=True)) if len(files) == len(source["files"]) else {}
    demand = source["demand"]
    start = told["start"]
    empty = Trace.from_arrays(at_s=[1.0], cpu_s=[0.0], start=start, time_zone=told["time_zone"] if start else None)
    in_s = {name.removeprefix("in "): arrays.pop(name) for name in list(arrays) if name.startswith("in ")}
    columns: dict[str, Any] = {"bytes_out": None, "latency_s": None, "status": None, **arrays, "in_s": in_s}
    trace = dataclasses.replace(
        empty,
        **columns,
        routes=tuple(told["routes"]),
        areas=tuple(told["areas"]),
        span_s=told["span_s"],
        gaps=tuple((from_s, to_s) for from_s, to_s in told["gaps"]),
        source=Source(
            **{
                **source,
                "files": tuple(called.get(file, file) for file in source["files"]),
                "first_skipped": tuple(
                    SkippedLine(**line | {"file": called.get(line["file"], line["file"])})
                    for line in source["first_skipped"]
                ),
                "reasons": tuple((reason, n) for reason, n in source["reasons"]),
                "notes": tuple(source["notes"]),
                "demand": _demand_of(demand),
                "made": Made(**source["made"]),
                "from_cache": True,
            }
        ),
    )
    return trace.kept_as(key, told["content"])


def _demand_of(told: dict[str, Any]) -> Demand:
    return Demand(
        told["kind"],
        tuple(RouteDemand(**route) for route in told["routes"]),
        tuple(told["doubts"]),
        tuple(RouteCpu(**route) for route in told["cpu"]),
        None if (hidden := told["bottleneck"]) is None else Bottleneck(**hidden | {"routes": tuple(hidden["routes"])}),
        told["busiest"],
    )


def _one(column: pa.ChunkedArray) -> np.ndarray:
    from libramen.trace.arrow import to_numpy

    # Without copying: the pages of the file are the memory of the array.
    array: np.ndarray = to_numpy(column.chunk(0) if column.num_chunks == 1 else column.combine_chunks())
    return array
