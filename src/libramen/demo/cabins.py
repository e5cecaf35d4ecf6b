"""An hour of cabins on the night boat, made from a fixed seed: a newsletter reaches its readers at 11:40."""

from __future__ import annotations

from typing import Final

import numpy as np

from libramen.base.streams import stream
from libramen.demo.make import SEED, ZONE
from libramen.trace.trace import Trace

HOUR: Final = "2031-06-11T11:30:00"
_SPAN_S: Final = 3600.0
_BIN_S: Final = 5.0
_NEWSLETTER_S: Final = 600.0


def _per_second(at_s: np.ndarray) -> np.ndarray:
    """Arrivals: an ordinary noon, and on top the readers of the newsletter, who come at once and lose interest."""
    minutes = (at_s - _NEWSLETTER_S) / 60
    readers = 88 * np.clip(minutes / 1.5, 0, 1) * np.exp(-np.maximum(minutes - 4, 0) / 4)
    ordinary: np.ndarray = 26 + 6 * np.sin(2 * np.pi * at_s / _SPAN_S)
    return ordinary + readers


def make_hour() -> Trace:
    """The requests of the hour and their work at the web tier: a Poisson process whose rate changes every 5 s."""
    rng = stream(SEED, "demo", 200)
    starts_s = np.arange(0.0, _SPAN_S, _BIN_S)
    count = rng.poisson(_per_second(starts_s + _BIN_S / 2) * _BIN_S)
    n = int(count.sum())
    at_s = np.sort(np.repeat(starts_s, count) + rng.uniform(0, _BIN_S, n))
    is_read = (at_s > _NEWSLETTER_S) & (at_s < _NEWSLETTER_S + 900)
    draw = rng.random(n)
    looks_up, searches = np.where(is_read, 0.2, 0.5), np.where(is_read, 0.82, 0.86)
    route = np.where(draw < looks_up, "/timetable", np.where(draw < searches, "/cabins", "/bookings"))
    return Trace.from_arrays(
        at_s=at_s,
        cpu_s=0.014 * rng.lognormal(0, 0.45, n),
        wait_s=0.006 * rng.lognormal(0, 0.4, n),
        route=route,
        span_s=_SPAN_S,
        start=HOUR,
        time_zone=ZONE,
    )
