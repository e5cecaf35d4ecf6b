"""What a figure of the page is made of: curves, axes and texts for the package that draws it there.

Colours are names, such as "sea": the page gives them their values, which are others in the dark and on paper.
"""

from __future__ import annotations

import json
from collections.abc import Iterable
from typing import Any, Final, NamedTuple

import numpy as np

from libramen.base import units
from libramen.base.errors import printable

INK, SEA, BUOY, SAND, KELP, DUSK, FOAM = "ink", "sea", "buoy", "sand", "kelp", "dusk", "foam"
_DIGITS: Final = 4
"""Of each number: more are not seen, and a page has many."""


_SHORT: Final = 5.0
"""A logarithmic axis over fewer times its least value is nearly a linear one."""


class View(NamedTuple):
    """A stretch of the horizontal axis that a button shows; `ends` None: all of it."""

    name: str
    ends: tuple[Any, Any] | None


class Live(NamedTuple):
    """A figure that zooms.

    Attributes:
        words: what it shows, in words.
        spec: `data` and `layout` as the package wants them.
        height: in CSS pixels.
        views: stretches that buttons show.
        is_half: whether two stand side by side where there is room.
    """

    words: str
    spec: dict[str, Any]
    height: int = 420
    views: tuple[View, ...] = ()
    is_half: bool = False

    def as_json(self) -> str:
        """The figure, in such a way that it can stand in a page: no text in it ends a script."""
        views = [{"name": view.name, "ends": view.ends} for view in self.views]
        text = json.dumps({**self.spec, "views": views}, allow_nan=False, separators=(",", ":"))
        return text.replace("<", "\\u003c").replace("\u2028", "\\u2028").replace("\u2029", "\\u2029")


def text(said: str, most: int = 40) -> str:
    """A text from anybody as the package shall show it: it reads `<b>` and `&amp;` as markup, which these are not."""
    shown = printable(said)
    if len(shown) > most:
        shown = f"{shown[: most - 9]}\N{HORIZONTAL ELLIPSIS}{shown[-8:]}"
    return shown.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")


def numbers(values: Iterable[float | None] | np.ndarray) -> list[float | None]:
    """Numbers with few digits; None for what is none."""
    found: list[float | None] = []
    for value in values:
        if value is None or not np.isfinite(value):
            found.append(None)
        else:
            short = float(f"{value:.{_DIGITS}g}")
            found.append(int(short) if short.is_integer() else short)
    return found


def axis(title: str = "", **more: Any) -> dict[str, Any]:
    """An axis with a quiet grid."""
    return {
        "title": {"text": title, "standoff": 8}, "gridcolor": FOAM, "linecolor": INK, "zeroline": False,
        "automargin": True, "ticks": "", **more,
    }  # fmt: skip


def seconds_axis(title: str, **more: Any) -> dict[str, Any]:
    """A logarithmic axis of durations: `300 ms`, `1 s`."""
    ticks = [step * 10.0**power for power in range(-6, 6) for step in (1, 2, 3, 5, 7)]
    texts = [units.show_duration(tick) for tick in ticks]
    return axis(title, type="log", tickmode="array", tickvals=ticks, ticktext=texts, **more)


def log_axis(title: str, values: Iterable[float], **more: Any) -> dict[str, Any]:
    """A logarithmic axis of numbers, with ticks at 1, 2 and 5; at round numbers where it is short."""
    there = [value for value in values if value > 0]
    if there and max(there) < _SHORT * min(there):
        return axis(title, type="log", tickformat=",~r", nticks=6, **more)
    ticks = [step * 10.0**power for power in range(-9, 12) for step in (1, 2, 5)]
    return axis(title, type="log", tickmode="array", tickvals=ticks, ticktext=[f"{tick:,g}" for tick in ticks], **more)


def line_at(value: Any, *, along: str, of: str = "") -> dict[str, Any]:
    """A dashed line across a panel: `along` "x" is horizontal, at a value of the vertical axis `y` and `of`."""
    dash = {"type": "line", "line": {"color": INK, "width": 1.2, "dash": "dash"}, "layer": "below"}
    if along == "x":
        return {**dash, "xref": "paper", "x0": 0, "x1": 1, "yref": f"y{of}", "y0": value, "y1": value}
    return {**dash, "yref": "paper", "y0": 0, "y1": 1, "xref": f"x{of}", "x0": value, "x1": value}
