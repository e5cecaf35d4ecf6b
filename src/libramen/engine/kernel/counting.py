"""One pass over requests that have ended: counts, sums and histograms of them, for `outcome.counts`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

import numba
import numpy as np

from libramen.base.code import number_of
from libramen.base.times import EPSILON_S
from libramen.engine.border.records import Ending
from libramen.engine.kernel import bins, reach
from libramen.engine.kernel.advance import compiled

if TYPE_CHECKING:
    from collections.abc import Callable

_OK, _ERRORED = int(Ending.OK), int(Ending.ERRORED)
_SOURCE: Final = number_of(__name__)


def _column(kind: Any) -> Any:
    """Any one-dimensional array of numbers, strided and read-only ones too, with one compilation."""
    return numba.types.Array(kind, 1, "A", readonly=True)


_F8, _I8 = numba.float64, numba.int64
_I4, _U1 = numba.int32, numba.uint8
_COLUMNS: Final = tuple(map(_column, (*(_F8,) * 7, _U1, _U1, _I4, _I4, _F8, _F8, _F8)))
"""Of the fields of `Columns`, in their order."""
_LIMITS: Final = numba.types.NamedTuple((*(_F8,) * 6, _F8[::1]), bins.Limits)
_COUNTED: Final = numba.types.NamedTuple(
    (
        _I8[:, ::1], _I8[::1], _F8[:, ::1], _F8[::1], _I4[:, :, ::1], _I8[:, ::1], _I8[:, :, ::1], _I8[:, :, ::1],
        _I8[:, ::1], _I8[::1], _I8[:, ::1], _I8[::1], _F8[:, :, ::1], _I8[::1], _I8[::1], _F8[::1],
    ),
    bins.Counted,
)  # fmt: skip


@reach.inner
def _whole(value, unit):
    """How many whole units are in a value; the floor division of floats takes several times as long."""
    n = np.int64(value / unit)
    return n - 1 if n * unit > value else n


@reach.inner
def _bin(latency_s):
    return min(bins.BINS - 1, max(0, (np.float64(latency_s).view(np.int64) >> bins.SHIFT) - bins.BASE))


@reach.inner
def _fine_bin(latency_s):
    return min(bins.FINE_BINS - 1, max(0, (np.float64(latency_s).view(np.int64) >> bins.FINE_SHIFT) - bins.FINE_BASE))


def _make_count(source: int) -> Callable[..., None]:
    """The compiler's cache asks for the values that a function closes over: here, for this file and what it imports."""

    @compiled(numba.void(_LIMITS, _COUNTED, _I8[::1], *_COLUMNS))
    def count(
        limits, counted, keys,
        at_s, latency_s, queued_s, before_s, cpu_s, wait_s, bytes_out, ending, attempts, replica, route, called_s,
        connecting_s, trip_s,
    ):  # fmt: skip
        """Add some ended requests to what was counted before. Checks nothing: `outcome.counts` makes room.

        limits: `Limits`. counted: `Counted`, in which the counts are. keys: (n,), overwritten with window * BINS + bin
        of ok ones, else -1; or empty. The rest: `Columns`.
        """
        _ = source
        settle_s, into_hour_s, window_s, alone, overhead_s, telling_s, limits_s = limits
        (
            endings, tries, sums, sent, minutes, hours, hourly_endings, hourly_within, histogram, fine,
            windows, window_tries, hourly, failed, served, extremes,
        ) = counted  # fmt: skip
        minute = hour = window = np.int64(-1)
        for i in range(len(at_s)):
            at = at_s[i]
            end = ending[i]
            is_ok = end == _OK
            # Neighbours are mostly of one minute, and to divide takes longer than to look.
            if not minute * 60.0 <= at < (minute + 1) * 60.0:
                minute = _whole(at, 60.0)
            if not hour * 3600.0 <= at + into_hour_s < (hour + 1) * 3600.0:
                hour = _whole(at + into_hour_s, 3600.0)
            if not window * window_s <= at < (window + 1) * window_s:
                window = min(_whole(at, window_s), np.int64(len(windows) - 1))
            size = bytes_out[i] if len(bytes_out) and (is_ok or end == _ERRORED) else 0.0
            windows[window, end] += 1
            window_tries[window] += attempts[i]
            r = route[i] if len(route) else 0
            hourly[hour, r, bins.TRIES] += attempts[i]
            hourly[hour, r, bins.SENT] += size
            way_s = overhead_s + (trip_s[i] if len(trip_s) else 0.0)
            if is_ok or end == _ERRORED:
                hourly[hour, r, bins.WORK] += cpu_s[i]
                hourly[hour, r, bins.HELD] += max(0.0, latency_s[i] - way_s - before_s[i] - queued_s[i])
            bin_at = 0
            if is_ok:
                served[replica[i]] += 1
                bin_at = _bin(latency_s[i])
            else:
                failed[minute] += 1
                extremes[0] = min(extremes[0], at)
                extremes[1] = max(extremes[1], at)
            if len(keys):
                keys[i] = window * bins.BINS + bin_at if is_ok else -1
            if at < settle_s:
                continue
            endings[r, end] += 1
            hourly_endings[hour, r, end] += 1
            tries[r] += attempts[i]
            sent[r] += size
            minutes[minute, r, 0] += 1
            hours[hour, 0] += 1
            if not is_ok:
                minutes[minute, r, 1] += 1
                continue
            latency = latency_s[i]
            hours[hour, 1] += 1
            hourly[hour, r, bins.SUM] += latency
            hours[hour, 2] += latency <= telling_s + EPSILON_S
            for k in range(len(limits_s) - 1, -1, -1):
                if latency > limits_s[k] + EPSILON_S:
                    break
                minutes[minute, r, 2 + k] += 1
                hourly_within[hour, r, k] += 1
            cpu = cpu_s[i] / alone
            sums[r, bins.LATENCY] += latency
            sums[r, bins.MOST] = max(sums[r, bins.MOST], latency)
            sums[r, bins.RETRIED] += before_s[i]
            sums[r, bins.QUEUED] += queued_s[i]
            sums[r, bins.CPU] += cpu
            called = called_s[i] if len(called_s) else 0.0
            slowed_s = latency - way_s - before_s[i] - queued_s[i] - cpu - wait_s[i] - called
            sums[r, bins.SLOWED] += max(0.0, slowed_s)
            if len(called_s):
                sums[r, bins.CONNECTING] += connecting_s[i]
                sums[r, bins.CALLED] += called - connecting_s[i]
            sums[r, bins.WAITING] += wait_s[i]
            sums[r, bins.OVERHEAD] += way_s
            if histogram.shape[1]:
                histogram[r, bin_at] += 1
            if len(fine):
                fine[_fine_bin(latency)] += 1

    return count


def _make_collect(source: int) -> Callable[..., int]:
    @compiled(_I8(_column(_F8), _column(numba.uint8), numba.uint8[::1], _F8[::1]))
    def collect(latency_s, ending, wanted, found):
        """Write the latencies of ok requests that are in a wanted bin to `found`; returns how many.

        latency_s, ending: (n,). wanted: (bins.FINE_BINS,), 1 or 0. found: long enough.
        """
        _ = source
        n = 0
        for i in range(len(latency_s)):
            if ending[i] == _OK and wanted[_fine_bin(latency_s[i])]:
                found[n] = latency_s[i]
                n += 1
        return n

    return collect


def _make_sort(source: int) -> Callable[..., None]:
    @compiled(numba.void(_column(_F8), _column(numba.uint8), _column(numba.int32), _I8[::1], _F8[::1]))
    def sort_by_route(latency_s, ending, route, next_place, found):
        """Write the latencies of ok requests to `found`, those of each route together, in their order.

        latency_s, ending, route: (n,). next_place: (routes,), where those of each route begin; overwritten with where
        they end. found: (ok requests,).
        """
        _ = source
        for i in range(len(latency_s)):
            if ending[i] == _OK:
                found[next_place[route[i]]] = latency_s[i]
                next_place[route[i]] += 1

    return sort_by_route


def _make_arrived(source: int) -> Callable[..., None]:
    @compiled(numba.void(_column(_F8), _F8, _I8[::1]))
    def count_arrivals(at_s, window_s, arrivals):
        """Add arrivals, at_s (n,), to those of each window: arrivals (windows,), which reaches to the last of them."""
        _ = source
        window = np.int64(-1)
        for i in range(len(at_s)):
            at = at_s[i]
            if not window * window_s <= at < (window + 1) * window_s:
                window = _whole(at, window_s)
            arrivals[window] += 1

    return count_arrivals


def _make_sum_up(source: int) -> Callable[..., int]:
    @compiled(_I8(_I8[::1], _I8[:, ::1], _I8[:, ::1]))
    def sum_up(keys, before, found):
        """Each key once, ascending, with the sum of its counts: written to `found`; returns how many.

        keys: (n,), ascending, each counts 1; those below 0 are left out. before: (2, k), ascending keys and their
        counts. found: (2, n + k).
        """
        _ = source
        n, i, j = np.int64(-1), np.int64(0), np.int64(0)
        while i < len(keys) and keys[i] < 0:
            i += 1
        while i < len(keys) or j < before.shape[1]:
            if j == before.shape[1] or (i < len(keys) and keys[i] <= before[0, j]):
                key, count = keys[i], np.int64(1)
                i += 1
            else:
                key, count = before[0, j], before[1, j]
                j += 1
            if n < 0 or found[0, n] != key:
                n += 1
                found[0, n], found[1, n] = key, 0
            found[1, n] += count
        return n + 1

    return sum_up


count_arrivals: Final = _make_arrived(_SOURCE)
sum_up: Final = _make_sum_up(_SOURCE)
sort_by_route: Final = _make_sort(_SOURCE)
count: Final = _make_count(_SOURCE)
collect: Final = _make_collect(_SOURCE)
