"""Compares two replays at one instant: would both produce the same results from here on?

The control planes are compared object by object. A class lists the attributes that are only history (`HISTORY`), or
returns what decides its future (`comparable`). An attribute that is listed in neither may make two equal replays
differ, never two different ones equal.
"""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Mapping
from functools import partial
from types import MethodType
from typing import TYPE_CHECKING, Any

import numpy as np

from libramen.base.fields import Table
from libramen.base.times import EPSILON_S

if TYPE_CHECKING:
    from libramen.engine.control.play import Control


def renaming(one: Control, other: Control, now_s: float) -> dict[str, dict[int, int]] | None:
    """Which replica of another replay plays the part of each replica of this one, if both have the same future.

    The order of numbers is kept, since ties are broken by it. Where something is still drawn by number, all numbers
    must be equal.

    Args:
        one: a control plane.
        other: another one, at the same instant.
        now_s: that instant [s].

    Returns:
        by service the number in the other replay, by the number in the first, of each replica that is not gone; None:
        their futures differ, or it cannot be told.
    """
    names: dict[str, dict[int, int]] = {}
    for mine, theirs in zip(one.replays, other.replays, strict=True):
        numbers = [[replica.number for replica in replay.fleet.alive()] for replay in (mine, theirs)]
        if mine.name != theirs.name or len(numbers[0]) != len(numbers[1]):
            return None
        names[mine.name] = dict(zip(*numbers, strict=True))
        is_renamed = numbers[0] != numbers[1] or len(mine.fleet.replicas) != len(theirs.fleet.replicas)
        if is_renamed and (mine.depends_on_numbers or theirs.depends_on_numbers):
            return None
    alike, planes = _Alike(now_s), [control.comparable_state(now_s) for control in (one, other)]
    return names if alike.are(one, other) and alike.are(*planes) else None


class _Alike:
    """Compares two graphs of objects, each pair once."""

    def __init__(self, now_s: float) -> None:
        self._now_s = now_s
        self._met: set[tuple[int, int]] = set()
        self._kept: list[Any] = []  # so that no number of an object is used again

    def are(self, one: Any, other: Any) -> bool:
        """Whether these are."""
        if isinstance(one, float | int) and isinstance(other, float | int):
            return one == other or _is_close(one, other)
        if one is other:
            return True
        if type(one) is not type(other):
            return False
        if isinstance(one, Table):
            return bool(one == other)
        if isinstance(one, np.ndarray):
            if one.shape != other.shape or one.dtype.kind != "f":
                return bool(np.array_equal(one, other))
            return bool(np.allclose(one, other, 0, EPSILON_S, equal_nan=True))
        if (id(one), id(other)) in self._met:
            return True
        self._met.add((id(one), id(other)))
        self._kept += [one, other]
        return self._parts(one, other)

    def _parts(self, one: Any, other: Any) -> bool:
        if hasattr(one, "comparable"):
            return self.are(one.comparable(self._now_s), other.comparable(self._now_s))
        if isinstance(one, MethodType):
            return one.__func__ is other.__func__ and self.are(one.__self__, other.__self__)
        if isinstance(one, np.random.Generator):
            return self.are(one.bit_generator.state, other.bit_generator.state)
        if isinstance(one, Mapping):
            return one.keys() == other.keys() and all(self.are(one[key], other[key]) for key in one)
        if isinstance(one, partial):
            return self.are([one.func, one.args, one.keywords], [other.func, other.args, other.keywords])
        if isinstance(one, list | tuple | deque):
            return len(one) == len(other) and all(map(self.are, one, other))
        values = getattr(one, "__dict__", None)
        if not values or isinstance(one, type) or callable(values.get("__wrapped__")):
            return bool(one == other)
        past = getattr(one, "HISTORY", ())
        return self.are(*({name: vars(of)[name] for name in vars(of) if name not in past} for of in (one, other)))


def _is_close(one: float, other: float) -> bool:
    return math.isclose(one, other, rel_tol=1e-12, abs_tol=EPSILON_S) or (math.isnan(one) and math.isnan(other))
