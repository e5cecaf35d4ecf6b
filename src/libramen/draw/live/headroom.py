"""Headroom on the page: a bar a plan up to its limit, by what breaks first, with each objective's limit."""

from __future__ import annotations

from typing import Any, Final

from libramen.draw.live.spec import DUSK, FOAM, INK, KELP, SAND, SEA, Live, axis, numbers, text
from libramen.questions.headroom import Headroom
from libramen.questions.limits import Room
from libramen.report.headroom import dates_said, factor_said

_LOOKS: Final = ((SEA, ""), (SAND, "/"), (DUSK, "\\"), (KELP, "."), (INK, "x"))
"""Of the objective that breaks first: colour, and hatching where there is none."""
_HOLDS: Final = (FOAM, "-")
"""Of a plan that nothing breaks, as far as was looked."""
_MARKERS: Final = ("diamond-open", "circle-open", "square-open", "triangle-up-open", "x-open", "cross-open")


def live_headroom(found: Headroom) -> list[Live]:
    """One figure, in the order of the study."""
    plans = [text(room.plan, 24) for room in found.plans]
    broken = list(dict.fromkeys(room.breaks for room in found.plans))
    data: list[dict[str, Any]] = []
    for number, name in enumerate([one for one in broken if one is not None] + [None] * (None in broken)):
        colour, hatch = _HOLDS if name is None else _LOOKS[number % len(_LOOKS)]
        some = [place for place, room in enumerate(found.plans) if room.breaks == name]
        data.append(
            {
                "type": "bar", "orientation": "h", "name": f"{name} breaks first" if name else "nothing breaks",
                "y": [plans[place] for place in some],
                "x": numbers(found.plans[place].holds_to or 0.0 for place in some),
                "text": [_said(found.plans[place]) for place in some], "textposition": "none",
                "marker": {"color": colour, "pattern": {"shape": hatch, "fillmode": "overlay"}},
                "hovertemplate": "%{text}<extra>%{y}</extra>",
            }
        )  # fmt: skip
    names = list(dict.fromkeys(name for room in found.plans for name in room.limits))
    for number, name in enumerate(names):
        limits = [(plan, room.limits.get(name)) for plan, room in zip(plans, found.plans, strict=True)]
        there = [(plan, limit) for plan, limit in limits if limit is not None]
        data.append(
            {
                "mode": "markers", "name": f"{text(name)} is met up to", "y": [plan for plan, _ in there],
                "x": numbers(limit for _, limit in there),
                "marker": {"symbol": _MARKERS[number % len(_MARKERS)], "size": 11, "color": INK, "line": {"width": 2}},
                "hovertemplate": f"{text(name)} is met up to %{{x:.3~g}} times the load<extra>%{{y}}</extra>",
            }
        )  # fmt: skip
    most = max([1.0, *(room.holds_to for room in found.plans if room.holds_to is not None)])
    layout: dict[str, Any] = {
        "barmode": "overlay", "bargap": 0.35, "hovermode": "closest", "showlegend": True, "margin": {"t": 24},
        "xaxis": axis("times the load of the trace", range=[0, 1.3 * most]),
        "yaxis": axis(autorange="reversed", categoryorder="array", categoryarray=plans, type="category"),
        "legend": {"orientation": "h", "y": -0.25},
        "shapes": [
            {"type": "line", "xref": "x", "yref": "paper", "x0": 1, "x1": 1, "y0": 0, "y1": 1,
             "line": {"color": INK, "width": 1.2, "dash": "dash"}}
        ],
    }  # fmt: skip
    words = "Up to which load each plan meets every objective, as in the table above."
    return [Live(words, {"data": data, "layout": layout}, 170 + 34 * len(plans))]


def _said(room: Room) -> str:
    said = [text(factor_said(room), 80)]
    if room.breaks is not None:
        said.append(f"{text(room.breaks)}: {text(str(room.because))}")
    if room.dates is not None:
        said.append(f"until {text(dates_said(room.dates), 80)}")
    return "<br>".join(said)
