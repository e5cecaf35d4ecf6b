"""The picture of a backtest: quantile against quantile, and the time of the log with both curves."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final

import numpy as np
from matplotlib.ticker import FixedLocator, NullFormatter, NullLocator

from libramen.base import units
from libramen.base.ranks import by_group
from libramen.draw.style import BUOY, FOAM, INK, SAND, SEA, date_axis, dress, duration_ticks, new_figure, times_of
from libramen.report.prose import clock

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from libramen.trust.backtest import Backtest

_POINTS: Final = np.concatenate([np.linspace(0.02, 0.98, 49), [0.99, 0.995, 0.999]])
_MARKED: Final = ("p50", "p95", "p99")
_WINDOWS: Final = 96
_FEW: Final = 20
_LONG_S: Final = 3 * 3600.0
_STEP_S: Final = 300.0
"""Of the worst hour."""
_TICKS_S: Final = (1e-3, 3e-3, 1e-2, 3e-2, 0.1, 0.3, 1.0, 3.0, 10.0, 30.0, 100.0, 300.0, 1000.0)


def draw_backtest(found: Backtest) -> Figure:
    """Left: the percentiles of the replay over those of the log; right: both over the time of the log."""
    grade = found.grade
    off = f"off by {units.show_share(grade.in_sample)}"
    if grade.held_back is not None:
        off += f", held back by {units.show_share(grade.held_back)}"
    if grade.busiest is not None:
        off += f", in the busiest tenth by {units.show_share(grade.busiest)}"
    up_to = "" if grade.up_to is None else f", up to {units.show_rate(grade.up_to)}"
    figure = new_figure(
        f"Backtest of {found.study.name}: {grade.grade}",
        f"at loads like those of {len(found.trace):,} requests{up_to}: p50, p95 and p99 {off}",
        notes=(
            f"- {found.grade.reason}",
            "Left: on the line, the replay gives what the log has; the band is 10 % to either side.",
            "Beside it: p95 of the requests that arrived in each window, as logged and as replayed.",
        ),
    )
    hour = _worst_hour(found)
    grid = figure.add_gridspec(
        2, 3 if hour else 2, width_ratios=(1, 1.1, 0.7) if hour else (1, 1.5), height_ratios=(2.2, 1)
    )
    _quantiles(figure.add_subplot(grid[:, 0]), found)
    for column, stretch in enumerate([(0.0, found.trace.span_s), *([hour] if hour else [])], 1):
        upper = figure.add_subplot(grid[0, column])
        lower = figure.add_subplot(grid[1, column], sharex=upper)
        _over_time(upper, lower, found, stretch, is_first=column == 1)
    return figure


def _worst_hour(found: Backtest) -> tuple[float, float] | None:
    """The hour with most of the slowest twentieth of the requests; None: the log is not much longer."""
    trace = found.trace
    if trace.span_s < _LONG_S:
        return None
    logged_s = np.asarray(trace.latency_s)
    slow = trace.at_s[logged_s > np.nanquantile(logged_s, 0.95)]
    steps = np.bincount((slow / _STEP_S).astype(np.int64), minlength=int(trace.span_s / _STEP_S) + 1)
    first = _STEP_S * int(np.argmax(np.convolve(steps, np.ones(int(3600 / _STEP_S)), mode="valid")))
    return first, min(trace.span_s, first + 3600)


def _quantiles(axes: Axes, found: Backtest) -> None:
    logged_s = np.asarray(found.trace.latency_s)
    replayed_s = found.replayed_s[~np.isnan(found.replayed_s)]
    x, y = np.quantile(logged_s, _POINTS), np.quantile(replayed_s, _POINTS)
    low, high = 0.8 * max(1e-4, min(x[0], y[0])), 1.3 * max(x[-1], y[-1])
    line = np.array([low, high])
    axes.fill_between(line, 0.9 * line, 1.1 * line, color=FOAM, alpha=0.6, linewidth=0, label="10 % off")
    axes.plot(line, line, color=INK, linewidth=0.8)
    axes.plot(x, y, color=SEA, linewidth=2.2, label="same requests")
    if found.held_back:
        held = [(one.logged_s, one.replayed_s) for one in found.held_back]
        axes.plot(*zip(*held, strict=True), color=BUOY, marker="s", linestyle="none", markersize=6, label="held back")
    if found.busiest:
        busiest = [(one.logged_s, one.replayed_s) for one in found.busiest]
        axes.plot(
            *zip(*busiest, strict=True), color=INK, marker="^", linestyle="none", markersize=7, markerfacecolor="white",
            label="busiest tenth, from the quieter half",
        )  # fmt: skip
    for one in found.figures:
        if one.scope == "all" and one.quantile in _MARKED:
            axes.plot([one.logged_s], [one.replayed_s], color=INK, marker="o", markersize=5, zorder=5)
            axes.annotate(
                one.quantile, (one.logged_s, one.replayed_s), xytext=(-8, 6), textcoords="offset points", fontsize=9.5,
                color=INK, ha="right",
            )  # fmt: skip
    axes.set(xscale="log", yscale="log", xlim=(low, high), ylim=(low, high))
    dress(axes, y_label="replayed latency")
    axes.set_xlabel("logged latency", color=INK, fontsize=10)
    for axis in (axes.xaxis, axes.yaxis):
        axis.set_major_locator(FixedLocator([tick for tick in _TICKS_S if low <= tick <= high]))
        axis.set_minor_locator(NullLocator())
        axis.set_minor_formatter(NullFormatter())
        axis.set_major_formatter(duration_ticks())
    axes.set_aspect("equal")
    axes.legend(loc="lower right", frameon=False, fontsize=9)


def _over_time(upper: Axes, lower: Axes, found: Backtest, stretch: tuple[float, float], *, is_first: bool) -> None:
    """Both p95 and the load from one instant to another [s]; `is_first`: it is the whole, with labels."""
    trace = found.trace
    from_s, to_s = stretch
    width_s = max(60.0, 60.0 * round((to_s - from_s) / _WINDOWS / 60))
    kept = (trace.at_s >= from_s) & (trace.at_s < to_s)
    window = ((trace.at_s[kept] - from_s) // width_s).astype(np.int64)
    n = int(window[-1]) + 1
    begins_s = from_s + width_s * np.arange(n)
    at = times_of(trace.start, begins_s)
    both = (np.asarray(trace.latency_s)[kept], found.replayed_s[kept])
    logged, replayed = (_p95(taken_s, window, n) for taken_s in both)
    upper.plot(at, logged, color=SAND, linewidth=3.4, label="logged")
    upper.plot(at, replayed, color=SEA, linewidth=1.6, label="replayed")
    dress(upper, y_label="p95" if is_first else "")
    shown = np.concatenate([logged, replayed])
    shown = shown[~np.isnan(shown)]
    if len(shown) and shown.max() > 8 * shown.min():
        upper.set_yscale("log")
        low, high = 0.8 * float(shown.min()), 1.25 * float(shown.max())
        upper.set_ylim(low, high)
        upper.yaxis.set_major_locator(FixedLocator([tick for tick in _TICKS_S if low <= tick <= high]))
        upper.yaxis.set_minor_locator(NullLocator())
    upper.yaxis.set_major_formatter(duration_ticks())
    if is_first:
        upper.legend(loc="upper left", frameon=False, fontsize=9)
    upper.tick_params(labelbottom=False)
    lower.fill_between(at, np.bincount(window, minlength=n) / width_s, color=FOAM, step="mid")
    dress(lower, y_label="requests / s" if is_first else "")
    lower.set_ylim(bottom=0)
    if trace.start is not None:
        date_axis(lower, trace.start.tzinfo, 6)
    else:
        lower.set_xlabel("hours from the start", color=INK, fontsize=10)
    name = "" if is_first else f"worst hour, {clock(trace, from_s, seconds=False)}: "
    upper.set_title(f"{name}windows of {units.show_duration(width_s)}", fontsize=9, color=INK, loc="right")


def _p95(latency_s: np.ndarray, window: np.ndarray, n: int) -> np.ndarray:
    """The p95 of each window, NaN: too few requests."""
    answered = ~np.isnan(latency_s)
    return by_group(latency_s[answered], window[answered], n, 0.95, least=_FEW)[0]
