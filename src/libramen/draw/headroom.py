"""The picture of headroom: a bar a plan up to its limit, coloured by what breaks first, with each objective's limit."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

from matplotlib.lines import Line2D
from matplotlib.patches import Patch
from matplotlib.ticker import FuncFormatter, MaxNLocator

from libramen.draw.style import DUSK, FOAM, INK, KELP, SAND, SEA, dress, new_figure, plain
from libramen.report.comparison import months_said
from libramen.report.headroom import dates_said, factor_said

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from libramen.questions.headroom import Headroom
    from libramen.questions.limits import Room

_LOOKS: Final = ((SEA, ""), (SAND, "//"), (DUSK, "\\\\"), (KELP, ".."), (INK, "xx"), (FOAM, "||"))
"""Of the objective that breaks first: colour, and hatching where there is none."""
_MARKERS: Final = ("D", "o", "s", "^", "v", "P", "X", "*")
_HOLDS: Final = ("#d5dade", "--")
"""Of a plan that nothing breaks, as far as was looked."""
_BEYOND: Final = 1.27
"""Limits beyond the end of the axis are drawn at so many times that."""
_FAR: Final = 4.0
"""Limits of other objectives are drawn up to so many times the greatest limit of a plan."""


def draw_headroom(found: Headroom) -> Figure:
    """A row a plan, in the order of the study; beside each bar what breaks, why, and when that is."""
    figure = new_figure(
        "How much more load each plan takes",
        "times the load of the trace; a bar ends at the greatest load at which a plan meets every objective; "
        "marks: up to where it meets each objective",
        [*months_said((room.plan, room.made_of) for room in found.plans)],
    )
    axes = figure.subplots()
    broken = list(dict.fromkeys(room.breaks for room in found.plans if room.breaks is not None))
    looks = {name: _LOOKS[place % len(_LOOKS)] for place, name in enumerate(broken)}
    names = list(dict.fromkeys(name for room in found.plans for name in room.limits))
    markers = {name: _MARKERS[place % len(_MARKERS)] for place, name in enumerate(names)}
    end = _end(found)
    for row, room in enumerate(found.plans):
        _draw_room(axes, row, room, looks, markers, end)
    _dress(axes, found, end)
    handles: list[Any] = [
        Patch(facecolor=colour, hatch=hatch, edgecolor="white", label=f"{name} breaks first")
        for name, (colour, hatch) in looks.items()
    ]
    if any(room.breaks is None for room in found.plans):
        handles.append(
            Patch(facecolor=_HOLDS[0], hatch=_HOLDS[1], edgecolor="white", label="nothing breaks up to here")
        )
    handles += [
        Line2D(
            [], [], marker=marker, color=INK, markerfacecolor="white", linestyle="none", label=f"{name} is met up to"
        )
        for name, marker in markers.items()
    ]
    axes.legend(
        handles=handles, loc="upper center", bbox_to_anchor=(0.45, -0.075), ncols=5, frameon=False, fontsize=9,
        handlelength=2.4,
    )  # fmt: skip
    return figure


def _end(found: Headroom) -> float:
    """Of the axis: where the last plan breaks, and what is written beside it."""
    limits = [1.0, *(room.holds_to for room in found.plans if room.holds_to is not None and room.breaks is not None)]
    if len(limits) == 1:
        limits += [room.holds_to for room in found.plans if room.holds_to is not None]
    others = [limit for room in found.plans for limit in room.limits.values() if limit is not None]
    return max(limits + [limit for limit in others if limit <= _FAR / 2 * max(limits)])


def _draw_room(
    axes: Axes, row: int, room: Room, looks: dict[str, tuple[str, str]], markers: dict[str, str], end: float
) -> None:
    colour, hatch = _HOLDS if room.breaks is None else looks[room.breaks]
    length = min(end, room.holds_to or 0.0)
    axes.barh(row, length, height=0.56, color=colour, hatch=hatch, edgecolor="white", zorder=2)
    for name, limit in room.limits.items():
        if limit is None:
            continue
        at = min(limit, _BEYOND * end)
        axes.plot(
                [at], [row + 0.42], marker=markers[name], markersize=6.5, color=INK, markerfacecolor="white",
                markeredgewidth=1.2, linestyle="none", clip_on=False, zorder=4,
            )  # fmt: skip
        if limit > end:
            axes.annotate(
                f"{limit:.3g} \N{RIGHTWARDS ARROW}", (at, row + 0.42), (-7, 0), textcoords="offset points",
                ha="right", va="center", fontsize=8.5, color=INK,
            )  # fmt: skip
    said = [factor_said(room)]
    if room.breaks is not None:
        said.append(f"{room.breaks}: {room.because}")
    if room.dates is not None:
        said.append(f"until {dates_said(room.dates)}")
    axes.annotate(
        plain("  ".join(said)), (length, row), (8, 0), textcoords="offset points", va="center", fontsize=9.5,
        color=INK, zorder=5,
    )  # fmt: skip


def _dress(axes: Axes, found: Headroom, end: float) -> None:
    dress(axes, y_label="")
    axes.grid(visible=False, axis="y")
    axes.set_ylim(len(found.plans) - 0.4, -0.6)
    axes.set_yticks(range(len(found.plans)), [plain(room.plan) for room in found.plans])
    axes.set_xlim(0, 1.3 * end)
    axes.xaxis.set_major_locator(MaxNLocator(9, steps=[1, 2, 2.5, 5, 10]))
    axes.xaxis.set_major_formatter(FuncFormatter(lambda value, _position: f"{value:g}"))
    axes.set_xlabel("load", color=INK)
    axes.axvline(1.0, color=INK, linewidth=1, linestyle=(0, (1, 2)), zorder=3)
    seen = found.evidence.up_to
    if seen is not None and seen < 1.3 * end:
        axes.axvspan(seen, 1.3 * end, color="#f1f3f4", zorder=0)
        axes.annotate(
            "more than the log has seen", (seen, 1.0), xycoords=("data", "axes fraction"), xytext=(5, 4),
            textcoords="offset points", fontsize=9, color=INK, annotation_clip=False,
        )  # fmt: skip
