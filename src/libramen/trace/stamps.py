"""Time stamps of logs: read once per distinct text, and filled in within their second."""

from __future__ import annotations

import re
from datetime import date
from typing import Final

import numpy as np

from libramen.streams import stream

_MONTHS: Final = {
    name: number
    for number, name in enumerate("Jan Feb Mar Apr May Jun Jul Aug Sep Oct Nov Dec".split(), start=1)
}
_EPOCH: Final = date(1970, 1, 1).toordinal()
_DAY: Final = re.compile(r"(\d{2})/([A-Z][a-z]{2})/(\d{4})")
_TIME: Final = re.compile(r"([01]\d|2[0-3]):([0-5]\d):([0-5]\d)")
_OFFSET: Final = re.compile(r"([+-])(\d{2})([0-5]\d)")


class StampReader:
    """Reads stamps such as `07/Jun/2031:09:30:00` and offsets such as `+0100`.

    `seconds` gives whole seconds since 1970-01-01 UTC, or None for what is no such stamp.
    """

    def __init__(self) -> None:
        self._days: dict[str, int | None] = {}
        self._offsets: dict[str, int | None] = {}

    def seconds(self, stamp: str, offset: str) -> int | None:
        """Seconds since 1970 of a stamp without brackets and its offset."""
        day, time = stamp[:11], _TIME.fullmatch(stamp[12:])
        if stamp[11:12] != ":" or time is None:
            return None
        if day not in self._days:
            self._days[day] = _day_seconds(day)
        if offset not in self._offsets:
            self._offsets[offset] = _offset_seconds(offset)
        day_s, offset_s = self._days[day], self._offsets[offset]
        if day_s is None or offset_s is None:
            return None
        return day_s + int(time[1]) * 3600 + int(time[2]) * 60 + int(time[3]) - offset_s


def _day_seconds(text: str) -> int | None:
    match = _DAY.fullmatch(text)
    if match is None or match[2] not in _MONTHS:
        return None
    try:
        return (date(int(match[3]), _MONTHS[match[2]], int(match[1])).toordinal() - _EPOCH) * 86400
    except ValueError:  # the 31st of February
        return None


def _offset_seconds(text: str) -> int | None:
    match = _OFFSET.fullmatch(text)
    if match is None or int(match[2]) > 14:
        return None
    return (int(match[2]) * 3600 + int(match[3]) * 60) * (-1 if match[1] == "-" else 1)


def spread_within_second(second: np.ndarray, seed: int) -> np.ndarray:
    """A fraction of a second for every line, in log order within each second.

    Args:
        second: int64 (n,), whole seconds in the order of the log.
        seed: of the uniform draws, one per line.

    Returns:
        float64 (n,) in [0, 1).
    """
    drawn = stream(seed, "stamps").random(len(second))
    in_log_order = np.argsort(second, kind="stable")
    by_draw = np.lexsort((drawn, second))
    fraction = np.empty(len(second))
    fraction[in_log_order] = drawn[by_draw]
    return fraction
