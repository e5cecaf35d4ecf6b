"""The picture of where the time of requests went: a row a service, for all of them and for the slowest."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any, Final

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
_MOST_PARTS: Final = 3
"""Ways of spending time that are said beside a bar."""


def draw_where(outcome: Outcome) -> Figure:
    """Two panels, one for the mean of all ok requests and one for that of the slowest 1 %: service after service.

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
    engine: Any = figure.get_layout_engine()
    engine.set(rect=(0.005, 0.01, 0.99, 0.895))
    services = list(dict.fromkeys(one.service for one in stretches))
    colours = {name: _COLOURS[k % len(_COLOURS)] for k, name in enumerate(services)}
    bars = [("all requests", [one.mean_s for one in stretches])]
    if where.is_known:
        bars.append(("slowest 1 %", [one.slowest_s for one in stretches]))
    panels = figure.subplots(len(bars), 1, squeeze=False)[:, 0]
    for axes, (title, values) in zip(panels, bars, strict=True):
        _rows(axes, title, stretches, values, colours)
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


def _rows(axes: Axes, title: str, stretches: tuple[Stretch, ...], values: list[float], colours: dict[str, str]) -> None:
    """A row a service: its bar begins where that of the one before it ends, and beside it stands what it is made of."""
    total = math.fsum(values) or 1.0
    left = 0.0
    for row, name in enumerate(colours):
        spent = [
            (one, value) for one, value in zip(stretches, values, strict=True) if one.service == name and value > 0
        ]
        begin = left
        for one, value in spent:
            axes.barh(
                row, value, left=left, height=0.66, color=colours[name], edgecolor=INK, hatch=_HATCHES[one.part],
                linewidth=0.6,
            )  # fmt: skip
            left += value
        of_it = math.fsum(value for _, value in spent)
        spent.sort(key=lambda entry: -entry[1])
        parts = [f"{PART_NAMES[one.part]} {units.show_duration(value)}" for one, value in spent]
        told = ", ".join(parts[:_MOST_PARTS]) + (" ..." if len(parts) > _MOST_PARTS else "")
        is_right = left < 0.5 * total
        axes.annotate(
            f"{units.show_duration(of_it)} ({units.show_share(of_it / total)}){': ' if told else ''}{told}",
            (left if is_right else begin, row), (6 if is_right else -6, 0), textcoords="offset points", va="center",
            ha="left" if is_right or begin < 0.35 * total else "right", fontsize=9.5, color=INK, zorder=5,
            bbox={"facecolor": "white", "alpha": 0.85, "linewidth": 0, "pad": 1.5},
        )  # fmt: skip
    axes.set_ylim(len(colours) - 0.4, -0.6)
    axes.set_xlim(0, 1.01 * total)
    axes.set_yticks(range(len(colours)), [plain(name) for name in colours])
    axes.xaxis.set_major_formatter(duration_ticks())
    dress(axes, y_label="")
    axes.grid(visible=False, axis="y")
    whole = units.show_duration(math.fsum(values))
    axes.set_title(f"{title}: {whole}", fontsize=11, fontweight="bold", color=INK, loc="left")
