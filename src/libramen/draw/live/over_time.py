"""One or two replays over time on one axis: requests, latency, replicas, CPU in use; releases and faults are marked."""

from __future__ import annotations

from datetime import UTC
from typing import Any, Final, NamedTuple

import numpy as np

from libramen.base import units
from libramen.base.times import local_time
from libramen.draw.live.spec import BUOY, DUSK, INK, KELP, SEA, Live, View, axis, line_at, numbers, seconds_axis, text
from libramen.outcome.marks import Mark, marks_of
from libramen.outcome.outcome import Outcome
from libramen.outcome.windows import window_for, worst_stretch
from libramen.report.prose import and_list, clock

_MOST_SERVICES: Final = 4
_MOST_VIEWS: Final = 8
_LOOKS: Final = ((SEA, "solid"), (DUSK, "dash"))
"""Of the plans: colour, and dashes where there is none."""
_STOPS: Final = [
    {"dtickrange": [None, 60_000], "value": "%H:%M:%S\n%a %d %b"},
    {"dtickrange": [60_000, 86_400_000], "value": "%H:%M\n%a %d %b"},
    {"dtickrange": [86_400_000, None], "value": "%a %d %b\n%Y"},
]
"""How an instant is written on the axis, by the distance of its ticks [ms]."""
_ABOUT: Final = 1.5
"""A view of a release or a fault shows so many times its length before and after it, at least a quarter of an hour."""


def live_over_time(*outcomes: Outcome) -> list[Live]:
    """A figure of all of them, panel under panel."""
    first = outcomes[0]
    marks = [(outcome, mark) for outcome in outcomes for one in outcome.services.values() for mark in marks_of(one)]
    views = _views(first, marks)
    widths_s = _widths_s(first)
    narrow = [(from_s, to_s) for _, from_s, to_s in views[1:]] if widths_s[0] < widths_s[1] else []
    names = _services(outcomes)
    panels = ["requests / s", "p95 of the answered", *(_replicas_title(first, name) for name in names), "CPU in use"]
    data: list[dict[str, Any]] = []
    at_s = np.zeros(0)
    for number, outcome in enumerate(outcomes):
        series = [_Series(outcome.in_windows(width_s), width_s) for width_s in dict.fromkeys(widths_s)]
        at_s, curves = _curves(_merged(series, narrow), outcome, number, names)
        data += curves
    layout = _layout(panels, [1.25, 1.25, *(1.0 for _ in names), 0.8], first)
    goals = [goal for goal in first.objectives if goal.name == goal.key == "p95"]
    layout["shapes"] = [line_at(float(goal.wanted), along="x", of="2") for goal in goals]
    layout["shapes"] += [_shape(first, mark, outcomes.index(outcome)) for outcome, mark in marks]
    layout["annotations"] = _said(first, list(outcomes), marks)
    plans = and_list([outcome.plan.name for outcome in outcomes])
    windows = f"Windows are {units.show_duration(widths_s[1])} wide"
    if narrow:
        windows += f", and {units.show_duration(widths_s[0])} in the stretches that the buttons show"
    words = (
        f"{plans} over time on one axis: requests and failures, p95, replicas and CPU in use; releases and faults are "
        f"marked. {windows}. The text above says what happened."
    )
    shown = tuple(
        View(name, None if number == 0 else (_when(first, from_s), _when(first, to_s)))
        for number, (name, from_s, to_s) in enumerate(views)
    )
    spec = {"data": data, "layout": layout, "x": [_when(first, float(at)) for at in at_s]}
    return [Live(words, spec, 130 + 150 * len(panels), shown if len(shown) > 1 else ())]


def _when(outcome: Outcome, at_s: float) -> float:
    """An instant on the axis: milliseconds by the clock that the trace begins with, or hours."""
    if outcome.start is None:
        return round(at_s / 3600, 5)
    return 1000 * round(outcome.start.replace(tzinfo=UTC).timestamp() + at_s, 3)


def _widths_s(first: Outcome) -> tuple[float, float]:
    """Of windows in the worst stretch, and elsewhere [s]."""
    begin, end, _ = worst_stretch(first)
    wide = window_for(first.trace, 0.0, first.span_s)
    return min(wide, window_for(first.trace, begin, end)), wide


class _Series(NamedTuple):
    """A replay in windows of one width."""

    outcome: Outcome
    width_s: float

    def arrays(self) -> dict[str, np.ndarray]:
        """Begin, rates, p95, the busiest service's use of its CPU, and the ready replicas of each service."""
        series, width_s = self.outcome.series_arrays(), np.diff(self.outcome.run.edges_s)
        use = np.array([one.series_of_counts()["utilisation"] for one in self.outcome.services.values()])
        found = {
            "at_s": series["at_s"], "arrivals": series["arrivals"] / width_s,
            "failed": (series["arrivals"] - series["ok"]) / width_s, "p95": series["p95_s"],
            "use": np.nan_to_num(use).max(axis=0),
        }  # fmt: skip
        for name, one in self.outcome.services.items():
            found[f"ready {name}"] = one.series_of_counts()["ready"]
        return found


def _merged(series: list[_Series], narrow: list[tuple[float, float]]) -> dict[str, np.ndarray]:
    """One series: of narrow windows in some stretches, else of wide ones."""
    fine, wide = series[0], series[-1].arrays()
    if not narrow or fine is series[-1]:
        return wide
    of_fine = fine.arrays()
    step_s = series[-1].width_s
    ends = [(step_s * np.floor(from_s / step_s), step_s * np.ceil(to_s / step_s)) for from_s, to_s in narrow]

    def inside(at_s: np.ndarray) -> np.ndarray:
        found = np.zeros(len(at_s), bool)
        for from_s, to_s in ends:
            found |= (at_s >= from_s - 1e-6) & (at_s < to_s - 1e-6)
        return found

    kept, put = ~inside(wide["at_s"]), inside(of_fine["at_s"])
    order = np.argsort(np.concatenate([wide["at_s"][kept], of_fine["at_s"][put]]), kind="stable")
    return {name: np.concatenate([wide[name][kept], of_fine[name][put]])[order] for name in wide}


def _services(outcomes: tuple[Outcome, ...]) -> list[str]:
    """Those whose replicas are worth a panel: whose number changes or is another in each plan, the busiest first."""

    def interest(name: str) -> tuple[bool, float]:
        runs = [outcome.services[name] for outcome in outcomes if name in outcome.services]
        counts = {count for one in runs for count in (one.replicas_min, one.replicas_max)}
        return len(counts) > 1, max(max(one.utilisation or 0.0, one.slots_taken or 0.0) for one in runs)

    names = list(outcomes[0].services)
    chosen = sorted(names, key=interest, reverse=True)[:_MOST_SERVICES]
    return [name for name in names if name in chosen]


def _replicas_title(outcome: Outcome, name: str) -> str:
    label = outcome.services[name].label
    return f"{text(label, 18)}, replicas" if label else "replicas"


def _curves(
    series: dict[str, np.ndarray], outcome: Outcome, number: int, names: list[str]
) -> tuple[np.ndarray, list[dict[str, Any]]]:
    """The curves of one plan, and where their points are [s]; each can be hidden by its name in the legend."""
    colour, dash = _LOOKS[number]
    plan = text(outcome.plan.name, 20)

    def curve(panel: int, name: str, values: np.ndarray, said: str, **more: Any) -> dict[str, Any]:
        return {
            "name": name, "y": numbers(values), "mode": "lines", "yaxis": "y" if panel == 1 else f"y{panel}",
            "legendgroup": plan, "showlegend": False, "hovertemplate": f"{said}<extra>{name}</extra>", **more,
            "line": {"color": colour, "dash": dash, "width": 1.8, **more.get("line", {})},
        }  # fmt: skip

    found = []
    if number == 0:
        every = curve(
            1, "arrivals", series["arrivals"], "%{y:.3~s} requests/s", showlegend=True, legendgroup="arrivals",
            line={"color": INK, "dash": "solid", "width": 1, "shape": "hv"},
        )  # fmt: skip
        found.append(every)
    found += [
        curve(
            1, f"{plan}: failed", series["failed"], "%{y:.3~s} failed/s", fill="tozeroy",
            showlegend=bool(series["failed"].any()), legendgroup=f"{plan} failed", line={"color": BUOY, "shape": "hv"},
        ),
        curve(2, plan, series["p95"], "p95 %{y:.3s}s", showlegend=True),
    ]  # fmt: skip
    for panel, name in enumerate(names, 3):
        if name in outcome.services:
            found.append(curve(panel, plan, series[f"ready {name}"], "%{y:.3~r} ready", line={"shape": "hv"}))
    found.append(curve(3 + len(names), plan, series["use"], "%{y:.1%} CPU in use", line={"shape": "hv"}))
    return series["at_s"], found


def _layout(panels: list[str], heights: list[float], first: Outcome) -> dict[str, Any]:
    """A vertical axis a panel, one horizontal axis for all."""
    gap = 0.035
    room = (1 - gap * (len(panels) - 1)) / sum(heights)
    layout: dict[str, Any] = {
        "hovermode": "x unified", "hoversubplots": "axis", "showlegend": True, "margin": {"t": 40},
        "legend": {"orientation": "h", "y": 1.0, "yanchor": "bottom", "x": 0}, "dragmode": "zoom",
    }  # fmt: skip
    top = 1.0
    for number, (title, height) in enumerate(zip(panels, heights, strict=True), 1):
        domain = [max(0.0, top - height * room), top]
        top = domain[0] - gap
        special: dict[str, Any] = {"rangemode": "tozero"}
        if number == len(panels):
            special = {"tickformat": ".0%", "range": [0, 1.05]}
        of = seconds_axis(title) if number == 2 else axis(title, **special)
        layout["yaxis" if number == 1 else f"yaxis{number}"] = {**of, "domain": domain, "anchor": "x"}
    start = first.start
    if start is None:
        layout["xaxis"] = axis("hours from the start")
    else:
        ends = local_time(start, first.span_s)
        moved = ends is not None and ends.utcoffset() != start.utcoffset()
        by = f"local time ({start.tzinfo}){', by the clock at the start' if moved else ''}"
        layout["xaxis"] = axis(by, type="date", hoverformat="%a %d %b %Y %H:%M:%S", tickformatstops=_STOPS)
    last = len(panels)
    layout["xaxis"] |= {"anchor": f"y{last}", "range": [_when(first, 0.0), _when(first, first.span_s)]}
    return layout


def _shape(first: Outcome, mark: Mark, number: int) -> dict[str, Any]:
    """A release or a fault across all panels."""
    colour = BUOY if mark.is_fault else KELP
    return {
        "type": "rect", "xref": "x", "yref": "paper", "y0": 0, "y1": 1, "layer": "below",
        "x0": _when(first, mark.began_s), "x1": _when(first, max(mark.ended_s, mark.began_s + first.span_s / 2000)),
        "fillcolor": colour, "opacity": 0.25, "line": {"width": 1, "color": colour, "dash": ("solid", "dot")[number]},
    }  # fmt: skip


def _said(first: Outcome, outcomes: list[Outcome], marks: list[tuple[Outcome, Mark]]) -> list[dict[str, Any]]:
    """The name of each kind of mark once, in the first panel."""
    named: dict[str, Mark] = {}
    for outcome, mark in marks:
        plan = f" ({text(outcome.plan.name, 20)})" if len(outcomes) > 1 else ""
        named.setdefault(f"{text(mark.name)}{plan}", mark)
    return [
        {
            "text": name, "x": _when(first, mark.began_s), "xref": "x", "xanchor": "left", "y": 1, "yref": "paper",
            "yanchor": "top", "yshift": -15 * (place % 4), "showarrow": False,
            "font": {"size": 11, "color": INK}, "bgcolor": "card", "borderpad": 1,
        }
        for place, (name, mark) in enumerate(named.items())
    ]  # fmt: skip


def _views(first: Outcome, marks: list[tuple[Outcome, Mark]]) -> list[tuple[str, float, float]]:
    """Names and ends [s]: the whole, the worst stretch of the first plan, and releases and faults."""
    begin, end, what = worst_stretch(first)
    views = [("All of it", 0.0, first.span_s)]
    if end - begin < first.span_s:
        views.append((f"{what[0].upper()}{what[1:]}, {clock(first, begin, seconds=False)}", begin, end))
    seen: set[tuple[str, float]] = set()
    for _, mark in marks:
        if (mark.name, mark.began_s) not in seen and len(views) < _MOST_VIEWS:
            seen.add((mark.name, mark.began_s))
            around = max(900.0, _ABOUT * (mark.ended_s - mark.began_s))
            name = f"{mark.name[0].upper()}{mark.name[1:]}, {clock(first, mark.began_s, seconds=False)}"
            from_s, to_s = max(0.0, mark.began_s - around), min(first.span_s, mark.ended_s + around)
            if to_s - from_s < first.span_s:
                views.append((name, from_s, to_s))
    return views
