"""Two hours around noon at two quays that lie a night's crossing apart, made from a fixed seed."""

from __future__ import annotations

from datetime import datetime
from typing import Final
from zoneinfo import ZoneInfo

import numpy as np

from libramen.base.streams import stream
from libramen.demo.make import SEED
from libramen.trace.trace import Trace

_SPAN_S: Final = 7200.0
_START: Final = datetime(2031, 6, 12, 11, 0, tzinfo=ZoneInfo("Europe/Lisbon"))
_ROUTES: Final = ("/timetable", "/cabins", "/bookings")
_SHARES: Final = (0.75, 0.21, 0.04)
_CPU_S: Final = (0.022, 0.05, 0.06)
_WAIT_S: Final = (0.012, 0.02, 0.03)
_BYTES: Final = (85_000, 140_000, 30_000)
_NORTH_RATE: Final = 7.0  # requests a second
_SOUTH_RATE: Final = 4.0
_NOON_RATE: Final = 9.0  # more at noon, when both boats are called


def make_noon() -> Trace:
    """The requests of the two hours, with the work of each and where it comes from."""
    rng = stream(SEED, "demo", 500)
    second = np.arange(_SPAN_S) + 0.5
    noon = np.exp(-0.5 * ((second - 3600.0) / 900.0) ** 2)
    at_s, area = [], []
    for name, rate in (("north_shore", _NORTH_RATE), ("south_isles", _SOUTH_RATE)):
        arrivals = rng.poisson(rate + _NOON_RATE * noon * rate / (_NORTH_RATE + _SOUTH_RATE))
        at_s.append(np.repeat(np.arange(_SPAN_S), arrivals) + rng.random(arrivals.sum()))
        area.append(np.full(len(at_s[-1]), name))
    order = np.argsort(np.concatenate(at_s))
    n = len(order)
    code = rng.choice(len(_ROUTES), n, p=_SHARES)
    return Trace.from_arrays(
        at_s=np.concatenate(at_s)[order],
        cpu_s=np.array(_CPU_S)[code] * rng.lognormal(0.0, 0.4, n),
        wait_s=np.array(_WAIT_S)[code] * rng.lognormal(0.0, 0.4, n),
        route=np.array(_ROUTES)[code],
        bytes_out=np.round(np.array(_BYTES)[code] * rng.lognormal(0.0, 0.2, n)),
        area=np.concatenate(area)[order],
        span_s=_SPAN_S,
        start=_START,
    )
