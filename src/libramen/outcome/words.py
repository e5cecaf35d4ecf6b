"""Times and counts of a replay as a person would say them."""

from __future__ import annotations

from typing import TYPE_CHECKING

from libramen import units
from libramen.trace.trace import local_time

if TYPE_CHECKING:
    from libramen.outcome.outcome import Outcome


def clock(outcome: Outcome, at_s: float) -> str:
    """A time of the trace: local where it is known, else from the start."""
    local = local_time(outcome.start, at_s)
    if local is None:
        return f"{units.show_duration(at_s)} after the start"
    return f"{local:%H:%M:%S}" if outcome.run.span_s <= 86400 else f"{local:%a %d %b %H:%M:%S}"


def times(n: int, what: str) -> str:
    """`1 time`, `212 requests`."""
    return f"{n:,} {what}{'' if n == 1 else 's'}"
