"""How much memory there is, and how much a replay takes."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Final

import numpy as np

from libramen.engine.border.records import RESULT
from libramen.trace.trace import Trace

_LIMITS: Final = ("/sys/fs/cgroup/memory.max", "/sys/fs/cgroup/memory/memory.limit_in_bytes")
_UNKNOWN: Final = 4 * 10**9


def machine_bytes() -> int:
    """Memory that this process may use: the machine's, or what its container is given [bytes]."""
    try:
        found = os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE")
    except (AttributeError, OSError, ValueError):  # not a system that says so
        return _UNKNOWN
    for path in _LIMITS:
        try:
            told = Path(path).read_text(encoding="ascii").strip()
        except (OSError, ValueError):
            continue
        if told.isdecimal():
            found = min(found, int(told))
    return found


def usual_bytes() -> int:
    """What replays may take, where nobody says: half of the machine's memory [bytes]."""
    return machine_bytes() // 2


def bytes_of(trace: Trace, replays: int = 1) -> int:
    """What making such a trace and replaying it takes at its peak, the compiler and the code left out [bytes].

    Of two replays, with and without single events, what becomes of each request is there twice.

    A column twice, since it is put in order of time while the one it comes from is still there, and what becomes of
    each request. Measured with `benchmarks/memory.py`: 97 bytes a request with six columns.
    """
    columns = [array for array in vars(trace).values() if isinstance(array, np.ndarray)]
    return 2 * sum(array.nbytes for array in (*columns, *trace.in_s.values())) + replays * len(trace) * RESULT.itemsize
