"""Break-even on the page: money against load, a line a plan; dotted where it misses an objective."""

from __future__ import annotations

from typing import Any, Final

from libramen.draw.live.spec import BUOY, DUSK, FOAM, INK, KELP, SAND, SEA, Live, log_axis, numbers, text
from libramen.questions.break_even import BreakEven, Line
from libramen.report.prose import and_list

_COLOURS: Final = (SEA, DUSK, KELP, SAND, INK)
_POINT: Final = "%{x:.3~g} times the load<br>%{y:,.4~r}"
_MARKERS: Final = ("circle", "square", "triangle-up", "diamond", "cross", "x", "star", "hexagon")


def live_break_even(found: BreakEven) -> list[Live]:
    """One figure with logarithmic axes; rings where the cheaper of two plans changes."""
    currency = text(found.currency)
    data = [curve for number, line in enumerate(found.lines) for curve in _curves(line, number, currency)]
    crossings = [crossing for crossing in found.crossings if crossing.month[1] > 0]
    if crossings:
        data.append(
            {
                "name": "the cheaper of two changes", "mode": "markers", "showlegend": True,
                "x": numbers(crossing.factor for crossing in crossings),
                "y": numbers(crossing.month[1] for crossing in crossings),
                "text": [f"{text(one.below, 20)} below, {text(one.above, 20)} above" for one in crossings],
                "marker": {"symbol": "circle-open", "size": 15, "color": BUOY, "line": {"width": 2.5}},
                "hovertemplate": f"{_POINT} {currency} a month<br>the cheaper one: %{{text}}<extra></extra>",
            }
        )  # fmt: skip
    low, high = found.loads
    layout: dict[str, Any] = {
        "xaxis": log_axis("times the load of the trace", found.loads),
        "yaxis": log_axis(
            f"{currency} a month", [point.month for line in found.lines for point in line.points]
        ),
        "legend": {"orientation": "h", "y": -0.2}, "showlegend": True, "hovermode": "closest", "margin": {"t": 24},
        "shapes": [],
    }  # fmt: skip
    seen = found.evidence.up_to
    if seen is not None and low < seen < high:
        layout["shapes"].append(
            {
                "type": "rect", "xref": "x", "yref": "paper", "x0": seen, "x1": high, "y0": 0, "y1": 1,
                "fillcolor": FOAM, "opacity": 0.35, "line": {"width": 0}, "layer": "below",
                "label": {
                    "text": "more than the log has seen", "textposition": "bottom center", "font": {"color": INK}
                },
            }
        )  # fmt: skip
    plans = and_list([line.plan for line in found.lines])
    words = f"What {plans} cost a month at each load; dotted where a plan misses an objective, as in the table above."
    return [Live(words, {"data": data, "layout": layout})]


def _curves(line: Line, number: int, currency: str) -> list[dict[str, Any]]:
    """All of a line dotted, and over it solid what meets every objective."""
    points = [point for point in line.points if point.month > 0]
    name = text(line.plan, 24)
    shared: dict[str, Any] = {
        "name": name, "legendgroup": name, "x": numbers(point.factor for point in points),
        "mode": "lines+markers", "connectgaps": False,
        "marker": {"symbol": _MARKERS[number % len(_MARKERS)], "size": 6, "color": _COLOURS[number % len(_COLOURS)]},
        "hovertemplate": f"{_POINT} {currency} a month<br>%{{text}}<extra>{name}</extra>",
    }  # fmt: skip
    said = [f"misses {and_list(list(point.missed))}" if point.missed else "meets every objective" for point in points]
    colour = _COLOURS[number % len(_COLOURS)]
    every = {
        **shared, "y": numbers(point.month for point in points), "text": said, "showlegend": False,
        "line": {"color": colour, "width": 1.3, "dash": "dot"},
    }  # fmt: skip
    met = {
        **shared, "y": numbers(None if point.missed else point.month for point in points), "text": said,
        "showlegend": True, "line": {"color": colour, "width": 2.4},
    }  # fmt: skip
    return [every, met]
