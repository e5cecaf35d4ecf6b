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
    server: tuple[np.ndarray, list[str]] | None = None  # that answered


class Codes:
    """Indices into distinct texts, over many parts."""

    def __init__(self) -> None:
        self.texts: dict[str, int] = {}
        self._parts: list[np.ndarray] = []

    def add(self, codes: np.ndarray, texts: Sequence[str]) -> None:
        """Append indices into other texts."""
        known = np.array([self.texts.setdefault(text, len(self.texts)) for text in texts], np.int32)
        self._parts.append(known[codes] if len(texts) else np.zeros(len(codes), np.int32))

    def pair(self) -> tuple[np.ndarray, list[str]] | None:
        """Indices and texts, None: there are none."""
        return (self.array(), list(self.texts)) if self._parts else None

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
    servers: Codes = field(default_factory=Codes)
    n: int = 0

    def add(self, part: Part, file: int) -> None:
        """Append the rows of a block of the file with that number."""
        n = len(part.second)
        values = {
            "second": part.second,
            "fraction_s": part.fraction_s,
            "took_s": part.took_s,
            "status": None if part.status is None else part.status.astype(np.int16),
            "bytes_out": part.bytes_out,
            "file": np.full(n, file, np.int16),
        }
        for name, array in values.items():
            if array is not None or name in self.columns:
                # A log whose fields change may lack now what it had before, or the other way round.
                parts = self.columns.setdefault(name, [np.full(self.n, np.nan)] if self.n else [])
                parts.append(np.full(n, np.nan) if array is None else array)
        self.paths.add(*part.path)
        for codes, pair in ((self.agents, part.agent), (self.hosts, part.host), (self.servers, part.server)):
            if pair is not None:
                codes.add(*pair)
        self.n += n

    def take(self, name: str) -> np.ndarray | None:
        """One column as a whole, None: no row has it; its parts are let go."""
        parts = self.columns.pop(name, None)
        if parts is None:
            return None
        whole = np.concatenate(parts)
        return np.nan_to_num(whole).astype(np.int16) if name == "status" else whole
