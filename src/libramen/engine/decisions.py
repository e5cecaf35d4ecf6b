"""The record of a scaling rule's decisions: a column a figure, rows made when they are read."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Final, NamedTuple, overload

import numpy as np


class Decision(NamedTuple):
    """One decision of a scaling rule. Times are seconds from the start of the trace."""

    at_s: float
    window_from_s: float | None  # what was measured, and when; None: nothing was
    window_to_s: float | None
    measure: str
    measured: float | None
    ready: int
    coming: int
    leaving: int  # of both, their machines are being taken back
    floor: int
    ceiling: int
    wanted: int  # by the rule, before floor and ceiling
    held_by: str  # what kept it from wanting or getting more or less; empty: nothing
    ordered: int
    cancelled: int
    drained: int

    @property
    def have(self) -> int:
        """Ready and coming and not leaving, before it acted."""
        return self.ready + self.coming - self.leaving

    @property
    def acted(self) -> bool:
        """Whether it changed the fleet."""
        return bool(self.ordered or self.cancelled or self.drained)


_WORDS: Final = ("measure", "held_by")
_FLOATS: Final = ("at_s", "window_from_s", "window_to_s", "measured")
_ROW: Final = np.dtype([(name, "f8" if name in _FLOATS else "i8") for name in Decision._fields])
_BLOCK: Final = 4096


class Decisions(Sequence[Decision]):
    """All decisions of a replay, in order: a month of them every 15 s is 175,000, so they are kept as numbers."""

    def __init__(self) -> None:
        self._blocks: list[np.ndarray] = []
        self._latest: list[tuple[float, ...]] = []  # not yet in a block
        self._words = {"": 0}

    def add(
        self,
        at_s: float,
        window_from_s: float,
        window_to_s: float,
        measure: str,
        measured: float,
        ready: int,
        coming: int,
        leaving: int,
        floor: int,
        ceiling: int,
        wanted: int,
        held_by: str,
        ordered: int,
        cancelled: int,
        drained: int,
    ) -> None:
        """Write down one more; its figures are those of a `Decision`, NaN for what is not there."""
        words = self._words
        if measure not in words:
            words[measure] = len(words)
        if held_by not in words:
            words[held_by] = len(words)
        self._latest.append((
            at_s, window_from_s, window_to_s, words[measure], measured, ready, coming, leaving, floor, ceiling, wanted,
            words[held_by], ordered, cancelled, drained,
        ))  # fmt: skip
        if len(self._latest) == _BLOCK:
            self._blocks.append(np.array(self._latest, _ROW))
            self._latest = []

    def __len__(self) -> int:
        return _BLOCK * len(self._blocks) + len(self._latest)

    @overload
    def __getitem__(self, index: int) -> Decision: ...
    @overload
    def __getitem__(self, index: slice) -> list[Decision]: ...
    def __getitem__(self, index: int | slice) -> Decision | list[Decision]:
        if isinstance(index, slice):
            return [self[i] for i in range(*index.indices(len(self)))]
        block, at = divmod(range(len(self))[index], _BLOCK)
        row = self._blocks[block][at].item() if block < len(self._blocks) else self._latest[at]
        named = dict(zip(Decision._fields, row, strict=True))
        words = list(self._words)
        for name in _FLOATS:
            named[name] = None if math.isnan(named[name]) else named[name]
        return Decision(**named | {name: words[named[name]] for name in _WORDS})

    def column(self, name: str) -> np.ndarray:
        """One figure of all decisions: float64 or int64 (n,), of words an array of objects."""
        values: np.ndarray = np.concatenate(
            [*(block[name] for block in self._blocks), np.array(self._latest, _ROW)[name]]
        )
        return np.array(list(self._words), object)[values] if name in _WORDS else values
