"""Instants from the columns of a log: each distinct text is read once."""

from __future__ import annotations

import re
from datetime import date
from typing import TYPE_CHECKING, Final

import numpy as np

from libramen.trace.arrow import coded
from libramen.trace.stamps import STAMP_LENGTH, offset_seconds, stamp_seconds

if TYPE_CHECKING:
    import pyarrow as pa


def _fixed_width(texts: list[bytes], width: int) -> tuple[np.ndarray, np.ndarray]:
    """The texts of that width as a matrix of bytes, and which those are."""
    right = np.array([len(text) == width for text in texts], bool)
    matrix = np.frombuffer(b"".join(text for text in texts if len(text) == width), np.uint8).reshape(-1, width)
    return matrix, right


def stamps_of(day: pa.Array, offset: pa.Array) -> np.ndarray:
    """Whole seconds since 1970 of each line, -1: no such stamp. Each distinct text is read once."""
    day_index, days = coded(day)
    offset_index, offsets = coded(offset)
    ahead = [offset_seconds(text.removesuffix(b"]")) for text in offsets]
    ahead_s = np.array([0 if seconds is None else seconds for seconds in ahead], np.int64)
    known = np.array([seconds is not None for seconds in ahead], bool)
    matrix, right = _fixed_width([text.removeprefix(b"[") for text in days], STAMP_LENGTH)
    own_s = np.full(len(days), -1, np.int64)
    own_s[right] = stamp_seconds(matrix)
    own_s = own_s[day_index]
    return np.where((own_s >= 0) & known[offset_index], own_s - ahead_s[offset_index], -1)


_CLOCK: Final = re.compile(rb"([01]\d|2[0-3]):([0-5]\d):([0-5]\d)(\.\d+)?")


def date_and_time(days: pa.Array, times: pa.Array) -> tuple[np.ndarray, np.ndarray | None]:
    """As `stamps_of`, for `2031-06-05` and `09:30:07` in UTC; and the part of a second, where there is one."""
    day_index, day_texts = coded(days)
    time_index, time_texts = coded(times)
    day_s = np.array([_iso_day(text) for text in day_texts], np.int64)
    clock = [_CLOCK.fullmatch(text) for text in time_texts]
    time_s = np.array([-1 if m is None else int(m[1]) * 3600 + int(m[2]) * 60 + int(m[3]) for m in clock], np.int64)
    second = np.where((day_s[day_index] < 0) | (time_s[time_index] < 0), -1, day_s[day_index] + time_s[time_index])
    if not any(m is not None and m[4] for m in clock):
        return second, None
    fraction = np.array([0.0 if m is None or m[4] is None else float(m[4]) for m in clock])
    return second, fraction[time_index]


def _iso_day(text: bytes) -> int:
    try:
        return (date.fromisoformat(text.decode("ascii")).toordinal() - date(1970, 1, 1).toordinal()) * 86400
    except ValueError:
        return -1
