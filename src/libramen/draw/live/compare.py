"""A comparison on the page: money against how quickly most were answered, and against failures."""

from __future__ import annotations

import math
from typing import Any, Final

from libramen.base import units
from libramen.base.ranks import PERCENTILES
from libramen.draw.live.spec import DUSK, INK, KELP, SAND, SEA, Live, axis, line_at, numbers, seconds_axis, text
from libramen.questions.compare import Comparison

_LOOKS: Final = ((SEA, "circle"), (SAND, "square"), (DUSK, "triangle-up"), (KELP, "diamond"), (INK, "cross"))
_LEAST_FAILED: Final = 1e-6


def live_comparison(found: Comparison) -> list[Live]:
    """Two figures; each plan is a marker with its name, filled if it meets all objectives."""
    goals = {goal.name: float(goal.wanted) for goal in found.figures[0].objectives}
    name = next((key for key in goals if key in PERCENTILES), "p95")
    share = f"{100 * PERCENTILES[name]:.4g} %"
    answered = [figures.month.answered_s[name] for figures in found.figures]
    never = [figures.plan for figures, value in zip(found.figures, answered, strict=True) if value is None]
    latency = _figure(found, answered, "%{y:.3s}s", seconds_axis(f"{share} of all requests answered within"))
    if name in goals:
        latency["layout"]["shapes"].append(line_at(goals[name], along="x"))
    words = f"Money against the time within which {share} of all requests were answered, a point a plan"
    if never:
        words += f". Not in it, since they answered fewer: {', '.join(never)}"
    failed = [max(_LEAST_FAILED, 1 - (figures.month.availability or 0)) for figures in found.figures]
    ticks = [10.0**-k for k in range(7)]
    failures = _figure(
        found, failed, "%{customdata} answered",
        axis(
            "availability", type="log", autorange="reversed", tickvals=ticks,
            ticktext=["100 %" if tick <= _LEAST_FAILED else _share(1 - tick) for tick in ticks],
        ),
        [units.show_availability(figures.month.availability) for figures in found.figures],
    )  # fmt: skip
    if "availability" in goals:
        failures["layout"]["shapes"].append(line_at(1 - goals["availability"], along="x"))
    told = "Money against availability, a point a plan; each step up fails a tenth as many"
    return [Live(f"{words}.", latency, is_half=True), Live(f"{told}.", failures, is_half=True)]


def _share(value: float) -> str:
    return f"{100 * value:.{max(0, math.ceil(-math.log10(1 - value) - 1e-9) - 2)}f} %"


def _figure(
    found: Comparison,
    values: list[float | None] | list[float],
    said: str,
    y: dict[str, Any],
    shown: list[str] | None = None,
) -> dict[str, Any]:
    """A curve a tier; the page finds for each name a place at which it covers nothing."""
    currency = text(found.figures[0].bill.currency)
    places = list(range(len(values)))
    data = []
    tiers = list(dict.fromkeys(figures.tier_of_arrivals for figures in found.figures))
    for number, tier in enumerate(tiers):
        colour, marker = _LOOKS[number % len(_LOOKS)]
        some = [
            place for place in places if found.figures[place].tier_of_arrivals == tier and values[place] is not None
        ]
        plans = [found.figures[place] for place in some]
        data.append(
            {
                "name": text(tier), "mode": "markers+text", "cliponaxis": False,
                "x": numbers(float(figures.bill.month) for figures in plans),
                "y": numbers(values[place] for place in some),
                "text": [text(figures.plan, 20) for figures in plans],
                "hovertext": [text(figures.plan) for figures in plans],
                "customdata": [] if shown is None else [shown[place] for place in some],
                "textposition": "top center", "textfont": {"size": 12, "color": INK},
                "marker": {
                    "symbol": [marker if figures.meets_all else f"{marker}-open" for figures in plans],
                    "size": 12, "color": colour, "line": {"width": 2, "color": [
                        INK if figures.meets_all else colour for figures in plans
                    ]},
                },
                "hovertemplate": (
                    f"<b>%{{hovertext}}</b><br>%{{x:,.4~r}} {currency} a month<br>{said}<extra>{text(tier)}</extra>"
                ),
            }
        )  # fmt: skip
    goals = {goal.name: float(goal.wanted) for goal in found.figures[0].objectives}
    shapes = [line_at(goals["month"], along="y")] if "month" in goals else []
    most = max([*(float(figures.bill.month) for figures in found.figures), goals.get("month", 0.0), 1e-9])
    layout = {
        "xaxis": axis(f"{currency} a month", range=[0, 1.18 * most]), "yaxis": y, "shapes": shapes,
        "showlegend": True, "legend": {"title": {"text": "tier"}, "orientation": "h", "y": -0.22},
        "hovermode": "closest", "margin": {"t": 24},
    }  # fmt: skip
    return {"data": data, "layout": layout, "labels": True}
