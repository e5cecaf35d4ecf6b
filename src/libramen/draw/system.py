"""The picture of a replay of several services: requests and latency, then a panel for each service."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

import numpy as np
from matplotlib.ticker import FuncFormatter, PercentFormatter

from libramen.draw.replay import (
    WIDTHS,
    draw_events,
    draw_latency,
    draw_requests,
    over,
    time_axis,
    times_of,
    under,
)
from libramen.draw.stretch import stretches
from libramen.draw.style import BUOY, DUSK, FOAM, INK, SEA, dress, new_figure, plain
from libramen.outcome.outcome import Outcome
from libramen.outcome.service_outcome import ServiceOutcome
from libramen.report.words import fleet_range

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure


_MOST_SERVICES: Final = 6


def draw_system(outcome: Outcome, from_s: float | None = None, to_s: float | None = None) -> Figure:
    """Requests and endings, latency, and for each service the slots taken, the CPU in use and what waits.

    Of more than six services those are drawn that had the most of their slots or their CPU in use. Beside a long one
    its worst stretch in finer windows; or only the stretch from `from_s` to `to_s` [s].

    Raises:
        ReplayError: there is no such stretch.
    """
    shown = stretches(outcome, from_s, to_s)
    names = list(outcome.services)
    left_out = ""
    if len(names) > _MOST_SERVICES:
        busiest = sorted(names, key=lambda name: -_most_used(outcome.services[name]))[:_MOST_SERVICES]
        left_out = f"; the {_MOST_SERVICES} busiest of {len(names)} services"
        names = [name for name in names if name in busiest]
    figure = new_figure(*over(outcome, shown, "", left_out), notes=under(outcome, shown))
    panels = figure.subplots(
        2 + len(names), len(shown), sharex="col", squeeze=False, height_ratios=[1.3, 1.3] + [1.0] * len(names),
        width_ratios=WIDTHS[: len(shown)],
    )  # fmt: skip
    handles: dict[str, Any] = {}  # by label, of whichever panel has it
    for column, stretch in zip(panels.T, shown, strict=True):
        seen = stretch.outcome
        series = stretch.inside(seen.series_arrays())
        times = times_of(seen, series["at_s"])
        draw_requests(column[0], times, series, stretch.width_s)
        draw_latency(column[1], times, series, seen)
        for axes, name in zip(column[2:], names, strict=True):
            one = seen.services[name]
            drawn = _service(axes, times, name, one, stretch.inside(one.series_of_counts()))
            handles |= {handle.get_label(): handle for handle in drawn}
            draw_events([axes], one)
        for axes in column:
            axes.margins(x=0.005)
            stretch.limit(axes)
        time_axis(column[-1], seen, 14 if len(shown) == 1 else 10, stretch.from_s)
        if stretch.name and stretch.asked is None:
            column[0].set_title(stretch.name, fontsize=10, color=INK, loc="left")
    for axes in panels[:2, -1]:
        axes.legend(loc="center left", bbox_to_anchor=(1.06, 0.5), frameon=False, fontsize=9)
    panels[2, -1].legend(
        handles=[*handles.values()], loc="center left", bbox_to_anchor=(1.06, 0.5), frameon=False, fontsize=9
    )
    figure.align_ylabels(panels[:, 0])
    return figure


def _most_used(one: ServiceOutcome) -> float:
    return max(one.utilisation or 0.0, one.slots_taken or 0.0)


def _service(axes: Axes, times: Any, name: str, one: ServiceOutcome, series: dict[str, np.ndarray]) -> list[Any]:
    """Slots taken and CPU in use as shares, and how many visits wait on an axis of their own."""
    slots = series["in_progress"] / np.maximum(series["ready"] * one.service.slots, 1e-12)
    slots = np.where(series["ready"] > 1e-9, np.minimum(slots, 1.0), np.nan)
    taken = axes.fill_between(
        times, np.nan_to_num(slots), step="post", color=FOAM, edgecolor=SEA, linewidth=0.6, label="slots taken"
    )
    (cpu,) = axes.step(times, series["utilisation"], where="post", color=SEA, linewidth=1.2, label="CPU in use")
    none = series["ready"] < 1e-9
    if one.hosting.heir_of is not None:  # nobody is missed there before the home has moved
        none &= np.maximum.accumulate(series["ready"]) > 0
    handles = [taken, cpu]
    if none.any():
        handles += axes.plot(
            times[none], np.full(np.count_nonzero(none), 0.04), linestyle="none", marker="|", markersize=7,
            markeredgewidth=1.4, color=BUOY, label="nobody ready",
        )  # fmt: skip
    axes.set_ylim(0, 1.12)
    axes.yaxis.set_major_formatter(PercentFormatter(1.0, decimals=0))
    axes.set_yticks([0, 0.5, 1])
    dress(axes, y_label="")
    fleet = fleet_range(one.replicas_min, one.replicas_max)
    axes.set_title(plain(f"{name}: {fleet} x {one.hosting.size_name}"), loc="left", fontsize=9.5, color=INK, pad=2)
    right = axes.twinx()
    (waits,) = right.step(
        times, series["waiting"], where="post", color=DUSK, linewidth=1.0, linestyle="--",
        label="visits waiting\n(right)",
    )  # fmt: skip
    right.set_ylim(0, max(1.0, 1.12 * float(np.max(series["waiting"], initial=0.0))))
    right.yaxis.set_major_formatter(FuncFormatter(_few_digits))
    right.tick_params(colors=DUSK, labelsize=8, length=0, pad=3)
    for side in ("top", "left", "right", "bottom"):
        right.spines[side].set_visible(False)
    return [*handles, waits]


def _few_digits(n: float, _: object = None) -> str:
    """Whole numbers of at most four digits, so that they end before the legend: `1,000`, `100 k`."""
    if abs(n - round(n)) > 1e-9:
        return ""
    return f"{n:,.0f}" if n < 10_000 else f"{n / 1000:,g} k" if n < 1e6 else f"{n / 1e6:,g} M"
