"""The picture of headroom: p95, availability and money against the load, a line a plan."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

import numpy as np
from matplotlib.ticker import FuncFormatter, LogLocator, NullFormatter, PercentFormatter

from libramen.draw.style import BUOY, DUSK, INK, KELP, SAND, SEA, dress, duration_ticks, new_figure, plain
from libramen.report.comparison import months_said

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from libramen.questions.headroom import Headroom
    from libramen.questions.limits import Room

_LOOKS: Final = ((SEA, "-"), (DUSK, "--"), (KELP, "-."), (SAND, "-"), (INK, ":"), (SEA, ":"), (DUSK, "-"), (KELP, "--"))


def draw_headroom(found: Headroom) -> Figure:
    """Three panels over the factor of the load; where a plan breaks is marked."""
    figure = new_figure(
        "How much more load each plan takes",
        "times the load of the trace; a cross marks the greatest load at which a plan meets every objective",
        [*months_said((room.plan, room.made_of) for room in found.plans)],
    )
    panels = figure.subplots(3, 1, sharex=True)
    for number, room in enumerate(found.plans):
        colour, line = _LOOKS[number % len(_LOOKS)]
        factors = np.array([point.factor for point in room.points])
        values: tuple[list[Any], ...] = (
            [np.nan if point.p95_s is None else point.p95_s for point in room.points],
            [np.nan if point.availability is None else point.availability for point in room.points],
            [point.month for point in room.points],
        )
        for axes, of in zip(panels, values, strict=True):
            axes.plot(factors, of, color=colour, linestyle=line, linewidth=1.3, label=_label(room))
            if room.holds_to is not None and room.breaks is not None:
                at = int(np.argmin(np.abs(factors - room.holds_to)))
                axes.plot([factors[at]], [of[at]], marker="x", markersize=8, markeredgewidth=1.8, color=BUOY)
    _scales(panels, found)
    figure.align_ylabels(panels)
    panels[0].legend(loc="upper left", bbox_to_anchor=(1.005, 1.0), frameon=False, fontsize=9)
    return figure


def _scales(panels: Any, found: Headroom) -> None:
    """The axes: latency and load by factors, shares and money as they are."""
    panels[0].set_yscale("log")
    panels[0].yaxis.set_major_locator(LogLocator(base=10, subs=(1, 2, 4)))
    panels[0].yaxis.set_major_formatter(duration_ticks())
    panels[0].yaxis.set_minor_formatter(NullFormatter())
    panels[1].yaxis.set_major_formatter(PercentFormatter(1.0))
    low, high = panels[2].get_ylim()
    digits = 0 if high - low >= 8 else 1 if high - low >= 0.8 else 2
    panels[2].yaxis.set_major_formatter(FuncFormatter(lambda value, _position: f"{value:,.{digits}f}"))
    for axes, label in zip(panels, ("p95 (ok)", "available", f"{found.currency} a month"), strict=True):
        dress(axes, y_label=label)
        axes.axvline(1.0, color=INK, linewidth=0.8, linestyle=(0, (1, 2)))
    panels[2].set_xscale("log")
    # Where plans break; one that never holds was tried far below.
    limits = [1.0, *(room.holds_to for room in found.plans if room.holds_to is not None and room.breaks is not None)]
    panels[2].set_xlim(0.85 * min(limits), 1.5 * max(limits))
    panels[2].xaxis.set_major_locator(LogLocator(base=10, subs=(1, 1.5, 2, 3, 5, 7)))
    panels[2].xaxis.set_major_formatter(FuncFormatter(lambda value, _position: f"{value:g}"))
    panels[2].xaxis.set_minor_formatter(NullFormatter())
    panels[2].set_xlabel("load", color=INK)


def _label(room: Room) -> str:
    return plain(room.plan if room.holds_to is None else f"{room.plan} ({room.holds_to:.2f})")
