"""Times and counts of a replay as a person would say them."""

from __future__ import annotations

from datetime import datetime
from typing import Protocol

from libramen.base import units
from libramen.base.times import local_time


class Timed(Protocol):
    """A replay, its figures, or anything else that knows when it was."""

    @property
    def start(self) -> datetime | None:
        """The instant 0, None: not known."""

    @property
    def span_s(self) -> float:
        """What it covers [s]."""


def clock(outcome: Timed, at_s: float, *, seconds: bool = True) -> str:
    """A time of the trace: local where it is known, else from the start."""
    local = local_time(outcome.start, at_s)
    if local is None:
        return f"{units.show_duration(at_s)} after the start"
    time = f"{local:%H:%M:%S}" if seconds else f"{local:%H:%M}"
    return time if outcome.span_s <= 86400 else f"{local:%a %d %b} {time}"


def whose(label: str | None) -> str:
    """`web: `, whose something is; nothing where there is no other service."""
    return f"{label}: " if label else ""


def times(n: int, what: str) -> str:
    """`1 time`, `212 requests`."""
    return f"{n:,} {what}{'' if n == 1 else 's'}"


def and_list(words: list[str]) -> str:
    """`a, b and c`."""
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}"
