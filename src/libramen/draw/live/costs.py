"""Where the money of a month goes, on the page: by line and what it is paid for, and by route."""

from __future__ import annotations

from decimal import Decimal
from typing import Any, Final

from libramen.bill.costs import KINDS, Costs
from libramen.draw.live.spec import DUSK, FOAM, INK, KELP, SAND, SEA, Live, axis, numbers, text
from libramen.outcome.outcome import Outcome
from libramen.prices.lines import named as named_line
from libramen.report.costs import KIND_NAMES, counted

_LOOKS: Final = {
    "used": (SEA, ""), "idle": (FOAM, "/"), "starting": (SAND, "."), "leaving": (DUSK, "\\"),
    "committed": (KELP, "x"), "standing": (INK, ""),
}  # fmt: skip
_MOST: Final = 9


def live_costs(outcome: Outcome) -> list[Live]:
    """Two figures: the lines of the bill, and the routes by money and by requests."""
    costs = outcome.costs
    words = f"What a month of {outcome.plan.name} is paid for, line by line, as in the table above."
    found = [Live(words, _lines(costs), is_half=True)]
    used = [one for one in costs.routes if one.requests is not None]
    if len(used) > 1:
        words = f"Of each route its share of the money that is used, and of the {counted(costs)}."
        found.append(Live(words, _routes(costs), is_half=True))
    return found


def _bars(name: str, x: list[float | None], y: list[str], look: tuple[str, str], said: str) -> dict[str, Any]:
    colour, hatch = look
    return {
        "type": "bar", "orientation": "h", "name": name, "x": x, "y": y,
        "marker": {
            "color": colour, "pattern": {"shape": hatch, "fillmode": "overlay"}, "line": {"width": 1, "color": INK}
        },
        "hovertemplate": f"%{{y}}<br>{said}<extra>{name}</extra>",
    }  # fmt: skip


def _layout(title: str, names: list[str], **more: Any) -> dict[str, Any]:
    return {
        "xaxis": axis(title, rangemode="tozero"), "bargap": 0.3, "margin": {"t": 24}, "showlegend": True,
        "yaxis": axis(autorange="reversed", categoryorder="array", categoryarray=names, type="category"),
        "legend": {"orientation": "h", "y": -0.22}, "hovermode": "closest", **more,
    }  # fmt: skip


def _lines(costs: Costs) -> dict[str, Any]:
    lines = sorted((line for line in costs.lines if line.amount), key=lambda line: -line.amount)
    named = [(text(named_line(line, costs.services, short=True), 34), line.kinds) for line in lines[:_MOST]]
    if len(lines) > _MOST:
        rest = {kind: sum((line.kinds[kind] for line in lines[_MOST:]), Decimal(0)) for kind in KINDS}
        named.append((f"{len(lines) - _MOST} more lines", rest))
    names = [name for name, _ in named]
    currency = text(costs.currency)
    data = [
        _bars(KIND_NAMES[kind], numbers(float(kinds[kind]) for _, kinds in named), names, _LOOKS[kind],
              f"%{{x:,.4~r}} {currency} a month")
        for kind in KINDS
        if any(kinds[kind] for _, kinds in named)
    ]  # fmt: skip
    return {"data": data, "layout": _layout(f"{currency} a month", names, barmode="stack")}


def _routes(costs: Costs) -> dict[str, Any]:
    used = [one for one in costs.routes if one.requests is not None]
    whole = float(sum(one.amount for one in used)) or 1.0
    most = sorted(used, key=lambda one: -max(float(one.amount) / whole, one.requests or 0.0))[:_MOST]
    names = [text(one.name, 34) for one in most]
    data = [
        _bars("of the money that is used", numbers(float(one.amount) / whole for one in most), names, (SEA, ""),
              "%{x:.1%}"),
        _bars(f"of the {counted(costs)}", numbers(one.requests or 0.0 for one in most), names, (FOAM, "."), "%{x:.1%}"),
    ]  # fmt: skip
    layout = _layout("share", names, barmode="group")
    layout["xaxis"] |= {"tickformat": ".0%"}
    return {"data": data, "layout": layout}
