"""The look of all figures: palette, one colour and one marker per tier, axes, saving."""

from __future__ import annotations

import io
import re
import textwrap
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime, timedelta, tzinfo
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final

import matplotlib as mpl
import numpy as np
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.dates import AutoDateLocator, ConciseDateFormatter, date2num
from matplotlib.figure import Figure
from matplotlib.ticker import FuncFormatter

from libramen.base import units
from libramen.base.errors import printable
from libramen.base.files import write_whole

if TYPE_CHECKING:
    from matplotlib.axes import Axes

INK, SEA, FOAM, BUOY = "#22313f", "#1f7a8c", "#bfdbe2", "#e4572e"
SAND, KELP, DUSK = "#e9c46a", "#5b8c5a", "#7d5ba6"
# Failures are always BUOY, so no tier is. The markers tell tiers apart without colour.
_TIER_LOOKS: Final = ((SEA, "o"), (SAND, "s"), (DUSK, "^"), (KELP, "D"), (INK, "P"), (FOAM, "v"))
_LONG: Final = re.compile(r"\S{41,}")
SIZE_IN: Final = (12.8, 8.0)
DPI: Final = 100


def plain(text: str) -> str:
    """Text that may come from anybody, to be drawn as it stands: without formulas and control characters.

    The middle of words that no figure has room for is left out.
    """
    short = _LONG.sub(lambda word: f"{word[0][:20]}\N{HORIZONTAL ELLIPSIS}{word[0][-8:]}", printable(text))
    return short.replace("$", r"\$")


class _Figure(Figure):
    """A figure that a notebook shows, whatever is set there."""

    def _repr_png_(self) -> bytes:
        written = io.BytesIO()
        self.savefig(written, format="png", dpi=DPI)
        return written.getvalue()


def new_figure(title: str, subtitle: str, notes: Sequence[str] = ()) -> Figure:
    """An empty figure of 1280 x 800 pixels with a title, a line of explanation, and notes at its foot."""
    figure = _Figure(figsize=SIZE_IN, dpi=DPI, facecolor="white", layout="constrained")
    FigureCanvasAgg(figure)
    lines = [line for note in notes for line in textwrap.wrap(plain(note), 190, subsequent_indent="   ")]
    foot = 0.01 + 0.021 * len(lines)
    figure.get_layout_engine().set(rect=(0.005, foot, 0.99, 0.92 - foot))  # type: ignore[union-attr, call-arg]
    for number, line in enumerate(reversed(lines)):
        figure.text(0.012, 0.009 + 0.021 * number, line, fontsize=9, color=INK, va="bottom")
    figure.text(0.012, 0.975, plain(title), fontsize=15, fontweight="bold", color=INK, va="top")
    figure.text(0.012, 0.937, plain(subtitle), fontsize=10.5, color=INK, va="top")
    return figure


def tier_looks(names: Iterable[str]) -> dict[str, tuple[str, str]]:
    """A colour and a marker for each tier, by the order in which they first appear."""
    distinct = list(dict.fromkeys(names))
    return {name: _TIER_LOOKS[i % len(_TIER_LOOKS)] for i, name in enumerate(distinct)}


def times_of(start: datetime | None, at_s: np.ndarray) -> Any:
    """Positions on the time axis: dates where the start is known, else hours."""
    if start is None:
        return at_s / 3600
    utc = start.astimezone(UTC)
    return np.array([date2num(utc + timedelta(seconds=float(s))) for s in np.atleast_1d(at_s)])  # type: ignore[no-untyped-call]


_DAYS: Final = {
    "formats": ["%Y", "%b %Y", "%a %d %b", "%H:%M", "%H:%M", "%H:%M:%S"],
    "zero_formats": ["", "%Y", "%a %d %b", "%a %d %b", "%H:%M", "%H:%M:%S"],
}
"""How ticks of a time axis are written: days have their names."""


def date_axis(axes: Axes, zone: tzinfo | None, most: int = 14) -> None:
    """Ticks of local time along a panel, so many at most."""
    locator = AutoDateLocator(tz=zone, maxticks=most, minticks=4)  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_locator(locator)
    formatter = ConciseDateFormatter(locator, tz=zone, show_offset=False, **_DAYS)  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_formatter(formatter)


def dress(axes: Axes, *, y_label: str) -> None:
    """Quiet axes with a light grid."""
    axes.set_ylabel(y_label, color=INK, fontsize=10)
    axes.grid(visible=True, color=FOAM, linewidth=0.6, alpha=0.7)
    axes.set_axisbelow(True)
    axes.tick_params(colors=INK, labelsize=9)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    for side in ("left", "bottom"):
        axes.spines[side].set_color(INK)


def duration_ticks() -> FuncFormatter:
    """Axis labels such as `250 ms`."""
    return FuncFormatter(lambda seconds, _: units.show_duration(seconds))


def svg_of(figure: Figure) -> bytes:
    """A figure as SVG, its texts as text."""
    written = io.BytesIO()
    with mpl.rc_context({"svg.hashsalt": "libramen", "svg.fonttype": "none", "font.family": "sans-serif"}):
        figure.savefig(written, format="svg", metadata={"Date": None})
    return written.getvalue()


def save(figure: Figure, path: Path) -> None:
    """Write a figure as .png or .svg, whole or not at all.

    Raises:
        OutputError: it cannot be written.
    """
    options: dict[str, Any] = {"dpi": DPI}
    if path.suffix.lower() == ".svg":
        options["metadata"] = {"Date": None}  # the same figure gives the same bytes
    with mpl.rc_context({"svg.hashsalt": "libramen"}):
        write_whole(path, lambda temporary: figure.savefig(temporary, **options))
