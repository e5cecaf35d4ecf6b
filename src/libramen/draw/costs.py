"""The picture of where the money of a month goes: by line, by route, and by hour."""

from __future__ import annotations

from decimal import Decimal
from typing import TYPE_CHECKING, Any, Final

import numpy as np
from matplotlib.patches import Patch

from libramen.base import units
from libramen.bill.costs import KINDS, Costs
from libramen.draw.style import DUSK, FOAM, INK, KELP, SAND, SEA, dress, new_figure, plain
from libramen.outcome.outcome import Outcome
from libramen.prices.lines import named as named_line
from libramen.report.costs import KIND_NAMES, counted, said

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

_LOOKS: Final = {
    "used": (SEA, ""), "idle": (FOAM, "////"), "starting": (SAND, "...."), "leaving": (DUSK, "\\\\\\\\"),
    "committed": (KELP, "xxxx"), "standing": ("white", ""),
}  # fmt: skip
_MOST_LINES: Final = 9
_MOST_ROUTES: Final = 8


def draw_costs(outcome: Outcome) -> Figure:
    """Bars of the lines by what they are paid for; routes by money and by requests; and the hours."""
    costs = outcome.costs
    figure = new_figure(
        f"{outcome.plan.name}: where {units.about_money(costs.month, costs.currency)} a month go",
        "; ".join(said(costs)) or "each line of the bill by what it is paid for",
        (f"A month here is {outcome.bill.note}.",),
    )
    engine: Any = figure.get_layout_engine()
    engine.set(rect=(0.005, 0.03, 0.99, 0.875))
    upper, lower = np.asarray(figure.subfigures(2, 1, height_ratios=(1.25, 1.0))).tolist()
    lines, routes = upper.subplots(1, 2, width_ratios=(1.25, 1.0))
    _lines(lines, costs)
    _routes(routes, costs)
    _hours(lower.subplots(1, 1), costs)
    there = {cost.name for cost in costs.kinds if cost.amount}
    handles = [
        Patch(facecolor=_LOOKS[kind][0], edgecolor=INK, hatch=_LOOKS[kind][1], label=KIND_NAMES[kind])
        for kind in KINDS
        if kind in there
    ]
    lower.legend(handles=handles, loc="outside lower center", ncols=len(handles), frameon=False)
    return figure


def _lines(axes: Axes, costs: Costs) -> None:
    """Each line of the bill as a bar of its kinds; small ones together."""
    named = [
        (named_line(line, costs.services, short=True), line.amount, line.kinds)
        for line in sorted(costs.lines, key=lambda line: -line.amount)
        if line.amount
    ]
    if len(named) > _MOST_LINES:
        rest = named[_MOST_LINES - 1 :]
        kinds = {kind: sum((one[2][kind] for one in rest), Decimal(0)) for kind in KINDS}
        named = [*named[: _MOST_LINES - 1], (f"{len(rest)} more lines", sum(kinds.values(), Decimal(0)), kinds)]
    most = max((float(amount) for _, amount, _ in named), default=1.0)
    for place, (_, amount, kinds) in enumerate(named):
        left = 0.0
        for kind in KINDS:
            width = float(kinds[kind])
            if width > 0:
                colour, hatch = _LOOKS[kind]
                axes.barh(place, width, left=left, height=0.62, color=colour, edgecolor=INK, hatch=hatch, linewidth=0.6)
                left += width
        axes.text(left + 0.012 * most, place, f"{amount:,}", va="center", fontsize=9, color=INK)
    axes.set_yticks(range(len(named)), [plain(_cut(name)) for name, _, _ in named], fontsize=9)
    axes.invert_yaxis()
    axes.set_xlim(0, 1.16 * most)
    dress(axes, y_label="")
    axes.set_xlabel(f"{plain(costs.currency)} a month", color=INK)
    axes.set_title("the bill, by what is paid for", color=INK, fontsize=11, loc="left")


def _routes(axes: Axes, costs: Costs) -> None:
    """Of each route its share of the money that is used, and of the requests."""
    used = [one for one in costs.routes if one.requests is not None]
    whole = float(sum(one.amount for one in used)) or 1.0
    most = sorted(used, key=lambda one: -max(float(one.amount) / whole, one.requests or 0.0))[:_MOST_ROUTES]
    for place, one in enumerate(most):
        shares = (float(one.amount) / whole, one.requests or 0.0)
        for number, (share, colour, hatch) in enumerate(zip(shares, (SEA, "white"), ("", "...."), strict=True)):
            at = place + (number - 0.5) * 0.36
            axes.barh(at, 100 * share, height=0.34, color=colour, edgecolor=INK, hatch=hatch, linewidth=0.6)
            axes.text(100 * share + 0.8, at, f"{100 * share:.3g} %", va="center", fontsize=8, color=INK)
    axes.set_yticks(range(len(most)), [plain(_cut(one.name)) for one in most], fontsize=9)
    axes.invert_yaxis()
    top = max((max(float(one.amount) / whole, one.requests or 0.0) for one in most), default=1.0)
    axes.set_xlim(0, 118 * top)
    dress(axes, y_label="")
    axes.set_xlabel("%", color=INK)
    axes.set_title(f"routes: share of what is used, and of the {counted(costs)}", color=INK, fontsize=11, loc="left")
    axes.legend(
        handles=[
            Patch(facecolor=SEA, edgecolor=INK, label="of the money that is used"),
            Patch(facecolor="white", edgecolor=INK, hatch="....", label=f"of the {counted(costs)}"),
        ],
        loc="lower right",
        fontsize=9,
        framealpha=0.9,
    )


def _hours(axes: Axes, costs: Costs) -> None:
    """What each hour costs, and its share of the requests."""
    names = [one.name for one in costs.hours]
    at = np.arange(len(names))
    money = np.array([float(one.amount) for one in costs.hours])
    requests = np.array([one.requests or 0.0 for one in costs.hours])
    axes.bar(at, money, width=0.92, color=FOAM, edgecolor=INK, linewidth=0.3, label="money")
    dress(axes, y_label=f"{plain(costs.currency)} a month")
    other = axes.twinx()
    other.plot(at, 100 * requests, color=SEA, linewidth=1.6, marker="o" if len(at) <= 48 else "", markersize=3)
    other.set_ylabel(f"% of the {counted(costs)} (line)", color=INK)
    other.set_ylim(0, 108 * float(requests.max(initial=0.0)) or 1.0)  # its marks are whole
    for side in ("top", "left"):
        other.spines[side].set_visible(False)
    is_week = any(" " in name for name in names)
    if is_week:
        days = [place for place, name in enumerate(names) if name.endswith(" 00")]
        axes.set_xticks(days, [names[place].split()[0] for place in days])
        axes.set_xlabel("hour of the week, local", color=INK)
    else:
        step = max(1, len(names) // 24)
        axes.set_xticks(at[::step], names[::step])
        is_day = len(names) <= 24 and names == sorted(names) and all(len(name) == 2 for name in names)
        axes.set_xlabel("hour of the day, local" if is_day else "hour of the trace", color=INK)
    axes.set_xlim(-0.7, len(names) - 0.3)
    axes.set_title(f"by hour: money (bars) and {counted(costs)} (line)", color=INK, fontsize=11, loc="left")


def _cut(name: str) -> str:
    return name if len(name) <= 42 else f"{name[:40]}..."
