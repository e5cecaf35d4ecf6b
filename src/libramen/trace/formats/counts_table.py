"""Tables with a number of requests per interval."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from libramen.base.errors import TraceError
from libramen.trace import counts
from libramen.trace.formats.called import names_said
from libramen.trace.formats.table import PERCENTILES, numbers, seconds
from libramen.trace.options import ReadOptions
from libramen.trace.raw_requests import RawRequests

if TYPE_CHECKING:
    import pyarrow as pa


def from_counts(path: Path, table: pa.Table, found: RawRequests, options: ReadOptions) -> RawRequests:
    """Single requests from what was found in such a table.

    Raises:
        TraceError: a count is not allowed, or all are 0.
    """
    has = set(table.column_names)
    requests = numbers(path, table, "requests")
    evenly = options.counts == "even"
    starts_s = found.at_s
    at_s, row, length_s = counts.spread(path, starts_s, requests, evenly=evenly, seed=options.seed)
    if not len(row):
        raise TraceError(f"{path}: all counts are 0")
    order = np.argsort(at_s, kind="stable")
    percentiles = {name: seconds(path, table, name, options) for name in PERCENTILES if name in has}
    found.notes += names_said(options, percentiles)
    span_s = float(found.at_s.max() - found.at_s.min()) + length_s
    found = found.keep(row[order])
    found.at_s, found.whole_seconds = at_s[order], False
    if percentiles and options.work is not None:
        raise TraceError(
            f"work has no effect: {path} has latencies of its own ({', '.join(percentiles)}); allowed: to leave it out"
        )
    if percentiles:
        found.latency_s = counts.latencies(percentiles, row, options.seed)[order]
        found.notes.append(counts.tail_of(percentiles))
    elif options.work is not None:
        found.latency_s = counts.drawn(options.work, len(row), options.seed)
        found.notes.append(f"work is drawn for each request: {options.work}")
    if found.base is None and found.at_s.min() < 0:
        found.at_s = found.at_s - float(np.min(found.at_s))
    begin_s = float(starts_s.min())
    found.covers_s = (begin_s, max(begin_s + span_s, float(found.at_s[-1])))
    how = "evenly spaced" if evenly else "a Poisson process"
    found.format = "counts"
    found.notes.append(f"counts per interval of {length_s:g} s: requests within one are {how}")
    return found
