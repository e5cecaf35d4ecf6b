"""The picture of a replay of several services: requests and latency, then a panel for each service."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

import numpy as np
from matplotlib.ticker import FuncFormatter, PercentFormatter

from libramen import units
from libramen.draw.replay import draw_events, draw_latency, draw_requests, in_time, time_axis, times_of
from libramen.draw.style import BUOY, DUSK, FOAM, INK, SEA, dress, new_figure, plain
from libramen.report.words import fleet_range

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from libramen.outcome.outcome import Outcome
    from libramen.outcome.system import SystemOutcome

_MOST_FINDINGS: Final = 3
_MOST_SERVICES: Final = 6


def draw_system(outcome: SystemOutcome) -> Figure:
    """Requests and endings, latency, and for each service the slots taken, the CPU in use and what waits.

    Of more than six services those are drawn that had the most of their slots or their CPU in use.
    """
    series = outcome.series_arrays()
    width_s = float(np.diff(outcome.run.edges_s)[0])
    failed = outcome.requests_measured - outcome.endings["ok"]
    services = outcome.services
    left_out = ""
    if len(services) > _MOST_SERVICES:
        busiest = sorted(services, key=lambda name: -_most_used(services[name]))[:_MOST_SERVICES]
        services = {name: one for name, one in services.items() if name in busiest}
        left_out = f"; the {_MOST_SERVICES} busiest of {len(outcome.services)} services"
    figure = new_figure(
        f"{outcome.plan.name}: {units.show_money(outcome.bill.month, outcome.bill.currency)} a month, "
        f"{in_time(outcome)}, {units.show_availability(outcome.availability)} of requests answered",
        f"{outcome.requests_measured:,} requests, {failed:,} failed; windows of {units.show_duration(width_s)}"
        + left_out,
        notes=[f"- {finding.text}" for finding in outcome.findings[:_MOST_FINDINGS]],
    )
    panels = figure.subplots(2 + len(services), 1, sharex=True, height_ratios=[1.3, 1.3] + [1.0] * len(services))
    times = times_of(outcome, series["at_s"])
    draw_requests(panels[0], times, series, width_s)
    draw_latency(panels[1], times, series, outcome)
    handles: list[Any] = []
    for axes, (name, one) in zip(panels[2:], services.items(), strict=True):
        handles = _service(axes, times, name, one)
        draw_events([axes], one)
    time_axis(panels[-1], outcome)
    for axes in panels[:2]:
        axes.legend(loc="center left", bbox_to_anchor=(1.03, 0.5), frameon=False, fontsize=9)
    panels[2].legend(handles=handles, loc="center left", bbox_to_anchor=(1.03, 0.5), frameon=False, fontsize=9)
    for axes in panels:
        axes.margins(x=0.005)
    figure.align_ylabels(panels)
    return figure


def _most_used(one: Outcome) -> float:
    there = (one.replicas_mean or 0.0) * one.span_s * one.service.slots
    return max(one.utilisation or 0.0, float(one.run.integrals[-1, 1]) / there if there else 0.0)


def _service(axes: Axes, times: Any, name: str, one: Outcome) -> list[Any]:
    """Slots taken and CPU in use as shares, and how many visits wait on an axis of their own."""
    series = one.series_of_counts()
    slots = series["in_progress"] / np.maximum(series["ready"] * one.service.slots, 1e-12)
    slots = np.where(series["ready"] > 1e-9, np.minimum(slots, 1.0), np.nan)
    taken = axes.fill_between(
        times, np.nan_to_num(slots), step="post", color=FOAM, edgecolor=SEA, linewidth=0.6, label="slots taken"
    )
    (cpu,) = axes.step(times, series["utilisation"], where="post", color=SEA, linewidth=1.2, label="CPU in use")
    none = series["ready"] < 1e-9
    handles = [taken, cpu]
    if none.any():
        axes.plot(
            times[none], np.full(np.count_nonzero(none), 0.04), linestyle="none", marker="|", markersize=7,
            markeredgewidth=1.4, color=BUOY,
        )  # fmt: skip
    axes.set_ylim(0, 1.12)
    axes.yaxis.set_major_formatter(PercentFormatter(1.0, decimals=0))
    axes.set_yticks([0, 0.5, 1])
    dress(axes, y_label="")
    fleet = fleet_range(one.replicas_min, one.replicas_max)
    axes.set_title(plain(f"{name}: {fleet} x {one.plan.size.name}"), loc="left", fontsize=9.5, color=INK, pad=2)
    right = axes.twinx()
    (waits,) = right.step(
        times, series["waiting"], where="post", color=DUSK, linewidth=1.0, linestyle="--",
        label="visits waiting\n(right)",
    )  # fmt: skip
    right.set_ylim(0, max(1.0, 1.12 * float(np.max(series["waiting"], initial=0.0))))
    right.yaxis.set_major_formatter(FuncFormatter(lambda n, _: f"{n:,.0f}" if abs(n - round(n)) < 1e-9 else ""))
    right.tick_params(colors=DUSK, labelsize=8)
    for side in ("top", "left", "right", "bottom"):
        right.spines[side].set_visible(False)
    return [*handles, waits]
