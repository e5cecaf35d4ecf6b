"""The rows of a log while it is read: parts of blocks, put together into arrays at the end."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from collections.abc import Sequence


@dataclass
class Part:
    """The rows of one block, float64 or integer arrays of one length; None: the log does not have it."""

    second: np.ndarray  # int64, whole seconds since 1970
    fraction_s: np.ndarray | None  # part of a second, where stamps are finer
    took_s: np.ndarray | None
    status: np.ndarray | None
    bytes_out: np.ndarray | None
    path: tuple[np.ndarray, list[str]]  # indices into distinct paths
    agent: tuple[np.ndarray, list[str]] | None = None
    host: tuple[np.ndarray, list[str]] | None = None


class Codes:
    """Indices into distinct texts, over many parts."""

    def __init__(self) -> None:
        self.texts: dict[str, int] = {}
        self._parts: list[np.ndarray] = []

    def add(self, codes: np.ndarray, texts: Sequence[str]) -> None:
        """Append indices into other texts."""
        known = np.array([self.texts.setdefault(text, len(self.texts)) for text in texts], np.int32)
        self._parts.append(known[codes] if len(texts) else np.zeros(len(codes), np.int32))

    def array(self) -> np.ndarray:
        """All of them, int32 (n,)."""
        return np.concatenate(self._parts) if self._parts else np.zeros(0, np.int32)


@dataclass
class Rows:
    """All rows read so far, in the order of the files."""

    columns: dict[str, list[np.ndarray]] = field(default_factory=dict)
    paths: Codes = field(default_factory=Codes)
    agents: Codes = field(default_factory=Codes)
    hosts: Codes = field(default_factory=Codes)
    n: int = 0

    def add(self, part: Part, file: int) -> None:
        """Append the rows of a block of the file with that number."""
        n = len(part.second)
        missing = np.full(n, np.nan)
        values = {
            "second": part.second,
            "fraction_s": part.fraction_s if part.fraction_s is not None else missing,
            "took_s": part.took_s if part.took_s is not None else missing,
            "status": (part.status if part.status is not None else np.zeros(n)).astype(np.int16),
            "bytes_out": part.bytes_out if part.bytes_out is not None else missing,
            "file": np.full(n, file, np.int16),
        }
        for name, array in values.items():
            self.columns.setdefault(name, []).append(array)
        self.paths.add(*part.path)
        self.agents.add(*(part.agent or (np.zeros(n, np.int32), [""])))
        self.hosts.add(*(part.host or (np.zeros(n, np.int32), [""])))
        self.n += n

    def take(self, name: str) -> np.ndarray:
        """One column as a whole; its parts are let go."""
        parts = self.columns.pop(name, [])
        return np.concatenate(parts) if parts else np.zeros(0)
