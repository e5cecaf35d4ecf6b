"""The picture of break-even: money against load, a line a plan; dashed where it misses an objective."""

from __future__ import annotations

import itertools
from typing import TYPE_CHECKING, Any, Final

import numpy as np
from matplotlib.lines import Line2D
from matplotlib.ticker import FuncFormatter, LogLocator, NullFormatter

from libramen.draw.style import BUOY, DUSK, INK, KELP, SEA, dress, new_figure, plain
from libramen.report.break_even import sentences
from libramen.report.comparison import months_said

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from libramen.questions.break_even import BreakEven, Line

_COLOURS: Final = (SEA, DUSK, KELP, "#b8860b", INK, BUOY)
_MARKERS: Final = ("o", "s", "^", "D", "v", "P", "X", "<", ">", "h", "*", "p")
_APART_PX: Final = 17.0
"""Names at the end of lines."""
_DEEP: Final = 3000.0
"""What costs less than so small a part of the most is not drawn: it is as good as free."""
_FEW: Final = 12
"""Crossings that are told by their load."""


def draw_break_even(found: BreakEven) -> Figure:
    """One panel with logarithmic axes; names stand where the lines end, crossings are rings."""
    said = list(sentences(found))
    title = said[0] if len(found.pairs) == 1 else f"What {len(found.lines)} plans cost at each load"
    figure = new_figure(
        title.rstrip("."),
        "times the load of the trace; solid: all objectives met, dashed: not; "
        "rings: the cheaper of two plans changes; bold below: the cheapest that meets every objective",
        [*months_said((line.plan, line.made_of) for line in found.lines)],
    )
    axes = figure.subplots()
    axes.set_xscale("log")
    axes.set_yscale("log")
    for number, line in enumerate(found.lines):
        _draw_line(axes, line, number, len(found.lines))
    _dress(axes, found)
    _name_lines(axes, found)
    _rings(axes, found)
    axes.legend(
        handles=[
            Line2D([], [], color=INK, label="meets every objective"),
            Line2D([], [], color=INK, linestyle=(0, (3, 2)), alpha=0.6, label="misses one or more"),
            Line2D([], [], color=INK, linewidth=5, alpha=0.25, label="the cheapest that meets all"),
            Line2D([], [], marker="o", markersize=9, markerfacecolor="none", color=BUOY, linestyle="none",
                   label="the cheaper of two changes"),
        ],
        loc="upper left", frameon=False, fontsize=9,
    )  # fmt: skip
    return figure


def _look(number: int) -> tuple[str, str]:
    return _COLOURS[number % len(_COLOURS)], _MARKERS[number % len(_MARKERS)]


def _draw_line(axes: Axes, line: Line, number: int, of: int) -> None:
    """Solid where every objective is met, dashed elsewhere, with the marker of the plan now and then."""
    colour, marker = _look(number)
    points = [point for point in line.points if point.month > 0]
    for one, other in itertools.pairwise(points):
        is_met = not one.missed and not other.missed
        axes.plot(
            [one.factor, other.factor], [one.month, other.month], color=colour, linewidth=2.0 if is_met else 1.3,
            linestyle="-" if is_met else (0, (3, 2)), alpha=1.0 if is_met else 0.6, zorder=3 if is_met else 2,
        )  # fmt: skip
    every = max(1, len(points) // 6)
    some = points[(number * every) // max(1, of) :: every]
    axes.plot(
        [point.factor for point in some], [point.month for point in some],
        marker=marker, markersize=6, color=colour, linestyle="none", zorder=4,
    )  # fmt: skip


def _dress(axes: Axes, found: BreakEven) -> None:
    dress(axes, y_label=f"{found.currency} a month")
    low, high = found.loads
    axes.set_xlim(low, high)
    most = max((point.month for line in found.lines for point in line.points), default=1.0) or 1.0
    axes.set_ylim(bottom=max(axes.get_ylim()[0], most / _DEEP), top=1.6 * most)
    axes.axvline(1.0, color=INK, linewidth=0.8, linestyle=(0, (1, 2)))
    seen = found.evidence.up_to
    if seen is not None and low < seen < high:
        axes.axvspan(seen, high, color="#eef0f1", zorder=0)
        axes.annotate(
            "more than the log has seen", (seen, 0.012), xycoords=("data", "axes fraction"), xytext=(5, 0),
            textcoords="offset points", fontsize=9, color=INK,
        )  # fmt: skip
    for axis, subs in ((axes.xaxis, (1, 1.5, 2, 3, 5, 7)), (axes.yaxis, (1, 2, 5))):
        axis.set_major_locator(LogLocator(base=10, subs=subs))
        axis.set_minor_formatter(NullFormatter())
    axes.xaxis.set_major_formatter(FuncFormatter(lambda value, _position: f"{value:g}"))
    axes.yaxis.set_major_formatter(FuncFormatter(lambda value, _position: f"{value:,g}"))
    axes.set_xlabel("load", color=INK)
    month = {line.plan: {point.factor: point.month for point in line.points} for line in found.lines}
    grid = sorted(set.intersection(*({point.factor for point in line.points} for line in found.lines)))
    for stretch in found.cheapest:
        if stretch.plan is not None:
            some = [factor for factor in grid if stretch.from_factor <= factor <= stretch.to_factor]
            heights = [month[stretch.plan][factor] for factor in some]
            axes.plot(some, heights, color=INK, linewidth=9, alpha=0.18, solid_capstyle="round", zorder=1)


def _name_lines(axes: Axes, found: BreakEven) -> None:
    """The name of each plan right of the end of its line, moved apart where ends are close."""
    figure: Any = axes.get_figure(root=True)
    axes.set_position((0.06, 0.1, 0.8, 0.75))
    figure.draw_without_rendering()
    ends = [next((point for point in reversed(line.points) if point.month > 0), None) for line in found.lines]
    there = [(axes.transData.transform((end.factor, end.month))[1], n, end) for n, end in enumerate(ends) if end]
    there.sort(key=lambda entry: entry[:2])
    heights = np.array([height for height, _, _ in there])
    placed = _apart(heights)
    for (height, number, end), at in zip(there, placed, strict=True):
        colour, marker = _look(number)
        axes.annotate(
            plain(found.lines[number].plan), (end.factor, end.month), (30, (at - height) * 72 / figure.dpi),
            textcoords="offset points", va="center", fontsize=9.5, color=INK, annotation_clip=False,
            arrowprops={"arrowstyle": "-", "color": colour, "linewidth": 0.8},
        )  # fmt: skip
        axes.plot([end.factor], [end.month], marker=marker, markersize=7, color=colour, clip_on=False, zorder=5)


def _apart(heights: np.ndarray) -> np.ndarray:
    """Heights in rising order moved as little as keeps them apart: each group about its own middle [pixels]."""
    groups: list[list[int]] = []
    centre: list[float] = []
    for place, height in enumerate(heights.tolist()):
        groups.append([place])
        centre.append(height)
        while len(groups) > 1:
            half = (len(groups[-1]) + len(groups[-2])) * _APART_PX / 2
            if centre[-1] - centre[-2] >= half:
                break
            merged = groups[-2] + groups.pop()
            centre.pop()
            groups[-1], centre[-1] = merged, float(heights[merged].mean())
    found = np.array(heights)
    for group, middle in zip(groups, centre, strict=True):
        found[group] = middle + (np.arange(len(group)) - (len(group) - 1) / 2) * _APART_PX
    return found


def _rings(axes: Axes, found: BreakEven) -> None:
    """Where the cheaper one changes; few of them say at which load."""
    points = [(crossing.factor, crossing.month[1]) for crossing in found.crossings if crossing.month[1] > 0]
    for x, y in points:
        axes.plot(
            [x], [y], marker="o", markersize=10, markerfacecolor="none", markeredgecolor=BUOY, markeredgewidth=1.6,
            linestyle="none", zorder=6,
        )  # fmt: skip
        if len(points) <= _FEW:
            axes.annotate(
                f"{x:.3g}", (x, y), (8, -15), textcoords="offset points", fontsize=9.5, color=INK, zorder=7,
                bbox={"boxstyle": "round,pad=0.15", "facecolor": "white", "edgecolor": "none", "alpha": 0.85},
            )  # fmt: skip
