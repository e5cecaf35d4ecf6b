"""The picture of where the time of requests went: a chain of bars, for all of them and for the slowest."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Final

from matplotlib.patches import Patch

from libramen.base import units
from libramen.draw.style import DUSK, FOAM, INK, KELP, SAND, SEA, dress, duration_ticks, new_figure, plain
from libramen.outcome.outcome import Outcome
from libramen.outcome.where import Stretch
from libramen.report.system import PART_NAMES

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure


_COLOURS: Final = (SEA, SAND, DUSK, KELP, FOAM, INK)
_HATCHES: Final = {
    "retried": "xxxx", "queued": "////", "cpu": "", "slowed": "\\\\\\\\", "connecting": "++++", "waiting": "....",
    "overhead": "----",
}  # fmt: skip
_WIDE: Final = 0.07
"""The share of a bar from which on a stretch is named in it."""


def draw_where(outcome: Outcome) -> Figure:
    """Two bars, one for the mean of all ok requests and one for that of the slowest 1 %: service after service.

    Each service has a colour, each way of spending time a pattern.
    """
    where = outcome.where
    stretches = where.stretches
    of_all = math.fsum(one.mean_s for one in stretches)
    figure = new_figure(
        f"{outcome.plan.name}: where the time of a request goes",
        f"on average {units.show_duration(of_all)} of {outcome.endings['ok']:,} requests that were answered ok; each "
        "second counts once, where it was spent, and of calls made at once the one that ended last",
    )
    services = list(dict.fromkeys(one.service for one in stretches))
    colours = {name: _COLOURS[k % len(_COLOURS)] for k, name in enumerate(services)}
    bars = [("all requests", [one.mean_s for one in stretches])]
    if where.is_known:
        bars.append(("slowest 1 %", [one.slowest_s for one in stretches]))
    panels = figure.subplots(len(bars), 1, squeeze=False)[:, 0]
    for axes, (title, values) in zip(panels, bars, strict=True):
        _bar(axes, title, stretches, values, colours)
    parts = [part for part in PART_NAMES if any(one.part == part for one in stretches)]
    entries = len(services) + len(parts)
    figure.legend(
        handles=[
            *(Patch(facecolor=colours[name], edgecolor=INK, label=plain(name)) for name in services),
            *(Patch(facecolor="white", edgecolor=INK, hatch=_HATCHES[part], label=PART_NAMES[part]) for part in parts),
        ],
        loc="outside lower center",
        ncols=entries if entries <= 9 else -(-entries // 2),
        frameon=False,
    )
    return figure


def _bar(axes: Axes, title: str, stretches: tuple[Stretch, ...], values: list[float], colours: dict[str, str]) -> None:
    total, left = math.fsum(values), 0.0
    level = 0
    for one, value in zip(stretches, values, strict=True):
        if value <= 0:
            continue
        colour = colours[one.service]
        axes.barh(0, value, left=left, height=0.5, color=colour, edgecolor=INK, hatch=_HATCHES[one.part], linewidth=0.6)
        said = f"{plain(one.service)}\n{PART_NAMES[one.part]}\n{units.show_duration(value)}"
        if value >= _WIDE * total:
            axes.text(
                left + value / 2, 0, said, ha="center", va="center", fontsize=9, color=INK,
                bbox={"facecolor": "white", "alpha": 0.85, "linewidth": 0, "pad": 1.5},
            )  # fmt: skip
        elif value >= 0.015 * total:  # named above the bar, in turn on two levels
            axes.annotate(
                said.replace("\n", " "), (left + value / 2, 0.25), (0, 10 + 13 * (level % 3)),
                textcoords="offset points", ha="center" if left < 0.85 * total else "right", fontsize=8, color=INK,
                arrowprops={"arrowstyle": "-", "color": INK, "linewidth": 0.5},
            )  # fmt: skip
            level += 1
        left += value
    axes.set_ylim(-0.45, 0.75)
    axes.set_xlim(0, left * 1.01 if left else 1.0)
    axes.set_yticks([])
    axes.xaxis.set_major_formatter(duration_ticks())
    dress(axes, y_label="")
    axes.text(0, 0.68, f"{title}: {units.show_duration(total)}", fontsize=11, fontweight="bold", color=INK, va="top")
