"""Whether two replays that stand at one instant would go on alike: their control planes, object by object.

A class says what of it has only been, and does not bear on what is to come (`PAST`), or how it stands, if that is not
what its attributes say (`standing`). What is forgotten there makes a difference where there is none, and never the
other way round.
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
    """How the replicas of one replay would have to be called for it to stand as another one does.

    Replicas keep their order, since ties go by number; of what is drawn by number none may be left to be drawn, unless
    all of them have the number that they had.

    Args:
        one: a control plane.
        other: another one, at the same instant.
        now_s: that [s].

    Returns:
        by service the number of each replica that is not gone, by the number that it has in the first; None: they do
        not stand alike, or it cannot be told.
    """
    names: dict[str, dict[int, int]] = {}
    for mine, theirs in zip(one.replays, other.replays, strict=True):
        numbers = [[replica.number for replica in replay.fleet.alive()] for replay in (mine, theirs)]
        if mine.name != theirs.name or len(numbers[0]) != len(numbers[1]):
            return None
        names[mine.name] = dict(zip(*numbers, strict=True))
        is_renamed = numbers[0] != numbers[1] or len(mine.fleet.replicas) != len(theirs.fleet.replicas)
        if is_renamed and (mine.knows_numbers or theirs.knows_numbers):
            return None
    alike, planes = _Alike(now_s), [control.stands(now_s) for control in (one, other)]
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
        if hasattr(one, "standing"):
            return self.are(one.standing(self._now_s), other.standing(self._now_s))
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
        past = getattr(one, "PAST", ())
        return self.are(*({name: vars(of)[name] for name in vars(of) if name not in past} for of in (one, other)))


def _is_close(one: float, other: float) -> bool:
    return math.isclose(one, other, rel_tol=1e-12, abs_tol=EPSILON_S) or (math.isnan(one) and math.isnan(other))
