"""How a record of `layout` is declared: what the compiler may know of a field, and which are addresses."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, Final, NamedTuple

import numpy as np

from libramen.engine.kernel.settings import Setting

CACHE_LINE: Final = 64
LEAN: Final[dict[str, dict[str, float]]] = {}
"""By record: the values that fields have which the lean variant knows; see `known`."""


ADDRESSES: Final[dict[str, tuple[str, ...]]] = {}
"""By record: the fields that say where arrays begin; see `address`."""


class _Known(NamedTuple):
    """A field of which the lean variant knows the value."""

    name: str
    kind: str
    value: float


def known(name: str, kind: str, value: float) -> _Known:
    """A field that no replay changes if it has this value at the beginning, so that the compiler may know it.

    The lean variant is for worlds and services whose fields of this kind have these values. Those of VISIT and REPLICA
    follow from them.
    """
    return _Known(name, kind, value)


class _Address(NamedTuple):
    """A field that says where an array begins."""

    name: str
    kind: str = "i8"


def address(name: str) -> _Address:
    """Where the array of this name begins: no value, so that it is left out of a copy."""
    return _Address(name)


def record(name: str, *fields: Any) -> np.dtype[Any]:
    """A record of these fields; what is known of them goes to `LEAN`, which are addresses to `ADDRESSES`."""
    LEAN[name] = {field.name: field.value for field in fields if isinstance(field, _Known)}
    ADDRESSES[name] = tuple(field.name for field in fields if isinstance(field, _Address))
    return np.dtype([field if type(field) is tuple else field[:2] for field in fields])


def of_settings(settings: Iterable[Setting]) -> list[Any]:
    """The fields of settings."""
    return [(one.name, one.kind) if one.lean is None else known(*one[:2], one.lean) for one in settings]


def lines(name: str, *fields: Any) -> np.dtype[Any]:
    """A record of these fields, filled up to whole cache lines, or to a share of one that leaves no rest."""
    bare = record(name, *fields).itemsize
    size = next((share for share in (16, 32) if bare <= share), -(-bare // CACHE_LINE) * CACHE_LINE)
    return record(name, *fields, *([("padding", "u1", size - bare)] if size > bare else []))
