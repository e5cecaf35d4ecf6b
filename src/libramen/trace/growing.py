"""Arrays that grow while something is read or made, without being there twice."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any, Final

import numpy as np

BLOCK: Final = 1 << 20
"""Rows that are worked on together: what is needed for them beside the arrays is some megabytes a column."""
_LEAST: Final = 1 << 16
_MORE: Final = 8


def blocks(n: int, size: int = BLOCK) -> Iterator[slice]:
    """The rows from 0 to n in slices."""
    for first in range(0, n, size):
        yield slice(first, min(n, first + size))


class Growing:
    """One array that grows at its end.

    It is made longer in place: of a large array the system moves the pages, not the bytes.

    Args:
        kind: dtype.
    """

    def __init__(self, kind: Any) -> None:
        self._array, self.n = np.empty(0, kind), 0

    def add(self, values: np.ndarray) -> None:
        """Append some values."""
        n = self.n + len(values)
        if n > len(self._array):
            self._array.resize(max(n, _LEAST, len(self._array) + len(self._array) // _MORE), refcheck=False)
        self._array[self.n : n] = values
        self.n = n

    def add_same(self, value: Any, n: int) -> None:
        """Append one value n times."""
        for rows in blocks(n):
            self.add(np.full(rows.stop - rows.start, value, self._array.dtype))

    def take(self) -> np.ndarray:
        """The array, which is let go."""
        array, self._array = self._array, np.empty(0, self._array.dtype)
        array.resize(self.n, refcheck=False)
        self.n = 0
        return array


class Codes:
    """Indices into distinct texts, over many parts; -1: no text."""

    def __init__(self) -> None:
        self.texts: dict[str, int] = {}
        self._codes = Growing(np.int32)

    @property
    def n(self) -> int:
        """How many there are."""
        return self._codes.n

    def add(self, codes: np.ndarray, texts: Sequence[str]) -> None:
        """Append indices into other texts."""
        known = np.array([*(self.texts.setdefault(text, len(self.texts)) for text in texts), -1], np.int32)
        self._codes.add(known[codes])

    def take(self) -> tuple[np.ndarray, list[str]]:
        """Indices and texts, which are let go."""
        return self._codes.take(), list(self.texts)


def remapped(codes: np.ndarray, lookup: np.ndarray) -> np.ndarray:
    """Other codes for each, in place: int32 (n,); code k becomes `lookup[k]`."""
    for rows in blocks(len(codes)):
        codes[rows] = lookup[codes[rows]]
    return codes


def counted(at_s: np.ndarray, width: float, n: int | None = None) -> np.ndarray:
    """How many ascending values there are in each interval of a width: int64 (n,), n by default up to the last one.

    As `np.bincount(at_s // width)`, without an array of those.
    """
    counts = np.zeros(int(at_s[-1] // width) + 1 if n is None else n, np.int64)
    for rows in blocks(len(at_s)):
        place = (at_s[rows] // width).astype(np.int64)
        first, last = int(place[0]), min(int(place[-1]), len(counts) - 1)
        if first < len(counts):
            counts[first : last + 1] += np.bincount(place - first, minlength=last + 1 - first)[: last + 1 - first]
    return counts


def all_within(array: np.ndarray, least: float, most: float) -> bool:
    """Whether all values are numbers from `least` to `most`."""
    return all(bool(((array[rows] >= least) & (array[rows] <= most)).all()) for rows in blocks(len(array)))


def is_ascending(array: np.ndarray) -> bool:
    """Whether no value is below the one before it."""
    return first_back(array) is None


def first_back(array: np.ndarray) -> int | None:
    """The first place whose value is below the one before it; None: there is none."""
    for rows in blocks(len(array)):
        some = array[max(0, rows.start - 1) : rows.stop]
        back = np.flatnonzero(some[1:] < some[:-1])
        if back.size:
            return int(max(1, rows.start) + back[0])
    return None


def backs(array: np.ndarray) -> int:
    """How many values are below the one before them."""
    parts = (array[max(0, rows.start - 1) : rows.stop] for rows in blocks(len(array)))
    return sum(int(np.count_nonzero(some[1:] < some[:-1])) for some in parts)
