"""The picture of a search: money and p95 over what was varied, and the plans that nobody beats."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

import numpy as np
from matplotlib.colors import LinearSegmentedColormap
from matplotlib.lines import Line2D
from matplotlib.patches import Patch, Rectangle
from matplotlib.ticker import FuncFormatter, LogLocator, NullFormatter

from libramen.base import units
from libramen.draw.style import BUOY, DUSK, FOAM, INK, KELP, SAND, SEA, dress, duration_ticks, new_figure, plain
from libramen.outcome.figures import Figures
from libramen.questions.vary import short_key
from libramen.report.comparison import months_said

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from libramen.questions.search import Search

_MANY: Final = 90
"""So many cells of a map can still have their price written in."""
_MOST_TICKS: Final = 24


def draw_search(found: Search) -> Figure:
    """On the left what was varied: a line over one key, a map over two; on the right money against p95.

    Of more than two keys there is only money against p95. What was not replayed to the end is not drawn, or grey.
    """
    counts, best = found.counts, found.cheapest
    load = "" if found.scale == 1 else f" at {found.scale:g} times the load"
    if best is None:
        title = f"No combination meets every objective{load}; {found.label(found.nearest)} comes nearest"
    else:
        cost = units.about_money(best.bill.month, best.bill.currency)
        title = f"{found.label(best)} is the cheapest that meets every objective{load}: {cost} a month"
    figure = new_figure(
        title,
        f"{counts.combinations:,} combinations, {len(found.figures):,} known to the end; "
        "filled: all objectives met, open: not; dashed: objectives; the line joins what nobody beats in money and p95",
        [*months_said(("them", figures.bill.note) for figures in found.figures)] if found.figures else [],
    )
    keys = [key for key, values in found.values.items() if len(values) > 1]
    if len(keys) == 1:
        grid = figure.add_gridspec(2, 2)
        upper = figure.add_subplot(grid[0, 0])
        _lines(upper, figure.add_subplot(grid[1, 0], sharex=upper), found, keys[0])
        right = figure.add_subplot(grid[:, 1])
    elif len(keys) == 2:
        left, right = figure.subplots(1, 2, width_ratios=(1.25, 1))
        across, up = sorted(keys, key=lambda key: len(found.values[key]))  # cells that are rather wide than high
        _map(left, found, across, up)
    else:
        right = figure.subplots()
    _front(right, found, is_labelled=len(keys) not in {1, 2})
    return figure


def _p95(figures: Figures) -> float:
    p95 = figures.month.answered_s["p95"]
    return np.nan if p95 is None else p95


def _wanted(found: Search, name: str) -> float | None:
    for goal in found.figures[0].objectives:
        if goal.name == name:
            return float(goal.wanted)
    return None


def _lines(upper: Axes, lower: Axes, found: Search, key: str) -> None:
    """Money above, p95 below, over the values of one key."""
    values = found.values[key]
    is_number = all(isinstance(value, int | float) and not isinstance(value, bool) for value in values)
    figures = list(found.figures)
    at = [found.varied[one.plan][key] if is_number else values.index(found.varied[one.plan][key]) for one in figures]
    order = np.argsort(at)
    at, figures = [at[k] for k in order], [figures[k] for k in order]
    panels = ((upper, [float(one.bill.month) for one in figures], "month"), (lower, list(map(_p95, figures)), "p95"))
    for axes, heights, goal in panels:
        axes.plot(at, heights, color=SEA, linewidth=1.2, zorder=2)
        for x, y, one in zip(at, heights, figures, strict=True):
            _mark(axes, x, y, one, found, is_labelled=False)
        limit = _wanted(found, goal)
        if limit is not None:
            axes.axhline(limit, color=BUOY, linewidth=1, linestyle="--")
    dress(upper, y_label=f"{figures[0].bill.currency} a month")
    dress(lower, y_label="p95 of all requests")
    lower.set_yscale("log")
    lower.yaxis.set_major_locator(LogLocator(base=10, subs=(1, 2, 4, 7)))
    lower.yaxis.set_major_formatter(duration_ticks())
    lower.yaxis.set_minor_formatter(NullFormatter())
    lower.set_xlabel(short_key(key), color=INK)
    for axes in (upper, lower):
        if not is_number:
            axes.set_xticks(range(len(values)), [plain(str(value)) for value in values])
        elif len(set(at)) <= _MOST_TICKS:
            axes.set_xticks(sorted(set(at)))


def _map(axes: Axes, found: Search, across: str, up: str) -> None:
    """What each of two keys' combinations costs a month; grey: not replayed to the end."""
    columns, rows = found.values[across], found.values[up]
    month = np.full((len(rows), len(columns)), np.nan)
    met = np.zeros(month.shape, bool)
    for one in found.figures:
        varied = found.varied[one.plan]
        place = rows.index(varied[up]), columns.index(varied[across])
        month[place], met[place] = float(one.bill.month), one.meets_all
        if one is found.cheapest:
            axes.add_patch(
                Rectangle((place[1] - 0.5, place[0] - 0.5), 1, 1, fill=False, edgecolor=INK, linewidth=2.6, zorder=4)
            )
    axes.set_facecolor("#e8eaec")
    colours = LinearSegmentedColormap.from_list("money", ["#ffffff", FOAM, SEA])
    axes.pcolormesh(np.arange(len(columns)), np.arange(len(rows)), month, cmap=colours, shading="nearest", zorder=1)
    lowest, highest = np.nanmin(month), np.nanmax(month)
    for row, column in zip(*np.nonzero(~np.isnan(month)), strict=True):
        if not met[row, column]:
            axes.plot([column - 0.38], [row], marker="x", markersize=6, markeredgewidth=1.6, color=BUOY, zorder=3)
        if month.size <= _MANY:
            is_dark = month[row, column] > lowest + 0.75 * (highest - lowest) and highest > lowest
            axes.text(
                column, row, f"{month[row, column]:,.0f}", ha="center", va="center", fontsize=8.5,
                color="white" if is_dark else INK, zorder=3,
            )  # fmt: skip
    axes.set_xticks(*_ticks(columns))
    axes.set_yticks(*_ticks(rows))
    axes.set_xlabel(short_key(across), color=INK)
    axes.set_ylabel(short_key(up), color=INK)
    axes.tick_params(colors=INK, labelsize=9)
    axes.set_title(f"{found.figures[0].bill.currency} a month", color=INK, fontsize=10, loc="left")
    axes.legend(
        handles=[
            Patch(facecolor="white", edgecolor=INK, linewidth=2, label="cheapest that meets all"),
            Line2D([], [], marker="x", color=BUOY, linestyle="none", label="misses an objective"),
            Patch(facecolor="#e8eaec", label="cannot win: not replayed to the end"),
        ],
        loc="upper center", bbox_to_anchor=(0.5, -0.09), ncols=3, frameon=False, fontsize=8.5,
    )  # fmt: skip


def _ticks(values: list[Any]) -> tuple[list[int], list[str]]:
    step = -(-len(values) // _MOST_TICKS)
    places = list(range(0, len(values), step))
    return places, [plain(str(values[place])) for place in places]


def _front(axes: Axes, found: Search, *, is_labelled: bool) -> None:
    """Money against p95, with those that nobody beats joined."""
    figures = found.figures
    best = sorted(((float(one.bill.month), _p95(one)) for one in figures if not np.isnan(_p95(one))), key=lambda p: p)
    front: list[tuple[float, float]] = []
    for month, p95 in best:
        if not front or p95 < front[-1][1]:
            front.append((month, p95))
    if front:
        axes.step(*zip(*front, strict=True), where="post", color=KELP, linewidth=1.6, alpha=0.8, zorder=1)
    for one in figures:
        if not np.isnan(_p95(one)):
            _mark(axes, float(one.bill.month), _p95(one), one, found, is_labelled=is_labelled)
    for goal, draw in (("p95", axes.axhline), ("month", axes.axvline)):
        limit = _wanted(found, goal)
        if limit is not None:
            draw(limit, color=BUOY, linewidth=1, linestyle="--")
    dress(axes, y_label="p95 of all requests")
    axes.set_yscale("log")
    axes.yaxis.set_major_locator(LogLocator(base=10, subs=(1, 1.5, 2, 3, 4, 5, 7)))
    axes.yaxis.set_major_formatter(duration_ticks())
    axes.yaxis.set_minor_formatter(NullFormatter())
    axes.xaxis.set_major_formatter(FuncFormatter(lambda value, _position: f"{value:,.0f}"))
    axes.set_xlabel(f"{figures[0].bill.currency} a month", color=INK)
    without = sum(bool(np.isnan(_p95(one))) for one in figures)
    if without:
        axes.set_title(f"{without:,} more failed over 5 % and have no p95", color=INK, fontsize=9, loc="right")


def _mark(axes: Axes, x: float, y: float, one: Figures, found: Search, *, is_labelled: bool) -> None:
    """Filled: it meets all; the cheapest is a star."""
    if one is found.cheapest:
        axes.plot([x], [y], marker="*", markersize=17, color=SAND, markeredgecolor=INK, zorder=5)
        if is_labelled:
            axes.annotate(
                plain(found.label(one)), (x, y), xytext=(-6, -24), textcoords="offset points", fontsize=9, color=INK,
                zorder=6,
            )  # fmt: skip
    else:
        face = SEA if one.meets_all else "white"
        edge = SEA if one.meets_all else DUSK
        axes.plot([x], [y], marker="o", markersize=6, color=face, markeredgecolor=edge, zorder=3)
