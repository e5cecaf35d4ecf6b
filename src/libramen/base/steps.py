"""A number that changes in steps, such as how many replicas there are."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from libramen.base.times import EPSILON_S


@dataclass(frozen=True)
class Steps:
    """A number that changes in steps: `count[i]` from `at_s[i]` to `at_s[i + 1]`, the last one for ever."""

    at_s: np.ndarray
    count: np.ndarray

    @classmethod
    def of(cls, from_s: Sequence[float] | np.ndarray, to_s: Sequence[float] | np.ndarray, end_s: float) -> Steps:
        """How many of some intervals there are at each time in [0, end_s]."""
        starts, ends = np.minimum(from_s, end_s), np.minimum(to_s, end_s)
        at_s = np.concatenate([[0.0], starts, ends, [end_s]])
        change = np.concatenate([[0], np.ones(len(starts), int), -np.ones(len(ends), int), [0]])
        order = np.argsort(at_s, kind="stable")
        return cls(at_s[order], np.cumsum(change[order]))

    def area(self, edges_s: np.ndarray) -> np.ndarray:
        """The number times the time, up to each edge: float64."""
        area = np.concatenate([[0.0], np.cumsum(np.diff(self.at_s) * self.count[:-1])])
        up_to: np.ndarray = np.interp(edges_s, self.at_s, area)
        return up_to

    def mean(self, edges_s: np.ndarray) -> np.ndarray:
        """The mean between each two edges."""
        width = np.diff(edges_s)
        mean: np.ndarray = np.divide(np.diff(self.area(edges_s)), width, out=np.zeros(len(width)), where=width > 0)
        return mean

    def extremes(self) -> tuple[int, int]:
        """Least and greatest number that lasted."""
        lasted = self.count[:-1][np.diff(self.at_s) > EPSILON_S]
        return (int(lasted.min()), int(lasted.max())) if lasted.size else (0, 0)

    def changes(self) -> list[tuple[float, int]]:
        """From which instant on [s] how many there are, the last of each instant."""
        last = np.append(np.diff(self.at_s) > 0, True)
        return list(zip(self.at_s[last].tolist(), self.count[last].tolist(), strict=True))
