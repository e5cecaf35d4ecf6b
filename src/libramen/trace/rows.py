"""The rows of a log while it is read: parts of blocks, put together into arrays at the end."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Final

import numpy as np

from libramen.trace.growing import Codes, Growing


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


_KINDS: Final = {
    "second": np.int64, "fraction_s": np.float64, "took_s": np.float64, "status": np.int16, "bytes_out": np.float64,
}  # fmt: skip
_MISSING: Final = {"fraction_s": np.nan, "took_s": np.nan, "bytes_out": np.nan}


@dataclass
class Rows:
    """All rows read so far, in the order of the files."""

    columns: dict[str, Growing] = field(default_factory=dict)
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
            "status": part.status,
            "bytes_out": part.bytes_out,
        }
        for name, array in values.items():
            if array is not None or name in self.columns:
                # A log whose fields change may lack now what it had before, or the other way round.
                if name not in self.columns:
                    self.columns[name] = Growing(_KINDS[name])
                    self.columns[name].add_same(_MISSING.get(name, 0), self.n)
                if array is None:
                    self.columns[name].add_same(_MISSING.get(name, 0), n)
                else:
                    self.columns[name].add(array)
        self.columns.setdefault("file", Growing(np.int16)).add_same(file, n)
        self.paths.add(*part.path)
        for codes, pair in ((self.agents, part.agent), (self.hosts, part.host), (self.servers, part.server)):
            if pair is not None:
                codes.add(*pair)
        self.n += n

    def take(self, name: str) -> np.ndarray | None:
        """One column as a whole, which is let go; None: no row has it."""
        column = self.columns.pop(name, None)
        return None if column is None else column.take()

    def pair(self, name: str) -> tuple[np.ndarray, list[str]] | None:
        """Indices and texts of one of the columns of texts, which is let go; None: not all rows have it."""
        codes: Codes = getattr(self, name)
        return codes.take() if codes.n == self.n else None
