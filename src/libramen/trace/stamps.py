"""Time stamps of logs: read once per distinct text, and filled in within their second."""

from __future__ import annotations

import re
from datetime import date
from typing import Final

import numpy as np

from libramen.base.streams import stream

_MONTHS: Final = {
    name: number
    for number, name in enumerate(
        ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"], start=1
    )
}
_EPOCH: Final = date(1970, 1, 1).toordinal()
_DAY: Final = re.compile(rb"(\d{2})/([A-Z][a-z]{2})/(\d{4})")
_OFFSET: Final = re.compile(rb"([+-])(\d{2})([0-5]\d)")
STAMP_LENGTH: Final = len("07/Jun/2031:09:30:00")


def stamp_seconds(stamps: np.ndarray) -> np.ndarray:
    """Seconds since 1970, by its own clock, of stamps such as `07/Jun/2031:09:30:00`.

    Args:
        stamps: uint8 (n, 20), the text.

    Returns:
        int64 (n,), -1: no such stamp. A leap second is none, since clocks of servers do not show it.
    """
    n = len(stamps)
    if not n:
        return np.zeros(0, np.int64)
    digits = stamps[:, 12:].astype(np.int64) - ord("0")  # hh:mm:ss; a colon is the value 10
    is_colon = digits[:, [2, 5]] == ord(":") - ord("0")
    is_digit = (digits[:, [0, 1, 3, 4, 6, 7]] >= 0) & (digits[:, [0, 1, 3, 4, 6, 7]] <= 9)
    hour, minute, second = (10 * digits[:, i] + digits[:, i + 1] for i in (0, 3, 6))
    fits = is_colon.all(axis=1) & is_digit.all(axis=1) & (stamps[:, 11] == ord(":"))
    fits &= (hour < 24) & (minute < 60) & (second < 60)
    days, inverse = np.unique(np.ascontiguousarray(stamps[:, :11]).view("S11").ravel(), return_inverse=True)
    day_s = np.array([_day_seconds(bytes(day)) for day in days], np.int64)[inverse]
    return np.where(fits & (day_s >= 0), day_s + hour * 3600 + minute * 60 + second, -1)


def _day_seconds(text: bytes) -> int:
    match = _DAY.fullmatch(text)
    month = _MONTHS.get(match[2].decode()) if match else None
    if match is None or month is None:
        return -1
    try:
        return (date(int(match[3]), month, int(match[1])).toordinal() - _EPOCH) * 86400
    except ValueError:  # the 31st of February
        return -1


def offset_seconds(text: bytes) -> int | None:
    """Seconds ahead of UTC of an offset such as `+0100`, None: no such offset."""
    match = _OFFSET.fullmatch(text)
    if match is None or int(match[2]) > 14:
        return None
    return (int(match[2]) * 3600 + int(match[3]) * 60) * (-1 if match[1] == b"-" else 1)


def spread_within_second(second: np.ndarray, seed: int, *, evenly: bool = False, number: int = 0) -> np.ndarray:
    """A fraction of a second for every line, in log order within each second.

    Args:
        second: int64 or float64 (n,), whole seconds of 0 or more in the order of the log.
        seed: of the uniform draws, one per line.
        evenly: instead of draws, (k - 0.5) / n for the k-th of the n lines of a second.
        number: of the file, so that each has draws of its own.

    Returns:
        float64 (n,) in [0, 1).
    """
    in_order = bool((second[1:] >= second[:-1]).all())
    in_log_order = slice(None) if in_order else np.argsort(second, kind="stable")
    if evenly:
        ordered = second[in_log_order]
        first = np.searchsorted(ordered, ordered, side="left")
        count = np.searchsorted(ordered, ordered, side="right") - first
        fraction = (np.arange(len(second)) - first + 0.5) / count
    else:
        # One sort of whole numbers, the second above and the draw below, is many times as fast as
        # sorting pairs; 32 bits of a second are 0.2 ns.
        key = second.astype(np.uint64)
        key <<= np.uint64(32)
        key |= stream(seed, "stamps", number).integers(0, 1 << 32, len(second), dtype=np.uint32)
        key.sort()
        key &= np.uint64((1 << 32) - 1)
        fraction = key.astype(np.float64)
        fraction /= float(1 << 32)
    if in_order:
        return fraction
    spread = np.empty(len(second))
    spread[in_log_order] = fraction
    return spread
