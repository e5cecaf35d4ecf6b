"""An hour around noon, made from a fixed seed: the morning boats land, and everybody looks for the way back."""

from __future__ import annotations

from datetime import datetime
from typing import Final
from zoneinfo import ZoneInfo

import numpy as np

from libramen.base.streams import stream
from libramen.demo.make import SEED
from libramen.trace.trace import Trace

_SPAN_S: Final = 3600.0
_START: Final = datetime(2031, 6, 5, 11, 30, tzinfo=ZoneInfo("Europe/Lisbon"))
_QUIET_RATE: Final = 14.0  # requests a second
_PEAK_RATE: Final = 26.0  # more, at the peak
_PEAK_S: Final = 32 * 60.0
_ROUTES: Final = ("/timetable", "/fares", "/tickets")
_SHARES: Final = (0.62, 0.26, 0.12)
_CPU_S: Final = (0.045, 0.09, 0.14)
_WAIT_S: Final = (0.03, 0.06, 0.12)


def make_landing() -> Trace:
    """The requests of the hour, with the work of each."""
    rng = stream(SEED, "demo", 300)
    second = np.arange(_SPAN_S) + 0.5
    rate = _QUIET_RATE + _PEAK_RATE * np.exp(-0.5 * ((second - _PEAK_S) / 420.0) ** 2)
    arrivals = rng.poisson(rate)
    at_s = np.sort(np.repeat(np.arange(_SPAN_S), arrivals) + rng.random(arrivals.sum()))
    code = rng.choice(len(_ROUTES), len(at_s), p=_SHARES)
    cpu_s = np.array(_CPU_S)[code] * rng.lognormal(0.0, 0.5, len(at_s))
    wait_s = np.array(_WAIT_S)[code] * rng.lognormal(0.0, 0.7, len(at_s))
    return Trace.from_arrays(
        at_s=at_s, cpu_s=cpu_s, wait_s=wait_s, route=np.array(_ROUTES)[code], span_s=_SPAN_S, start=_START
    )
