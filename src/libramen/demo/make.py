"""Two days of Saltmarsh Ferries, made from a fixed seed: who comes when, and what it costs to answer."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Final

import numpy as np

from libramen.base.streams import stream
from libramen.trace.trace import Trace

if TYPE_CHECKING:
    from collections.abc import Callable

DAY: Final = "2031-06-05T00:00:00"
ORDINARY_DAY: Final = "2031-06-04T00:00:00"
ZONE: Final = "Europe/Lisbon"
SEED: Final = 20310605
ON_SALE_S: Final = 18 * 3600.0
_BIN_S: Final = 10.0
_OF_THE_ORDINARY: Final = 400
"""Numbers of the streams of the ordinary day are so much higher."""


def _bump(hour: np.ndarray, at: float, width: float) -> np.ndarray:
    """A bell curve of height 1 over the hours of a day."""
    height: np.ndarray = np.exp(-0.5 * ((hour - at) / width) ** 2)
    return height


def _daytime(hour: np.ndarray) -> np.ndarray:
    """Near 0 in the night, 1 from morning to evening."""
    share: np.ndarray = 0.04 + 0.96 / (1 + np.exp(-(hour - 6.2) / 0.35)) / (1 + np.exp((hour - 22.0) / 0.5))
    return share


def _timetable(hour: np.ndarray) -> np.ndarray:
    return 1.9 * _daytime(hour) + 5.2 * _bump(hour, 7.6, 0.75) + 1.1 * _bump(hour, 17.3, 1.1)


def _fares(hour: np.ndarray) -> np.ndarray:
    return 0.6 * _daytime(hour) + 0.5 * _bump(hour, 12.8, 1.5) + 0.9 * _bump(hour, 20.3, 1.4)


def _bookings(hour: np.ndarray) -> np.ndarray:
    return 0.22 * _daytime(hour) + 0.35 * _bump(hour, 20.6, 1.3)


def _scans(hour: np.ndarray) -> np.ndarray:
    """Boats leave every half hour from 6:30 to 21:00; passengers board in the ten minutes before."""
    to_departure = (np.ceil(hour * 2) - hour * 2) / 2 * 60
    boarding = (hour > 6.2) & (hour < 21.0) & (to_departure < 10)
    return np.where(boarding, 1.2 + 5.5 * _bump(hour, 7.6, 0.9) + 1.8 * _bump(hour, 17.5, 1.2), 0.01)


def _festival(hour: np.ndarray) -> np.ndarray:
    """A few curious all day; from 17:50 on everybody gathers, and at 18:00 the tickets go on sale."""
    minutes = (hour - ON_SALE_S / 3600) * 60
    gathering = 52 * np.clip((minutes + 10) / 12, 0, 1)
    fading = np.exp(-np.maximum(minutes - 2, 0) / 17)
    return 0.12 * _daytime(hour) + 0.02 + gathering * fading


def _curious(hour: np.ndarray) -> np.ndarray:
    """On any other day there is little to see there."""
    return 0.08 * _daytime(hour) + 0.01


@dataclass(frozen=True)
class _Route:
    path: str
    per_second: Callable[[np.ndarray], np.ndarray]  # arrivals at each hour of the day
    median_s: float  # work of a request, log-normal
    spread: float  # standard deviation of the logarithm of the work
    bytes_out: int


_ROUTES: Final = (
    _Route("/timetable", _timetable, 0.055, 0.45, 18_400),
    _Route("/fares", _fares, 0.140, 0.50, 9_200),
    _Route("/bookings", _bookings, 0.240, 0.55, 6_100),
    _Route("/tickets/scan", _scans, 0.035, 0.35, 640),
    _Route("/festival/tickets", _festival, 0.210, 0.45, 24_300),
)


def make_day(*, is_ordinary: bool = False) -> Trace:
    """The requests of a day with their true work, 40 % of it CPU work on a reference core.

    Arrivals are a Poisson process whose rate changes every 10 s; work is log-normal per route.

    Args:
        is_ordinary: the Wednesday before, not the Thursday on which festival tickets go on sale.
    """
    starts_s = np.arange(0, 86400, _BIN_S)
    at_s, work_s, route, bytes_out = [], [], [], []
    for number, kind in enumerate(_ROUTES):
        rng = stream(SEED, "demo", number + (_OF_THE_ORDINARY if is_ordinary else 0))
        per_second = _curious if is_ordinary and kind.per_second is _festival else kind.per_second
        count = rng.poisson(per_second((starts_s + _BIN_S / 2) / 3600) * _BIN_S)
        n = int(count.sum())
        at_s.append(np.repeat(starts_s, count) + rng.uniform(0, _BIN_S, n))
        work_s.append(kind.median_s * rng.lognormal(0.0, kind.spread, n))
        route.append(np.full(n, number))
        bytes_out.append(np.round(kind.bytes_out * rng.lognormal(0.0, 0.2, n)))
    order = np.argsort(np.concatenate(at_s), kind="stable")
    work = np.concatenate(work_s)[order]
    return Trace.from_arrays(
        at_s=np.concatenate(at_s)[order],
        cpu_s=0.4 * work,
        wait_s=0.6 * work,
        route=np.array([kind.path for kind in _ROUTES])[np.concatenate(route)[order]],
        bytes_out=np.concatenate(bytes_out)[order],
        span_s=86400.0,
        start=ORDINARY_DAY if is_ordinary else DAY,
        time_zone=ZONE,
    )
