"""The bins in which latencies are counted, and the records of what is: what `counting` and its readers agree on.

Nothing is compiled here, so that whoever only reads counts need not load the compiler.
"""

from __future__ import annotations

from typing import Final, NamedTuple

import numpy as np

LEAST_S: Final = 1e-9
"""Latencies up to this count as 0 [s]."""


def _bins_up_to(most_s: float, shift: int) -> tuple[int, int]:
    """Bins by the leading bits of a float64, which are in the order of the numbers: the bits of bin 0, how many bins.

    Bin 0 is up to `LEAST_S`, the last is all above `most_s`.
    """
    base = int(np.float64(LEAST_S).view(np.int64) >> shift)
    return base, int(np.float64(most_s).view(np.int64) >> shift) - base + 2


SHIFT: Final = 45
BASE, BINS = _bins_up_to(1e9, SHIFT)
"""Seven bits of the mantissa: a bin is at most 1 / 128 wide, and its middle at most 0.39 % from anything in it."""

FINE_SHIFT: Final = 40
FINE_BASE, FINE_BINS = _bins_up_to(1e12, FINE_SHIFT)
"""Twelve bits: to find ranks exactly, by sorting only what is in the bins in which they lie."""

N_SUMS: Final = 10
LATENCY, MOST, RETRIED, QUEUED, CPU, SLOWED, CONNECTING, CALLED, WAITING, OVERHEAD = range(N_SUMS)
"""What is summed up over ok requests; MOST is the greatest latency."""


N_HOURLY: Final = 5
TRIES, SENT, WORK, HELD, SUM = range(N_HOURLY)
"""What is summed up by hour and route: attempts, bytes, CPU work and time in slots of what was answered, of everything;
and the latencies of measured ok requests."""


class Columns(NamedTuple):
    """Requests that have ended, as columns of one length; see `plane.Ended`. Empty: not known, one route, no calls."""

    at_s: np.ndarray
    latency_s: np.ndarray
    queued_s: np.ndarray
    before_s: np.ndarray
    cpu_s: np.ndarray
    wait_s: np.ndarray
    bytes_out: np.ndarray
    ending: np.ndarray
    attempts: np.ndarray
    replica: np.ndarray
    route: np.ndarray
    called_s: np.ndarray = np.zeros(0)
    connecting_s: np.ndarray = np.zeros(0)
    trip_s: np.ndarray = np.zeros(0)


class Limits(NamedTuple):
    """What is the same for all requests that are counted. Times in seconds.

    Attributes:
        settle_s: from which arrival on they are measured.
        into_hour_s: how far into an hour of the clock the trace begins.
        window_s: width of the windows of the series.
        alone: work done in a second by a request that has a warm replica to itself.
        overhead_s: on top of each latency.
        telling_s: what is within it is counted by hour; infinity: all that is ok.
        limits_s: float64 (T,), ascending, within which they are counted by minute.
    """

    settle_s: float
    into_hour_s: float
    window_s: float
    alone: float
    overhead_s: float
    telling_s: float
    limits_s: np.ndarray


class Counted(NamedTuple):
    """What is counted of requests that have ended. All is added to.

    Attributes:
        endings, tries, sums, sent: int64 (routes, 6), int64 (routes,), float64 (routes, N_SUMS) and float64 (routes,)
            bytes, of what is measured.
        minutes: int32 (minutes, routes, 2 + T), of what is measured arrivals, failures and those within each limit.
        hours: int64 (hours, 3), of what is measured arrivals, ok, and within `telling_s`.
        hourly_endings: int64 (hours, routes, 6), of what is measured.
        hourly_within: int64 (hours, routes, T), of what is measured those within each limit.
        histogram, fine: int64 (routes, BINS) and (FINE_BINS,) of measured ok latencies, either of them perhaps empty.
        windows, window_tries: int64 (windows, 6) endings and (windows,) attempts, of everything, as all that follows.
        hourly: float64 (hours, routes, N_HOURLY).
        failed: int64 (minutes,).
        served: int64 (replicas + 1,).
        extremes: float64 (2,), first and last arrival of failed ones [s].
    """

    endings: np.ndarray
    tries: np.ndarray
    sums: np.ndarray
    sent: np.ndarray
    minutes: np.ndarray
    hours: np.ndarray
    hourly_endings: np.ndarray
    hourly_within: np.ndarray
    histogram: np.ndarray
    fine: np.ndarray
    windows: np.ndarray
    window_tries: np.ndarray
    hourly: np.ndarray
    failed: np.ndarray
    served: np.ndarray
    extremes: np.ndarray
