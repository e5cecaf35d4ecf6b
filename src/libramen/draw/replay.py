"""The picture of one replay: what happened over the time of the trace."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

import numpy as np
from matplotlib.ticker import FuncFormatter, LogLocator, NullFormatter, PercentFormatter

from libramen.base import units
from libramen.base.times import local_time
from libramen.draw import style as looks
from libramen.draw.stretch import Stretch, stretches
from libramen.draw.style import BUOY, DUSK, FOAM, INK, KELP, SAND, SEA, date_axis, dress, duration_ticks, new_figure
from libramen.engine.border.records import ENDINGS
from libramen.outcome.marks import marks_of
from libramen.outcome.of_requests import OfRequests
from libramen.outcome.outcome import Outcome
from libramen.outcome.service_outcome import ServiceOutcome
from libramen.report.story import show_latency
from libramen.report.stretch import stretch_notes, stretch_title

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure


_MOST_FINDINGS: Final = 3


def draw_one(outcome: Outcome, only: ServiceOutcome, from_s: float | None = None, to_s: float | None = None) -> Figure:
    """Four panels over the time of the trace: requests and endings, latency, replicas, utilisation.

    Beside a long one its worst stretch in finer windows; or only the stretch from `from_s` to `to_s` [s].
    """
    shown, hosting = stretches(outcome, from_s, to_s), only.hosting
    figure = new_figure(
        *over(outcome, shown, f"tier {hosting.tier_name}, size {hosting.size_name}; "), notes=under(outcome, shown)
    )
    panels = figure.subplots(
        4, len(shown), sharex="col", sharey="row", height_ratios=(1.25, 1.15, 1, 0.8), squeeze=False,
        width_ratios=WIDTHS[: len(shown)],
    )  # fmt: skip
    for column, stretch in zip(panels.T, shown, strict=True):
        seen = stretch.outcome
        (one,) = seen.services.values()
        series = stretch.inside(seen.series_arrays())
        times = times_of(seen, series["at_s"])
        draw_requests(column[0], times, series, stretch.width_s)
        draw_latency(column[1], times, series, seen)
        _replicas(column[2], times, series, one)
        _utilisation(column[3], times, series)
        draw_events(column, one)
        for axes in column:
            axes.margins(x=0.005)
            stretch.limit(axes)
        time_axis(column[3], seen, 14 if len(shown) == 1 else 10, stretch.from_s)
    finish_columns(figure, panels, shown)
    return figure


def over(outcome: Outcome, shown: list[Stretch], what: str, left_out: str = "") -> tuple[str, str]:
    """What stands over a picture, in two lines: of the stretch that it shows, or of the whole."""
    asked = shown[0].asked
    n, failed = outcome.n_requests, outcome.n_requests - outcome.endings["ok"]
    whose = "requests" if outcome.weighted_replays.is_the_trace else "a month's requests"
    title = (
        f"{outcome.plan.name}: {units.about_money(outcome.bill.month, outcome.bill.currency)} a month, "
        f"{in_time(outcome)}, {units.show_availability(outcome.month.availability)} of {whose} answered"
    )
    if asked is not None:
        n, failed, title = asked.n_requests, asked.failed, stretch_title(outcome, asked)
    return title, f"{what}{n:,} requests, {failed:,} failed; windows of {windows_of(shown)}{left_out}"


def under(outcome: Outcome, shown: list[Stretch]) -> list[str]:
    """What stands under a picture: what happened in the stretch that it shows, or what was found of the whole."""
    asked = shown[0].asked
    if asked is not None:
        return [f"- {sentence}" for sentence in stretch_notes(outcome, asked)[: 2 * _MOST_FINDINGS]]
    found = [f"- {finding.text}" for finding in outcome.findings[:_MOST_FINDINGS]]
    return [*found, f"A month here is {outcome.bill.note}."]


WIDTHS: Final = (1.35, 1.0)
"""Of the columns: the whole, and a stretch of it."""


def windows_of(shown: list[Stretch]) -> str:
    """The widths of the windows: `1 min`, or `5 min and 10 s`."""
    return " and ".join(units.show_duration(stretch.width_s) for stretch in shown)


def finish_columns(figure: Figure, panels: Any, shown: list[Stretch]) -> None:
    """Titles of the columns, one legend a row, no labels between columns."""
    for column, stretch in zip(panels.T, shown, strict=True):
        if stretch.name and stretch.asked is None:
            column[0].set_title(stretch.name, fontsize=10, color=INK, loc="left")
    for row in panels:
        found: dict[str, Any] = {}
        for axes in row:
            for handle, label in zip(*axes.get_legend_handles_labels(), strict=True):
                found.setdefault(label, handle)
        row[-1].legend(
            found.values(), found.keys(), loc="center left", bbox_to_anchor=(1.005, 0.5), frameon=False, fontsize=9
        )
        for axes in row[1:]:
            axes.set_ylabel("")
    figure.align_ylabels(panels[:, 0])


def in_time(outcome: Outcome) -> str:
    """How quick it was, in a month: of all requests, where there is an objective for them."""
    for goal in outcome.objectives:
        if goal.within is not None and goal.name == goal.key:
            return f"{units.show_availability(goal.within)} within {units.show_duration(float(goal.wanted))}"
    month = outcome.month
    return f"p95 {show_latency(month.latency_s['p95'], hides_failures=outcome.figures().hides_failures)}"


def times_of(outcome: OfRequests, at_s: np.ndarray) -> Any:
    """Positions on the time axis: dates where the start is known, else hours."""
    return looks.times_of(outcome.start, at_s)


def time_axis(axes: Axes, outcome: Outcome, most: int = 14, from_s: float = 0.0) -> None:
    """Local time where it is known, else hours from the start.

    Args:
        axes: of the lowest panel.
        outcome: the replay.
        most: so many ticks at most.
        from_s: where the panel begins [s].
    """
    start = outcome.start
    if start is None:
        axes.set_xlabel("hours from the start", color=INK)
        return
    date_axis(axes, start.tzinfo, most)
    begins = local_time(start, max(0.0, from_s))
    axes.set_xlabel(f"local time ({start.tzinfo}), from {begins:%a %d %b %Y}", color=INK)


def draw_requests(axes: Axes, times: Any, series: dict[str, np.ndarray], width_s: float) -> None:
    """What arrived in each window, and how it ended."""
    per_second = {name: series[name] / width_s for name in ENDINGS}
    axes.fill_between(times, per_second["ok"], step="post", color=FOAM, label="ok", linewidth=0)
    base = per_second["ok"].astype(float)
    failures = [name for name in ENDINGS if name != "ok" and series[name].any()]
    for name, hatch in zip(failures, ("", "////", "....", "xxxx", "\\\\\\\\"), strict=False):
        top = base + per_second[name]
        axes.fill_between(
            times, base, top, step="post", facecolor=BUOY if not hatch else "white", edgecolor=BUOY,
            hatch=hatch, linewidth=0.4, label=name.replace("_", " "),
        )  # fmt: skip
        base = top
    axes.step(times, base, where="post", color=INK, linewidth=0.8, label="arrivals")
    highest = 1.12 * float(np.max(base, initial=0.0))
    in_failure = series["arrivals"] > series["ok"]
    if in_failure.any():  # a window of a minute is a pixel wide on a day: mark those with failures
        axes.plot(
            times[in_failure], np.full(np.count_nonzero(in_failure), -0.06 * highest), linestyle="none", marker="|",
            markersize=7, markeredgewidth=1.4, color=BUOY, label="some failed",
        )  # fmt: skip
    axes.set_ylim(-0.12 * highest if in_failure.any() else 0.0, max(highest, 1e-9))
    dress(axes, y_label="requests / s")


def draw_latency(axes: Axes, times: Any, series: dict[str, np.ndarray], outcome: Outcome) -> None:
    """Percentiles of latency in each window, and what is wanted of them."""
    # Where more than 1 % failed, the latencies of the others say too little: they are only hinted at.
    failing = series["arrivals"] - series["ok"] > 0.01 * series["arrivals"]
    # The tail of a window of few requests is that of single ones: as a line it would hide the others.
    low, high = (np.where(failing, np.nan, series[name]) for name in ("p95_s", "p99_s"))
    axes.fill_between(times, low, high, color=DUSK, alpha=0.22, linewidth=0, label="p95 to p99")
    for name, colour, style in (("p95_s", SEA, "-"), ("p50_s", KELP, "--")):
        axes.plot(
            times, np.where(failing, np.nan, series[name]), color=colour, linestyle=style, linewidth=1.3,
            label=name.removesuffix("_s"),
        )  # fmt: skip
        if failing.any():
            axes.plot(times, np.where(failing, series[name], np.nan), color=colour, linewidth=0.9, alpha=0.3)
    if failing.any():
        axes.plot([], [], color=SEA, linewidth=0.9, alpha=0.3, label="pale: more\nthan 1 % failed")
    _cold_waits(axes, outcome)
    axes.set_yscale("log")
    for goal in outcome.objectives:
        if goal.name in {"p50", "p95", "p99"}:
            axes.axhline(
                float(goal.wanted),
                color=INK,
                linewidth=1.1,
                linestyle=(0, (5, 3)),
                label=f"wanted {goal.name}",
            )
    axes.yaxis.set_major_locator(LogLocator(base=10, subs=(1, 3)))
    axes.yaxis.set_major_formatter(duration_ticks())
    axes.yaxis.set_minor_formatter(NullFormatter())
    dress(axes, y_label="latency (ok)")


def _replicas(axes: Axes, times: Any, series: dict[str, np.ndarray], outcome: ServiceOutcome) -> None:
    ready, coming = series["ready"], series["coming"]
    axes.fill_between(times, ready, step="post", color=SEA, alpha=0.35, linewidth=0, label="ready")
    # Broad and pale beneath: where as many are paid as are ready it is seen on both sides.
    axes.step(times, series["paid"], where="post", color=SAND, linewidth=4.5, alpha=0.75, label="paid")
    axes.step(times, ready, where="post", color=SEA, linewidth=1.2)
    if coming.any():
        axes.fill_between(
            times, ready, ready + coming, step="post", facecolor=SAND, edgecolor=INK, hatch="////",
            linewidth=0.3, label="coming",
        )  # fmt: skip
    top = max(2.0, 1.15 * float(np.max(ready + coming)))
    wanted = _wanted(outcome, series["at_s"])
    if wanted is not None:
        axes.step(times, wanted, where="post", color=DUSK, linewidth=1.0, linestyle="--", label="wanted")
        top = max(top, 1.15 * float(np.max(wanted, where=np.isfinite(wanted), initial=0.0)))
        _decisions(axes, outcome, top)
    axes.set_ylim(-0.14 * top if wanted is not None else 0, top)
    axes.yaxis.set_major_formatter(FuncFormatter(lambda n, _: f"{n:.0f}" if abs(n - round(n)) < 1e-9 else ""))
    dress(axes, y_label="replicas")


def _wanted(outcome: ServiceOutcome, at_s: np.ndarray) -> np.ndarray | None:
    """What the rule wanted last at the start of each window, within its limits; None: there is no rule."""
    decisions = outcome.run.decisions
    if not len(decisions):
        return None
    limits = decisions.column("floor"), decisions.column("ceiling")
    wanted = np.append(np.clip(decisions.column("wanted"), *limits), np.nan).astype(float)
    found: np.ndarray = wanted[np.searchsorted(decisions.column("at_s"), at_s, side="right") - 1]
    return found


def _decisions(axes: Axes, outcome: ServiceOutcome, top: float) -> None:
    """Orders and drains under the panel, each at its time."""
    decisions = outcome.run.decisions
    at_s = decisions.column("at_s")
    within = at_s < outcome.run.span_s
    for marker, colour, label, acted in (
        ("^", INK, "ordered", decisions.column("ordered") > 0),
        ("v", "white", "removed", decisions.column("cancelled") + decisions.column("drained") > 0),
    ):
        if (acted & within).any():
            times = times_of(outcome, at_s[acted & within])
            axes.plot(
                times, np.full(len(times), -0.07 * top), linestyle="none", marker=marker, markersize=5,
                markerfacecolor=colour, markeredgecolor=INK, markeredgewidth=0.7, label=label,
            )  # fmt: skip


def _cold_waits(axes: Axes, outcome: Outcome) -> None:
    """Requests that waited for a cold start, and for how long."""
    waits = outcome.waits
    if waits is not None and len(waits.wait_s):
        axes.plot(
            times_of(outcome, waits.at_s), waits.wait_s, linestyle="none", marker="D", markersize=3.5,
            markerfacecolor=SAND, markeredgecolor=INK, markeredgewidth=0.5, label="wait for a\ncold start",
        )  # fmt: skip


def _utilisation(axes: Axes, times: Any, series: dict[str, np.ndarray]) -> None:
    axes.step(times, series["utilisation"], where="post", color=SEA, linewidth=1.2, label="CPU in use")
    axes.set_ylim(0, 1.05)
    axes.yaxis.set_major_formatter(PercentFormatter(1.0, decimals=0))
    dress(axes, y_label="utilisation")


def draw_events(panels: Any, outcome: ServiceOutcome) -> None:
    """Releases are shaded from begin to end in every panel, faults marked, and both are named in the first.

    Of faults those are shaded that change how quick a fleet is; the others are over at once.
    """
    named: set[str] = set()
    for began_s, end_s, name, is_fault in marks_of(outcome):
        colour = BUOY if is_fault else DUSK
        began, ended = (float(at) for at in times_of(outcome, np.array([began_s, end_s])))
        style_of = "-" if colour == DUSK else (0, (1, 1.5))
        for axes in panels:
            if end_s > began_s:
                axes.axvspan(began, ended, color=colour, alpha=0.18, linewidth=0)
            axes.axvline(began, color=colour, linewidth=1.0, linestyle=style_of)
        if name not in named:
            panels[0].annotate(
                name, (began, 1.0), (4, -4 - 12 * (len(named) % 3)), xycoords=("data", "axes fraction"),
                textcoords="offset points", va="top", fontsize=9, color=colour, annotation_clip=True,
            )  # fmt: skip
            named.add(name)
