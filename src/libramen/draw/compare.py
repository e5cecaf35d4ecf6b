"""The picture of a comparison: cost against p95, and cost against failures."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any, Final

from matplotlib.lines import Line2D
from matplotlib.ticker import FuncFormatter, LogLocator, NullFormatter

from libramen.base import units
from libramen.base.ranks import PERCENTILES, percentile_of
from libramen.draw.labels import place_labels
from libramen.draw.style import BUOY, INK, KELP, dress, new_figure, plain, tier_looks
from libramen.outcome.figures import Figures
from libramen.report.comparison import months_said
from libramen.report.prose import times

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from libramen.questions.compare import Comparison

_LEGEND: Final = 0.065
"""How high the legend is, as a share of the figure: it stands between the panels and the notes."""
_LEAST_FAILED: Final = 1e-6


def draw_comparison(comparison: Comparison, percentile: str | None = None) -> Figure:
    """Two panels over the cost of a month: how quickly most were answered, and the share of requests that failed.

    Every plan is one marker with its name; filled if it meets all objectives, else open. The
    objectives are lines, and what meets both objectives of a panel is shaded.

    Args:
        comparison: of one plan or more.
        percentile: within what time so many were answered: p50, p90, p95, p99 or p999. Default: that of the first
            objective about latency, or p95.

    Raises:
        OutputError: there is no such percentile.
    """
    outcomes = comparison.figures
    first = outcomes[0]
    currency = first.bill.currency
    figure = new_figure(
        _title(comparison),
        f"{times(len(outcomes), 'plan')}, {first.n_requests:,} requests over {units.show_duration(first.span_s)}; "
        "filled: all objectives met, open: not; shaded: what the objectives of the panel allow",
        [*months_said((figures.plan, figures.bill.note) for figures in outcomes)],
    )
    engine: Any = figure.get_layout_engine()
    left_at, foot, width, height = engine.get()["rect"]
    engine.set(rect=(left_at, foot + _LEGEND, width, height - _LEGEND))
    left, right = figure.subplots(1, 2)
    wanted: dict[str, float] = {goal.name: float(goal.wanted) for goal in outcomes[0].objectives}
    shown = percentile_of(percentile or next((key for key in wanted if key in PERCENTILES), "p95"))
    _latency_panel(left, outcomes, wanted, currency, shown)
    _failure_panel(right, outcomes, wanted, currency)
    looks = tier_looks(outcome.tier_of_arrivals for outcome in outcomes)
    handles = [
        Line2D(
            [],
            [],
            color=colour,
            marker=marker,
            linestyle="none",
            markeredgecolor=INK,
            markersize=9,
            label=plain(name),
        )
        for name, (colour, marker) in looks.items()
    ]
    figure.legend(
        handles=handles, title="tier", loc="lower center", bbox_to_anchor=(0.5, foot), ncols=len(handles), frameon=False
    )
    return figure


def _title(comparison: Comparison) -> str:
    best = comparison.cheapest
    if best is None:
        return f"No plan meets every objective; {comparison.nearest.plan} comes nearest"
    cost = units.about_money(best.bill.month, best.bill.currency)
    return f"{best.plan} is the cheapest plan that meets every objective: {cost} a month"


def _latency_panel(
    axes: Axes, outcomes: tuple[Figures, ...], wanted: dict[str, float], currency: str, name: str
) -> None:
    """Within what time so many of all requests were answered; plans that never answered so many stand in a strip above.

    So a plan that fails most of its requests, and answers the few others quickly, does not stand among the good ones.
    """
    answered = [outcome.month.answered_s[name] for outcome in outcomes]
    highest = max([*(value for value in answered if value is not None), wanted.get(name, 0.0), 1e-9])
    never = highest * 1.9
    points = [
        (float(outcome.bill.month), never if value is None else max(value, 1e-9))
        for outcome, value in zip(outcomes, answered, strict=True)
    ]
    axes.set_yscale("log")
    dress(axes, y_label=f"time within which {100 * PERCENTILES[name]:.4g} % of all requests were answered")
    axes.yaxis.set_major_locator(LogLocator(base=10, subs=(1, 1.5, 2, 3, 4, 5, 7)))
    axes.yaxis.set_major_formatter(
        FuncFormatter(lambda value, _: units.show_duration(value) if None not in answered or value < strip else "")
    )
    axes.yaxis.set_minor_formatter(NullFormatter())
    strip = highest * 1.45
    _points(axes, list(outcomes), points, outcomes, wanted.get("month"), wanted.get(name), currency)
    if None in answered:
        low, high = axes.get_ylim()
        axes.axhspan(strip, high, facecolor="none", edgecolor=BUOY, hatch="//", alpha=0.35)
        axes.set_ylim(low, high)
        axes.annotate(
            f"more than {100 * (1 - PERCENTILES[name]):.4g} % failed", (0.99, highest * 1.5),
            xycoords=("axes fraction", "data"), ha="right", va="bottom", fontsize=9, color=INK, style="italic",
            bbox={"facecolor": "white", "edgecolor": "none", "pad": 1.5},
        )  # fmt: skip


def _failure_panel(axes: Axes, outcomes: tuple[Figures, ...], wanted: dict[str, float], currency: str) -> None:
    points = [(float(o.bill.month), max(_LEAST_FAILED, 1 - (o.month.availability or 0))) for o in outcomes]
    axes.set_yscale("log")
    dress(axes, y_label="availability: share of requests answered")
    axes.yaxis.set_major_locator(LogLocator(base=10, numticks=12))
    axes.yaxis.set_major_formatter(FuncFormatter(lambda failed, _: _availability_label(failed)))
    axes.yaxis.set_minor_formatter(NullFormatter())
    axes.invert_yaxis()  # better is higher, and each step up fails a tenth as many
    limit = 1 - wanted["availability"] if "availability" in wanted else None
    _points(axes, list(outcomes), points, outcomes, wanted.get("month"), limit, currency)


def _availability_label(failed: float) -> str:
    if failed <= _LEAST_FAILED * 1.01:
        return "100 %"
    return f"{100 * (1 - failed):.{max(0, math.ceil(-math.log10(failed) - 1e-9) - 2)}f} %"


def _points(
    axes: Axes,
    shown: list[Figures],
    points: list[tuple[float, float]],
    outcomes: tuple[Figures, ...],
    most_cost: float | None,
    limit: float | None,
    currency: str,
) -> None:
    """Markers, names, objectives and limits of one panel."""
    looks = tier_looks(outcome.tier_of_arrivals for outcome in outcomes)
    costs = [cost for cost, _ in points]
    values = [value for _, value in points] + ([limit] if limit else [])
    axes.set_xlim(0, 1.18 * max([*costs, most_cost or 0, 1e-9]))
    if values:
        low, high = min(values), max(values)
        axes.set_ylim(*((high * 2.2, low / 2.2) if axes.yaxis_inverted() else (low / 1.5, high * 1.7)))
    axes.set_xlabel(f"cost of a month [{currency}]", color=INK, fontsize=10)
    _objectives(axes, most_cost, limit, currency)
    for outcome, (cost, value) in zip(shown, points, strict=True):
        colour, marker = looks[outcome.tier_of_arrivals]
        style: dict[str, Any] = {
            "markeredgecolor": INK,
            "markeredgewidth": 1.2,
            "markersize": 11,
            "clip_on": False,
        }
        if outcome.meets_all:
            axes.plot(cost, value, marker=marker, color=colour, zorder=4, **style)
        else:
            style |= {"markeredgecolor": colour, "markeredgewidth": 2.4}
            axes.plot(cost, value, marker=marker, color=colour, markerfacecolor="white", zorder=4, **style)
    names = [f"{outcome.plan}, {units.about_money(outcome.bill.month, currency)}" for outcome in shown]
    place_labels(axes, points, names, at_x=most_cost, at_y=limit)


def _objectives(axes: Axes, most_cost: float | None, limit: float | None, currency: str) -> None:
    line: dict[str, Any] = {"color": INK, "linewidth": 1.2, "linestyle": (0, (5, 3)), "zorder": 2}
    note: dict[str, Any] = {"color": INK, "fontsize": 8.5, "style": "italic"}
    (x_low, x_high), (y_bottom, y_top) = axes.get_xlim(), axes.get_ylim()
    good = y_top if axes.yaxis_inverted() else y_bottom
    if limit is not None:
        axes.axhline(limit, **line)
        text = (
            f"at least {_availability_label(limit)}"
            if axes.yaxis_inverted()
            else f"at most {units.show_duration(limit)}"
        )
        axes.annotate(text, (x_high, limit), (-2, 3), textcoords="offset points", ha="right", **note)
    if most_cost is not None:
        axes.axvline(most_cost, **line)
        axes.annotate(
            f"at most {most_cost:g} {currency}", (most_cost, y_bottom), (4, 5), textcoords="offset points",
            rotation=90, va="bottom", **note,
        )  # fmt: skip
    if most_cost is not None or limit is not None:
        axes.fill_between(
            [x_low, x_high if most_cost is None else most_cost],
            y_bottom + y_top - good if limit is None else limit,
            good,
            color=KELP,
            alpha=0.13,
            linewidth=0,
            zorder=1,
        )
