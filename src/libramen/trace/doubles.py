"""Lines that were logged twice, in one file or in two."""

from __future__ import annotations

import numpy as np

from libramen.trace.growing import blocks
from libramen.trace.raw_requests import RawRequests


def without_doubles(found: RawRequests) -> RawRequests:
    """Without the lines that stand in a second file too, as rotations that overlap leave them.

    A line is known again by its instant, latency, status, bytes, path, host and agent; as many of
    equal lines are kept as one file has.
    """
    if found.file is None or len(found.files) < 2:
        return found
    shared = _in_two_files(found)
    if not len(shared):
        return found
    if len(shared) < len(found.at_s):
        # Only what lies in the time of two files can stand in both.
        some = found.keep(shared)
        kept, doubled = _doubles(some)
        return found if not doubled else _without(found, shared, kept, doubled)
    kept, doubled = _doubles(found)
    return found if not doubled else _without(found, np.arange(len(found.at_s)), kept, doubled)


def _without(found: RawRequests, shared: np.ndarray, kept: np.ndarray, doubled: int) -> RawRequests:
    rows = np.ones(len(found.at_s), bool)
    rows[shared[~kept]] = False
    fewer = found.keep(rows)
    fewer.notes.append(f"{doubled:,} lines stand in two files, and count once")
    return fewer


def _in_two_files(found: RawRequests) -> np.ndarray:
    """The rows whose instants lie between the first and the last of two files at least: int64 (k,)."""
    assert found.file is not None
    least, most = np.full(len(found.files), np.inf), np.full(len(found.files), -np.inf)
    for some in blocks(len(found.at_s)):
        np.minimum.at(least, found.file[some], found.at_s[some])
        np.maximum.at(most, found.file[some], found.at_s[some])
    there = np.flatnonzero(least <= most)
    # How many files there are at each instant changes at these only.
    edges_s = np.sort(np.concatenate([least[there], np.nextafter(most[there], np.inf)]))
    begun = np.searchsorted(np.sort(least[there]), edges_s, side="right")
    over = np.searchsorted(np.sort(np.nextafter(most[there], np.inf)), edges_s, side="right")
    is_shared = np.append(False, begun - over >= 2)
    rows = [
        some.start + np.flatnonzero(is_shared[np.searchsorted(edges_s, found.at_s[some], side="right")])
        for some in blocks(len(found.at_s))
    ]
    return np.concatenate(rows) if rows else np.zeros(0, np.int64)


def _doubles(found: RawRequests) -> tuple[np.ndarray, int]:
    """Which of some rows stay, bool (n,), and how many do not."""
    assert found.file is not None
    columns = [found.at_s, found.latency_s, found.status, found.bytes_out]
    columns += [pair[0] for pair in (found.labels, found.hosts, found.agents) if pair is not None]
    order = np.lexsort([found.file, *(column for column in columns if column is not None)])
    same = np.ones(len(order) - 1, bool)
    for column in columns:
        if column is not None:
            ordered = column[order]
            same &= (ordered[1:] == ordered[:-1]) | (
                np.isnan(ordered[1:].astype(float)) & np.isnan(ordered[:-1].astype(float))
            )
    group = np.concatenate([[0], np.cumsum(~same)])
    file = found.file[order]
    # Within a group the files come in turn: the k-th of a file doubles the k-th of an earlier one.
    start_of_file = np.concatenate([[True], (group[1:] != group[:-1]) | (file[1:] != file[:-1])])
    positions = np.arange(len(order))
    rank = positions - np.maximum.accumulate(np.where(start_of_file, positions, 0))
    by_rank = np.lexsort((file, rank, group))
    again = np.concatenate(
        [[False], (group[by_rank][1:] == group[by_rank][:-1]) & (rank[by_rank][1:] == rank[by_rank][:-1])]
    )
    doubled = order[by_rank[again]]
    rows = np.ones(len(order), bool)
    rows[doubled] = False
    return rows, int(doubled.size)
