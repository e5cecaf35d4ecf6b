"""The picture of a search: money and p95 over what was varied, and the plans that nobody beats."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, Final, NamedTuple

import numpy as np
from matplotlib.colors import LinearSegmentedColormap
from matplotlib.lines import Line2D
from matplotlib.patches import Patch, Rectangle
from matplotlib.ticker import FuncFormatter, LogLocator, NullFormatter

from libramen.base import units
from libramen.draw.labels import place_labels
from libramen.draw.style import BUOY, DUSK, FOAM, INK, KELP, SAND, SEA, dress, duration_ticks, new_figure, plain
from libramen.outcome.figures import Figures
from libramen.questions.bounded_search import NEAR
from libramen.questions.vary import SCALE, short_key
from libramen.report.comparison import months_said
from libramen.report.search import winners

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from libramen.questions.search import Search

_MANY: Final = 90
"""So many cells of a map can still have their price written in."""
_MOST_TICKS: Final = 24
_MOST_NAMES: Final = 14
_MOST_ROWS: Final = 24
"""Combinations in a map of loads."""
_DEAR: Final = 3.0
"""So many times the cheapest has the darkest colour."""
_GREY: Final = "#e8eaec"
_STOPPED: Final = "#8a959d"
_STOPPED_SAYS: Final = "stopped: misses an objective or costs too much"


def draw_search(found: Search) -> Figure:
    """On the left what was varied: a line over one key, a map over two; on the right money against p95.

    Of more than two keys there is only money against p95. What was not replayed to the end is not drawn, or grey. Of
    several loads there is a map of combinations and loads.
    """
    if len(found.scenarios) > 1:
        return _draw_loads(found)
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
        [*months_said((found.label(figures), figures.bill.note) for figures in found.figures)],
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
    _front(right, found)
    return figure


def _draw_loads(found: Search) -> Figure:
    """A row a combination, a column a load: what it costs there, darker the more that is above the cheapest."""
    figure = new_figure(
        "The cheapest that holds at each load: " + "; ".join(winners(found)),
        f"{found.figures[0].bill.currency} a month; framed: the cheapest that meets every objective; "
        "crosses: an objective is missed; colour: how much more than the cheapest that holds at that load",
        [*dict.fromkeys(note for one in found.scenarios
                        for note in months_said((one.label(each), each.bill.note) for each in one.figures))],
    )  # fmt: skip
    axes = figure.subplots()
    labels = _rows(found)
    more = np.full((len(labels), len(found.scenarios)), np.nan)
    for column, one in enumerate(found.scenarios):
        best = one.cheapest
        least = 0.0 if best is None else float(best.bill.month)
        for stopped in one.stopped:
            if one.label_of(stopped) in labels:
                _cross_out(axes, column, labels.index(one.label_of(stopped)))
        for each in one.figures:
            if one.label(each) not in labels:
                continue
            row = labels.index(one.label(each))
            more[row, column] = float(each.bill.month) / least if least else 1.0
            axes.text(
                column, row, f"{float(each.bill.month):,.0f}", ha="center", va="center", fontsize=10, zorder=3,
                color="white" if more[row, column] > 0.8 * _DEAR else INK,
                fontweight="bold" if each is best else "normal",
            )  # fmt: skip
            if each.missed:
                axes.plot([column - 0.4], [row], marker="x", markersize=7, markeredgewidth=1.7, color=BUOY, zorder=3)
            if each is best:
                axes.add_patch(
                    Rectangle((column - 0.49, row - 0.49), 0.98, 0.98, fill=False, edgecolor=INK, linewidth=2.8,
                              zorder=4)
                )  # fmt: skip
    axes.set_facecolor(_GREY)
    axes.pcolormesh(
        np.arange(more.shape[1]), np.arange(more.shape[0]), more, shading="nearest", zorder=1, vmin=1.0, vmax=_DEAR,
        cmap=LinearSegmentedColormap.from_list("money", ["#ffffff", FOAM, SEA]), edgecolors="white", linewidth=1.5,
    )  # fmt: skip
    axes.set_xticks(range(more.shape[1]), [f"{one.scale:g}" for one in found.scenarios])
    axes.set_yticks(range(len(labels)), [plain(label) for label in labels])
    axes.set_ylim(len(labels) - 0.5, -0.5)
    axes.set_xlabel("times the load of the trace", color=INK)
    axes.tick_params(colors=INK, labelsize=9.5)
    axes.legend(
        handles=[
            Patch(facecolor="white", edgecolor=INK, linewidth=2, label="the cheapest that meets all"),
            Patch(facecolor=SEA, label=f"{_DEAR:g} times that and more"),
            Line2D([], [], marker="x", color=BUOY, linestyle="none", label="misses an objective"),
            Line2D([], [], marker="x", color=_STOPPED, linestyle="none", label=_STOPPED_SAYS),
            Patch(facecolor=_GREY, label="cannot win there, or is impossible: not replayed"),
        ],
        loc="upper center", bbox_to_anchor=(0.45, -0.07), ncols=3, frameon=False, fontsize=9,
    )  # fmt: skip
    return figure


def _cross_out(axes: Axes, x: float, y: float) -> None:
    """It was stopped."""
    axes.plot([x], [y], marker="x", markersize=7, markeredgewidth=1.4, color=_STOPPED, linestyle="none", zorder=3)


def _rows(found: Search) -> list[str]:
    """The combinations of a map of loads, in the order of the keys; of many those that win, and cheap ones."""
    values = {key: some for key, some in found.values.items() if key != SCALE}
    places = {
        one.label(each): [some.index(one.varied[each.plan][key]) for key, some in values.items()]
        for one in found.scenarios
        for each in one.figures
    }
    labels = sorted(places, key=lambda label: places[label])
    if len(labels) <= _MOST_ROWS:
        return labels
    won = [one.label(one.cheapest) for one in found.scenarios if one.cheapest is not None]
    ranked = [one.label(each) for one in found.scenarios for each in sorted(one.figures, key=lambda f: f.bill.month)]
    kept = set(list(dict.fromkeys([*won, *ranked]))[:_MOST_ROWS])
    return [label for label in labels if label in kept]


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
            _mark(axes, x, y, one, found)
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
    """What each of two keys' combinations costs a month; grey: not replayed to the end.

    Where all cost nearly the same it is their p95, or where that is nearly the same too, their availability.
    """
    columns, rows = found.values[across], found.values[up]
    told = _told(found)
    shown = np.full((len(rows), len(columns)), np.nan)
    met = np.zeros(shown.shape, bool)
    for one in found.figures:
        varied = found.varied[one.plan]
        place = rows.index(varied[up]), columns.index(varied[across])
        shown[place], met[place] = told.value(one), one.meets_all
        if one is found.cheapest:
            axes.add_patch(
                Rectangle((place[1] - 0.5, place[0] - 0.5), 1, 1, fill=False, edgecolor=INK, linewidth=2.6, zorder=4)
            )
    for combination in found.stopped:
        _cross_out(axes, columns.index(combination[across]), rows.index(combination[up]))
    axes.set_facecolor(_GREY)
    colours = LinearSegmentedColormap.from_list("money", ["#ffffff", FOAM, SEA])
    lowest, highest = np.nanmin(shown), np.nanmax(shown)
    if told.text(lowest) == told.text(highest):
        highest = lowest + 1.0  # no colour where nothing differs
    axes.pcolormesh(
        np.arange(len(columns)),
        np.arange(len(rows)),
        shown,
        vmin=lowest,
        vmax=highest,
        cmap=colours,
        shading="nearest",
        zorder=1,
    )
    for row, column in zip(*np.nonzero(~np.isnan(shown)), strict=True):
        if not met[row, column]:
            axes.plot([column - 0.38], [row], marker="x", markersize=6, markeredgewidth=1.6, color=BUOY, zorder=3)
        if shown.size <= _MANY:
            is_dark = shown[row, column] > lowest + 0.75 * (highest - lowest) and highest > lowest
            axes.text(
                column, row, told.text(shown[row, column]), ha="center", va="center", fontsize=8.5,
                color="white" if is_dark else INK, zorder=3,
            )  # fmt: skip
    axes.set_xticks(*_ticks(columns))
    axes.set_yticks(*_ticks(rows))
    axes.set_xlabel(short_key(across), color=INK)
    axes.set_ylabel(short_key(up), color=INK)
    axes.tick_params(colors=INK, labelsize=9)
    axes.set_title(told.title, color=INK, fontsize=10, loc="left")
    axes.legend(
        handles=[
            Patch(facecolor="white", edgecolor=INK, linewidth=2, label="cheapest that meets all"),
            Line2D([], [], marker="x", color=BUOY, linestyle="none", label="misses an objective"),
            Line2D([], [], marker="x", color=_STOPPED, linestyle="none", label=_STOPPED_SAYS),
            Patch(facecolor=_GREY, label="cannot win: not replayed"),
        ],
        loc="upper center", bbox_to_anchor=(0.5, -0.09), ncols=2, frameon=False, fontsize=8.5, columnspacing=1.0,
        handletextpad=0.4,
    )  # fmt: skip


class _Told(NamedTuple):
    """What the cells of a map say.

    Attributes:
        title: over the map.
        value: of a combination.
        text: of a value.
    """

    title: str
    value: Callable[[Figures], float]
    text: Callable[[float], str]


def _told(found: Search) -> _Told:
    """What tells the combinations apart: money, else p95, else availability."""
    currency = found.figures[0].bill.currency
    months = [float(one.bill.month) for one in found.figures]
    if max(months) > float(NEAR) * min(months):
        digits = 0 if min(months) >= 10 else 2
        return _Told(f"{currency} a month", lambda one: float(one.bill.month), lambda value: f"{value:,.{digits}f}")
    same = f"all cost {units.about_money(min(months), currency)} within 2 %"
    p95s = [p95 for p95 in map(_p95, found.figures) if not np.isnan(p95)]
    if p95s and max(p95s) > float(NEAR) * min(p95s):
        return _Told(f"p95 of all requests ({same})", _p95, units.show_duration)
    return _Told(
        f"available ({same}, and so is their p95)", lambda one: one.month.availability or 0.0, units.show_availability
    )


def _ticks(values: list[Any]) -> tuple[list[int], list[str]]:
    step = -(-len(values) // _MOST_TICKS)
    places = list(range(0, len(values), step))
    return places, [plain(str(values[place])) for place in places]


def _front(axes: Axes, found: Search) -> None:
    """Money against p95, with those that nobody beats joined and named; what has no p95 stands at the upper edge."""
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
            _mark(axes, float(one.bill.month), _p95(one), one, found)
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
    failed = [float(one.bill.month) for one in figures if np.isnan(_p95(one))]
    if failed:
        axes.plot(
            failed, [0.985] * len(failed), marker="x", color=BUOY, linestyle="none", markersize=7, markeredgewidth=1.6,
            transform=axes.get_xaxis_transform(), zorder=4,
        )  # fmt: skip
        axes.set_title(f"crosses: {len(failed):,} failed over 5 % and have no p95", color=INK, fontsize=9, loc="right")
    _name_points(axes, found, {point[:2] for point in front})


def _name_points(axes: Axes, found: Search, front: set[tuple[float, float]]) -> None:
    """The cheapest, what is as good as it, and what nobody beats in money and p95: as many as there is room for."""
    best, near = found.cheapest, {id(one) for one in found.near}
    named = [
        one
        for one in found.figures
        if not np.isnan(_p95(one)) and (one is best or id(one) in near or (float(one.bill.month), _p95(one)) in front)
    ]
    named.sort(key=lambda one: (one is not best, id(one) not in near, one.bill.month))
    named = named[:_MOST_NAMES]
    together: dict[tuple[str, str], list[Figures]] = {}  # points that lie on one another have one name
    for one in named:
        together.setdefault((f"{float(one.bill.month):.2g}", f"{_p95(one):.2g}"), []).append(one)
    points = [(float(some[0].bill.month), _p95(some[0])) for some in together.values()]
    names = [found.label(some[0]) + (f" and {len(some) - 1} more" if some[1:] else "") for some in together.values()]
    place_labels(axes, points, names)


def _mark(axes: Axes, x: float, y: float, one: Figures, found: Search) -> None:
    """Filled: it meets all; the cheapest is a star."""
    if one is found.cheapest:
        axes.plot([x], [y], marker="*", markersize=17, color=SAND, markeredgecolor=INK, zorder=5)
    else:
        face = SEA if one.meets_all else "white"
        edge = SEA if one.meets_all else DUSK
        axes.plot([x], [y], marker="o", markersize=6, color=face, markeredgecolor=edge, zorder=3)
