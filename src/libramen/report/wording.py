"""Sentences as templates: what stands in braces is a figure, and how it is said."""

from __future__ import annotations

from collections.abc import Mapping
from string import Formatter
from typing import Any

from libramen.base import units
from libramen.report.prose import Timed, clock, times


class _Wording(Formatter):
    """`{first_s:clock}`, `{seconds:duration}`, `{cpu:share 0}`, `{failed:times request}`, or what Python knows."""

    def __init__(self, of: Timed | None) -> None:
        self._of = of

    def format_field(self, value: Any, format_spec: str) -> str:
        how, _, more = format_spec.partition(" ")
        if how == "clock":
            assert self._of is not None
            return clock(self._of, value)
        if how == "duration":
            return units.show_duration(value)
        if how == "share":
            return units.show_share(value, *map(int, more.split()))
        if how == "times":
            return times(value or 0, more)
        return str(super().format_field(value, format_spec))


def say(template: str, figures: Mapping[str, Any], of: Timed | None = None) -> str:
    """A template with its figures.

    Args:
        template: the sentence; the words of a figure are `clock`, `duration`, `share` (with how many decimals) and
            `times` (with of what).
        figures: by name.
        of: the replay whose instants are said.

    Example:
        >>> say("{seconds:duration} long, {failed:times request} failed", {"seconds": 90.0, "failed": 1})
        '1 min 30 s long, 1 request failed'
    """
    return _Wording(of).vformat(template, (), figures)
