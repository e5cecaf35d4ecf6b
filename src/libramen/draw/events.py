"""The picture of one release or fault in each of its ways, side by side over the time around it."""

from __future__ import annotations

from itertools import pairwise
from typing import TYPE_CHECKING, Any, Final

import numpy as np
from matplotlib.ticker import FuncFormatter, LogLocator, MaxNLocator

from libramen.base import units
from libramen.draw.replay import time_axis, times_of
from libramen.draw.style import BUOY, DUSK, FOAM, INK, SEA, dress, duration_ticks, new_figure
from libramen.outcome import measures
from libramen.outcome.outcome import Outcome
from libramen.outcome.windows import window_for
from libramen.report.prose import clock
from libramen.rules.faults import BY_KIND

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from libramen.questions.events import Events, Way, Ways

_AROUND_S: Final = 180.0
_MOST_S: Final = 3600.0
_MOST_WAYS: Final = 6


def draw_ways(found: Events, entry: Ways) -> Figure:
    """A column for each way: requests per second and those that failed, p95, replicas."""
    ways = [way for way in entry.ways if way.events and way.outcome is not None]
    if entry.is_release:  # another time is another load: beside each other the strategies tell more
        ways = [way for way in ways if not way.name.startswith("quietest")]
    ways = ways[:_MOST_WAYS]
    outcome = found.outcome
    what = f"{entry.kind} release" if entry.is_release else BY_KIND[entry.kind].names[0]
    when = clock(outcome, entry.planned.events[0].at_s, seconds=False)
    others = "other strategies" if entry.is_release else "at another time"
    figure = new_figure(
        f"{outcome.plan.name}: the {what} at {when}, and {others}",
        "all with the same random numbers; each title has the requests that fail because of it",
        notes=[],
    )
    panels = figure.subplots(3, len(ways), sharey="row", height_ratios=(1.2, 1, 0.9), squeeze=False)
    lasts_s = max(
        [max((event.lasts_s or 0.0) for event in way.events) for way in ways] + [_ended_s(way) for way in ways]
    )
    for column, way in enumerate(ways):
        _draw(panels[:, column], way, min(lasts_s, _MOST_S), first=column == 0)
    for row, of in enumerate(panels):
        lows, highs = zip(*((axes.dataLim.ymin, axes.dataLim.ymax) for axes in of), strict=True)
        of[0].set_ylim(0.85 * min(lows) if row == 1 else 0, (1.2 if row == 1 else 1.08) * max(highs))
    handles, labels = _together(panels)
    figure.legend(handles, labels, loc="outside lower center", ncols=len(labels), frameon=False, fontsize=9)
    return figure


def _ended_s(way: Way) -> float:
    """How long an update took [s]."""
    outcome = way.outcome
    assert outcome is not None
    at_s = way.events[0].at_s
    ends = [
        update.ended_s - at_s
        for one in outcome.services.values()
        for update in one.run.updates
        if update.ended_s is not None and update.began_s == at_s
    ]
    return max(ends, default=0.0)


def _together(panels: Any) -> tuple[list[Any], list[str]]:
    found: dict[str, Any] = {}
    for axes in panels.flat:
        for handle, label in zip(*axes.get_legend_handles_labels(), strict=True):
            found.setdefault(label, handle)
    return list(found.values()), list(found)


def _draw(panels: Any, way: Way, lasts_s: float, *, first: bool) -> None:
    outcome = way.outcome
    assert outcome is not None
    event = way.events[0]
    from_s, to_s = max(0.0, event.at_s - _AROUND_S), min(outcome.span_s, event.at_s + lasts_s + _AROUND_S)
    width_s = window_for(outcome.trace, from_s, to_s)
    edges_s = np.arange(from_s, to_s + 0.5 * width_s, width_s)
    ok, failed, p95_s = _windows(outcome, edges_s)
    times = times_of(outcome, edges_s)
    top = panels[0]
    top.stairs(ok / width_s, times, fill=True, color=FOAM, label="ok")
    top.stairs((ok + failed) / width_s, times, baseline=ok / width_s, fill=True, color=BUOY, label="failed")
    top.stairs((ok + failed) / width_s, times, color=INK, linewidth=0.7)
    top.set_title(f"{way.name}\n{_failed(way)}", fontsize=10, color=INK, loc="left")
    panels[1].stairs(p95_s, times, baseline=None, color=SEA, linewidth=1.3, label="p95 of those answered")
    panels[1].set_yscale("log")
    panels[1].yaxis.set_major_locator(LogLocator(base=10, subs=(1, 2, 4)))
    panels[1].yaxis.set_major_formatter(duration_ticks())
    panels[1].yaxis.set_minor_formatter(FuncFormatter(lambda _value, _position: ""))
    ready, paid = np.zeros(len(edges_s) - 1), np.zeros(len(edges_s) - 1)
    for one in outcome.services.values():
        ready += measures.stage_steps(one.run, "ready").mean(edges_s)
        paid += measures.paid_steps(one.run, one.hosting).mean(edges_s)
    panels[2].stairs(ready, times, fill=True, color=SEA, alpha=0.35, label="ready")
    panels[2].yaxis.set_major_locator(MaxNLocator(nbins=5, integer=True))
    panels[2].stairs(paid, times, color=INK, linewidth=0.9, linestyle=":", label="paid")
    for axes, label in zip(
        panels, (f"requests / s ({units.show_duration(width_s)})", "latency", "replicas"), strict=True
    ):
        at = float(times_of(outcome, np.array([event.at_s]))[0])
        axes.axvline(at, color=DUSK, linewidth=0.9, linestyle=(0, (4, 2)), zorder=0.5)
        axes.set_xlim(float(times[0]), float(times[-1]))
        dress(axes, y_label=label if first else "")
        axes.tick_params(axis="x", labelbottom=axes is panels[2], labelsize=8)
    time_axis(panels[2], outcome, most=4)
    panels[2].set_xlabel("")


def _windows(outcome: Outcome, edges_s: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Answered and failed requests of each window, and the p95 of the answered ones [s]."""
    results = outcome.run.kept
    bounds = np.searchsorted(outcome.trace.at_s, edges_s)
    n = len(edges_s) - 1
    ok, failed, p95_s = np.zeros(n), np.zeros(n), np.full(n, np.nan)
    for window, (first, last) in enumerate(pairwise(bounds)):
        is_ok = results.ending[first:last] == 0
        ok[window], failed[window] = is_ok.sum(), (~is_ok).sum()
        if is_ok.any():
            p95_s[window] = np.quantile(results.latency_s[first:last][is_ok], 0.95, method="inverted_cdf")
    return ok, failed, p95_s


def _failed(way: Way) -> str:
    failed = way.failed or 0
    if failed <= 0 and any(event.overloaded for event in way.events):
        return "overloaded all the same"
    return f"{failed:,} fail" if failed >= 0 else f"{-failed:,} fewer fail"
