"""Arrays of requests, checked: finite, in order, of one length, and fixed."""

from __future__ import annotations

from datetime import date, datetime, time
from typing import TYPE_CHECKING, Final
from zoneinfo import ZoneInfo

import numpy as np

from libramen.base import units
from libramen.base.errors import TraceError, UnitError
from libramen.base.times import parse_zone
from libramen.trace.growing import all_within, backs, first_back

if TYPE_CHECKING:
    from numpy.typing import ArrayLike


MOST_REQUESTS: Final = 200_000_000
"""Requests of one trace in memory: some 15 GB with all columns. More come in chunks."""


_MOST: Final = {
    "at_s": units.LONGEST_S,
    "cpu_s": 1e6,
    "wait_s": 1e6,
    "latency_s": 1e6,
    "bytes_out": 1e15,
    "status": 999.0,
}
"""What is implausible and not taken: traces over ten years, single requests of over 1e6 s, ..."""


def _fixed(array: np.ndarray) -> np.ndarray:
    """An array that nobody can write: itself, or a copy where it is seen through another one that may be written."""
    base = array.base
    while isinstance(base, np.ndarray):
        if base.flags.writeable:
            array = array.copy()
            break
        base = base.base
    array.flags.writeable = False
    return array


def _aligned(array: np.ndarray) -> np.ndarray:
    return _fixed(np.require(array, requirements="A"))


def _numbers(name: str, values: ArrayLike, n: int | None) -> np.ndarray:
    """The values as a C-contiguous float64 array of length n of our own, finite, not negative and not absurd."""
    try:
        given = np.asarray(values)
        # Complex numbers, times and text would be turned into floats, more or less silently.
        array = np.array(given, dtype=np.float64, order="C") if given.dtype.kind in "biufO" else None
    except (TypeError, ValueError, OverflowError):
        array = None
    if array is None:
        raise TraceError(f"{name}: found values that are not numbers; allowed: numbers of 0 or more")
    if array.ndim != 1:
        raise TraceError(f"{name}: found {array.ndim} dimensions; allowed: one")
    if n is not None and len(array) != n:
        raise TraceError(f"{name}: found {len(array)} values; allowed: as many as at_s, {n}")
    check_numbers(name, array)
    return array


def check_numbers(name: str, array: np.ndarray) -> None:
    """Refuse what is no number, negative or absurd.

    Raises:
        TraceError: there are such values.
    """
    most = _MOST.get(name, _MOST["wait_s"])
    if all_within(array, 0, most):
        return
    bad = np.flatnonzero(~((array >= 0) & (array <= most)))
    i = int(bad[0])
    limit = "ten years" if name == "at_s" else f"{most:g}"
    found = "no number" if np.isnan(array[i]) else f"{array[i]:g}"
    raise TraceError(f"{name}: row {i + 1} has {found} ({_such_rows(bad.size)}); allowed: numbers from 0 to {limit}")


def _such_rows(n: int) -> str:
    return "1 such row" if n == 1 else f"{n:,} such rows"


def _check_order(at_s: np.ndarray) -> None:
    if not len(at_s):
        raise TraceError("there is no request in this trace; allowed: one or more")
    i = first_back(at_s)
    if i is not None:
        raise TraceError(
            f"at_s must not go back: row {i + 1} has {at_s[i]:.6g} s after {at_s[i - 1]:.6g} s "
            f"({_such_rows(backs(at_s))}); sort the requests by time first"
        )


def _span(span_s: float | None, at_s: np.ndarray) -> float:
    if span_s is not None and (isinstance(span_s, bool) or not isinstance(span_s, int | float | np.number)):
        raise TraceError(f"span_s: found {span_s!r}; allowed: a number of seconds")
    span = float(at_s[-1]) if span_s is None else float(span_s)
    if not (0 < span <= units.LONGEST_S and span >= at_s[-1]):
        raise TraceError(
            f"span_s: found {span:.6g} s; allowed: above 0, not before the last arrival, {at_s[-1]:.6g} s, and at "
            "most ten years"
        )
    return span


def _factorise(route: ArrayLike | None, n: int, what: str = "route") -> tuple[np.ndarray, tuple[str, ...]]:
    if route is None:
        return np.zeros(n, np.int32), ("all",)
    labels = np.asarray(route).astype(str)
    if labels.shape != (n,):
        raise TraceError(f"{what}: found {labels.size} values; allowed: as many as at_s, {n}")
    routes, codes = np.unique(labels, return_inverse=True)
    return codes.astype(np.int32), tuple(str(name) for name in routes)


def visitor_codes(visitor: ArrayLike, n: int) -> np.ndarray:
    """Numbers for labels of visitors, in the order in which they first come: int32 (n,), -1: not known.

    Raises:
        TraceError: there are not as many as requests.
    """
    import pandas as pd

    labels = np.asarray(visitor)
    if labels.shape != (n,):
        raise TraceError(f"visitor: found {labels.size} values; allowed: as many as at_s, {n}")
    codes: np.ndarray = pd.factorize(labels)[0].astype(np.int32)
    return codes


def instant_of(start: date | str | None, time_zone: str | None) -> datetime | None:
    """The instant 0 of a trace as it is said: an ISO time, a datetime, or a day, which begins at midnight.

    Raises:
        TraceError: it is none of these, or there is no such zone.
    """
    if start is None:
        return None
    try:
        zone = None if time_zone is None else ZoneInfo(parse_zone(time_zone))
        instant = datetime.fromisoformat(start) if isinstance(start, str) else start
        if isinstance(instant, date) and not isinstance(instant, datetime):
            instant = datetime.combine(instant, time())  # a day begins at midnight
        if not isinstance(instant, datetime):
            raise TraceError(f"start: found {start!r}; allowed: an ISO time such as '2031-06-07T00:00', or a datetime")
    except UnitError as error:
        raise TraceError(f"time_zone: {error}") from None
    except ValueError:
        raise TraceError(f"start: found {start!r}; allowed: an ISO time such as '2031-06-07T00:00'") from None
    if instant.tzinfo is None:
        return instant.replace(tzinfo=zone or ZoneInfo("UTC"))
    return instant if zone is None else instant.astimezone(zone)
