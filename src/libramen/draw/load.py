"""The picture of a load: arrivals over time, the week by the hour, latency by route."""

from __future__ import annotations

from datetime import UTC, timedelta
from typing import TYPE_CHECKING, Any, Final

import numpy as np
from matplotlib.colors import LinearSegmentedColormap
from matplotlib.dates import date2num
from matplotlib.ticker import LogLocator, NullFormatter

from libramen.base import units
from libramen.draw.style import BUOY, FOAM, INK, SAND, SEA, date_axis, dress, duration_ticks, new_figure, plain
from libramen.trace.summary import Summary

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure


_WEEKDAYS: Final = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
_MOST_ROUTES: Final = 10


def draw_load(summary: Summary) -> Figure:
    """Three panels: requests per second over time, the week as a heat map, latency by route."""
    trace = summary.trace
    when = "" if trace.start is None else f" from {trace.start:%a %d %b %Y %H:%M} ({trace.start.tzinfo})"
    figure = new_figure(
        f"{len(trace):,} requests over {units.show_duration(trace.span_s)}{when}",
        f"mean {summary.mean_rate:.3g} a second; busiest second {summary.peaks['1s'].per_second:.3g}, "
        f"minute {summary.peaks['1min'].per_second:.3g}, hour {summary.peaks['1h'].per_second:.3g} a second",
    )
    grid = figure.add_gridspec(2, 2, height_ratios=(1.1, 1))
    _over_time(figure.add_subplot(grid[0, :]), summary)
    _week(figure, figure.add_subplot(grid[1, 0]), summary)
    _routes(figure.add_subplot(grid[1, 1]), summary)
    return figure


def _over_time(axes: Axes, summary: Summary) -> None:
    trace = summary.trace
    width_s = max(1.0, round(trace.span_s / 1440 / 60) * 60.0) if trace.span_s > 3600 else max(1.0, trace.span_s / 600)
    counts = np.bincount((trace.at_s // width_s).astype(np.int64)) / width_s
    starts = np.arange(len(counts)) * width_s
    times: Any = starts / 3600
    if trace.start is not None:
        utc = trace.start.astimezone(UTC)
        times = np.array([date2num(utc + timedelta(seconds=float(s))) for s in starts])
        date_axis(axes, trace.start.tzinfo)
        axes.set_xlabel(f"local time ({trace.start.tzinfo})", color=INK)
    else:
        axes.set_xlabel("hours from the start", color=INK)
    axes.fill_between(times, counts, step="post", color=FOAM, linewidth=0)
    axes.step(times, counts, where="post", color=SEA, linewidth=0.9)
    for quiet, colour in zip(summary.quiet, (SAND, FOAM), strict=False):
        inside = (starts >= quiet.at_s) & (starts < quiet.at_s + quiet.length_s)
        if inside.any() and quiet.length_s < 7200:
            axes.axvspan(times[inside][0], times[inside][-1], color=colour, alpha=0.6, linewidth=0)
            axes.annotate(
                f"quietest {units.show_duration(quiet.length_s)}: {quiet.requests:,} requests",
                (times[inside][0], 1.0), (4, -4), xycoords=("data", "axes fraction"), textcoords="offset points",
                va="top", fontsize=9, color=INK,
            )  # fmt: skip
    peak = summary.peaks["1min"]
    if trace.span_s >= 120:
        place, at = int(np.argmin(np.abs(starts - peak.at_s))), trace.local_time(peak.at_s)
        axes.annotate(
            f"busiest minute: {peak.per_second:.3g} / s{'' if at is None else f' at {at:%a %H:%M}'}",
            (times[place], counts[place]), (-60 if place > len(counts) / 4 else 60, -4), textcoords="offset points",
            ha="right" if place > len(counts) / 4 else "left", va="top", fontsize=9, color=BUOY,
            arrowprops={"arrowstyle": "->", "color": BUOY, "linewidth": 1.2},
        )  # fmt: skip
    axes.margins(x=0.005)
    axes.set_ylim(bottom=0)
    dress(axes, y_label=f"requests / s, windows of {units.show_duration(width_s)}")


def _week(figure: Figure, axes: Axes, summary: Summary) -> None:
    axes.set_title("the week by the hour [requests / s]", fontsize=10.5, color=INK, loc="left")
    if summary.week is None:
        axes.set_axis_off()
        axes.text(0.5, 0.5, "the start is not known", ha="center", va="center", color=INK, transform=axes.transAxes)
        return
    colours = LinearSegmentedColormap.from_list("tide", ["#ffffff", FOAM, SEA, INK], bad="#eeeeee")
    image = axes.imshow(np.ma.masked_invalid(summary.week), aspect="auto", cmap=colours, vmin=0)
    figure.colorbar(image, ax=axes, pad=0.02)
    axes.set_yticks(range(7), _WEEKDAYS, fontsize=9, color=INK)
    axes.set_xticks(range(0, 24, 3), [f"{hour:02}" for hour in range(0, 24, 3)], fontsize=9, color=INK)
    axes.set_xlabel("local hour (grey: not in the trace)", color=INK, fontsize=9.5)


def _routes(axes: Axes, summary: Summary) -> None:
    shown = summary.routes[:_MOST_ROUTES][::-1]
    names = [
        f"{plain(load.route if len(load.route) < 28 else load.route[:26] + '…')}  {units.show_share(load.share)}"
        for load in shown
    ]
    known = [load for load in shown if load.p50 is not None and load.p95 is not None]
    axes.set_title("latency by route, share of requests", fontsize=10.5, color=INK, loc="left")
    dress(axes, y_label="")
    if known:
        places = np.arange(len(shown))
        p50 = np.array([max(load.p50 or 0, 1e-4) for load in shown])
        p95 = np.array([max(load.p95 or 0, 1e-4) for load in shown])
        axes.hlines(places, p50, p95, color=SEA, linewidth=2)
        axes.plot(p50, places, "o", color=SEA, markersize=7, label="median")
        axes.plot(p95, places, "|", color=INK, markersize=12, markeredgewidth=2, label="p95")
        axes.set_xscale("log")
        axes.xaxis.set_major_locator(LogLocator(base=10, subs=(1, 3)))
        axes.xaxis.set_major_formatter(duration_ticks())
        axes.xaxis.set_minor_formatter(NullFormatter())
        axes.legend(loc="lower left", bbox_to_anchor=(0.62, 1.0), ncols=2, fontsize=9, frameon=False, borderaxespad=0.1)
        axes.margins(x=0.08)
    else:
        axes.barh(range(len(shown)), [load.requests for load in shown], color=SEA)
        axes.set_xlabel("requests (the trace has no latencies)", color=INK)
    axes.set_yticks(range(len(shown)), names, fontsize=9, color=INK)
    axes.set_ylim(-0.6, max(len(shown), 4) - 0.4)
