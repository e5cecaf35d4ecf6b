"""How results are printed for people."""

from __future__ import annotations

import shlex
import sys
import textwrap
from typing import TYPE_CHECKING, Self

import numpy as np
from rich import box
from rich.console import Console
from rich.markup import escape
from rich.progress import BarColumn, Progress, TaskProgressColumn, TextColumn, TimeRemainingColumn
from rich.table import Table

from libramen import units
from libramen.errors import printable
from libramen.outcome.story import FAILED_NOTE, FAILED_SIGN, miss, sentences, show_latency, wanted_share
from libramen.outcome.words import clock
from libramen.study.objectives import show_objective

if TYPE_CHECKING:
    from collections.abc import Callable
    from pathlib import Path
    from types import TracebackType

    from libramen.comparison.check import Check
    from libramen.comparison.compare import Comparison
    from libramen.outcome.figures import Figures
    from libramen.outcome.measures import Measures
    from libramen.outcome.outcome import Outcome
    from libramen.study.study import Study
    from libramen.trace.summary import Summary
    from libramen.trace.trace import Trace

_PIPED_WIDTH = 200
_CACHED = " (read from cache; --no-cache reads the files again)"
_WIDE_ENOUGH = 156
_MOST_ROUTES = 20
_ROUTES_SHOWN = 8
# A rule under the heading and nothing else: what is left of the width is for the figures.
_RULE = box.Box("    \n    \n ── \n    \n    \n    \n    \n    \n")


class _Console(Console):
    def on_broken_pipe(self) -> None:
        """Whoever read has gone: that is for `cli.run` to answer, not for the console."""
        raise BrokenPipeError


def _console(*, error: bool = False) -> Console:
    """A console as wide as the terminal; where there is none, wide enough for every table."""
    stream = sys.stderr if error else sys.stdout
    return _Console(file=stream, width=None if stream.isatty() else _PIPED_WIDTH, highlight=False)


def _safe(text: str) -> str:
    """Text that may come from anybody, such as a route: neither markup nor escapes of the terminal."""
    return escape(printable(text))


class _Bar:
    """A progress bar on stderr, where that is a terminal."""

    def __init__(self) -> None:
        columns = (TextColumn("{task.description}"), BarColumn(), TaskProgressColumn(), TimeRemainingColumn())
        shown = sys.stderr.isatty()
        self._progress = Progress(*columns, console=_console(error=True), transient=True, disable=not shown)
        self._task = self._progress.add_task("", total=1.0)

    def named(self, what: str, share: float) -> None:
        """Show what is being done and how much of it is."""
        self._progress.update(self._task, description=_safe(what), completed=share)

    def share(self, what: str) -> Callable[[float], None]:
        """A function to be called with the share of one thing that is done."""
        return lambda share: self.named(what, share)

    def __enter__(self) -> Self:
        self._progress.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._progress.stop()


def progress() -> _Bar:
    """A progress bar to be used in a `with` block."""
    return _Bar()


def _table(*columns: str, right: tuple[str, ...] = ()) -> Table:
    table = Table(box=_RULE, pad_edge=False, padding=(0, 1, 0, 0), show_edge=False)
    for column in columns:
        table.add_column(column, justify="right" if column in right else "left", no_wrap=True)
    return table


def _show(console: Console, table: Table) -> None:
    console.print()
    console.print(table)
    console.print()


def _say(console: Console, text: str, style: str | None = None) -> None:
    """Print a sentence without breaking it, so that what is copied from it works."""
    console.print("\n".join(map(_safe, text.split("\n"))), style=style, soft_wrap=True)


def _tell(console: Console, text: str) -> None:
    """Print prose: in a terminal broken between words, elsewhere a line a sentence."""
    if console.is_terminal:
        text = textwrap.fill(text, console.width - 1, subsequent_indent="  ")
    _say(console, text)


def told(sentence: str) -> None:
    """Say on stderr what is being done."""
    _say(_console(error=True), sentence)


def skipped_lines(trace: Trace) -> None:
    """On stderr: how many lines could not be read, and the first of them."""
    source = trace.source
    if not source.skipped:
        return
    console = _console(error=True)
    _say(
        console,
        f"{source.skipped:,} of {source.lines:,} lines could not be read and are left out, the first ones:",
    )
    for skipped in source.first_skipped:
        where = f"{skipped.file}:{skipped.line}" if skipped.line else skipped.file
        _say(console, f"  {where}: {skipped.reason}")


def _heading(console: Console, study: Study, trace: Trace) -> None:
    when = "" if trace.start is None else f" from {trace.start:%a %d %b %Y %H:%M} ({study.time_zone})"
    text = f"{len(trace):,} requests over {units.show_duration(trace.span_s)}{when}, demand {trace.demand_in_words}"
    text += _CACHED if trace.source.from_cache else ""
    console.print()
    _say(console, study.name, "bold")
    _say(console, text)


def _fleet_range(least: int, most: int) -> str:
    return str(least) if least == most else f"{least}-{most}"


def comparison(study: Study, found: Comparison) -> None:
    """The objectives, the table of a comparison, what each plan misses, and the verdict."""
    console = _console()
    first = found.figures[0]
    _heading(console, study, found.trace)
    wanted = study.objectives.describe(study.currency)
    if wanted:
        _say(console, f"Objectives: {'; '.join(wanted)}.")
    limits = [goal for goal in first.objectives if goal.within is not None and goal.name == goal.key]
    narrow = console.width < _WIDE_ENOUGH
    shares = [f"≤ {units.show_duration(float(goal.wanted))}" for goal in limits]
    columns = (
        "replicas",
        *(("p95",) if narrow else ("p50", "p95", "p99")),
        *dict.fromkeys(shares),
        "worst hour",
        "available",
        "utilised",
        f"{study.currency}/month",
    )
    table = _table("plan", "tier", "size", *columns, "objectives", right=columns)
    for figures in found.figures:
        missed = [objective.name for objective in figures.objectives if not objective.met]
        within = {goal.wanted: goal.within for goal in figures.objectives if goal.name == goal.key}
        table.add_row(
            _safe(figures.plan),
            _safe(figures.tier),
            _safe(figures.size),
            _fleet_range(figures.replicas_min, figures.replicas_max),
            *(
                show_latency(figures.latency_s[name], hides_failures=figures.hides_failures)
                for name in (("p95",) if narrow else ("p50", "p95", "p99"))
            ),
            *dict.fromkeys(units.show_availability(within[goal.wanted]) for goal in limits),
            _worst_hour(figures, narrow=narrow),
            units.show_availability(figures.availability),
            units.show_share(figures.utilisation),
            f"{figures.bill.month:,}",
            _met(missed, bool(figures.objectives), narrow=narrow),
            style="bold" if figures is found.cheapest else None,
        )
    _show(console, table)
    if any(figures.hides_failures for figures in found.figures):
        _say(console, FAILED_NOTE, "dim")
    telling = shares[0] if shares else "answered ok"
    within_what = f"answered ok within {shares[0].removeprefix('≤ ')}" if shares else telling
    if shares:
        _say(console, f"{telling}: share of all requests, failed ones too, that was {within_what}.", "dim")
    _say(console, f"worst hour: the same share in the hour in which most requests were not {within_what}.", "dim")
    console.print()
    _say(console, found.verdict(), "bold")
    for figures in found.figures:
        missed = [miss(objective, study.currency) for objective in figures.objectives if not objective.met]
        if missed:
            _say(console, f"  {figures.plan} misses {', '.join(missed)}")
    _say(console, f"A month here is {first.bill.note}.", "dim")


def _worst_hour(figures: Figures, *, narrow: bool) -> str:
    """The share of the worst hour, and when it began."""
    hour = figures.worst_hour
    if hour is None:
        return "-"
    share = units.show_availability(hour.within / hour.requests)
    return share if narrow or hour.within == hour.requests else f"{share} {clock(figures, hour.at_s, seconds=False)}"


def _met(missed: list[str], any_set: bool, *, narrow: bool) -> str:
    if not missed:
        return "all met" if any_set else "none set"
    return f"{len(missed)} missed" if narrow else f"misses {', '.join(missed)}"


def next_steps(study: Study) -> None:
    """What to try after the demo, in commands that can be typed as they stand."""
    console = _console()
    file = shlex.quote(str(study.path))
    folder = study.path.parent
    console.print()
    _say(console, "Next, for example:")
    for command in (
        f"libramen replay {file} --plan late --plot {shlex.quote(str(folder / 'late.png'))}",
        f"libramen compare {file} --plot {shlex.quote(str(folder / 'compare.png'))}",
        f"libramen check {file}",
    ):
        _say(console, f"  {command}")
    _say(console, f"Or change a number in {study.path} and compare again.")


def _time_spent(console: Console, found: Outcome) -> None:
    """Where the time of the answered requests went, on average, and per route of those with the most requests."""
    parts = {"queued": "queued", "cpu": "CPU", "slowed": "slowed", "waiting": "waiting", "overhead": "network"}
    if found.time_s["retried"]:
        parts["retried"] = "tried before"
    figures = ("requests", "available", "p95", "mean", *parts.values())
    table = _table("where the time went", *figures, right=figures)
    routes = [(route, found.of_route(route)) for route in found.run.routes]
    routes.sort(key=lambda entry: -entry[1].requests)
    rows: list[tuple[str, Outcome | Measures, int]] = [("all requests", found, found.requests_measured)]
    if len(routes) > 1:
        rows += [(route, of_route, of_route.requests) for route, of_route in routes[:_ROUTES_SHOWN]]
    for name, figures_of, requests in rows:
        n_ok = figures_of.endings["ok"]
        table.add_row(
            _safe(name),
            f"{requests:,}",
            units.show_availability(figures_of.availability),
            show_latency(figures_of.latency_s["p95"], hides_failures=(figures_of.availability or 0) < 0.99),
            units.show_duration(figures_of.latency_s["mean"]),
            *(units.show_duration(figures_of.time_s[part] / n_ok if n_ok else None) for part in parts),
        )
    console.print(table)
    console.print()
    if len(routes) > _ROUTES_SHOWN:
        _say(console, f"and {len(routes) - _ROUTES_SHOWN} more routes: see --json")


def outcome(study: Study, found: Outcome) -> None:
    """What came of one plan."""
    console = _console()
    plan, latency = found.plan, found.latency_s
    _heading(console, study, found.trace)
    fleet = _fleet_range(found.replicas_min, found.replicas_max)
    many = "replica" if fleet == "1" else "replicas"
    _say(console, f"plan {plan.name}: tier {plan.tier.name}, size {plan.size.name}, {fleet} {many}, {plan.balancer}")
    console.print()
    for sentence in sentences(found):
        _tell(console, sentence)
    if found.findings:
        console.print()
        _say(console, "Findings", "bold")
        for finding in found.findings:
            _tell(console, f"- {finding.text}")
    table = _table("latency", *latency, right=tuple(latency))
    table.add_row("", *(show_latency(value, hides_failures=found.hides_failures) for value in latency.values()))
    _show(console, table)
    if found.hides_failures:
        _say(console, FAILED_NOTE, "dim")
    _time_spent(console, found)
    _say(
        console,
        f"Availability {units.show_availability(found.availability)} by requests, "
        f"{units.show_availability(found.availability_minutes)} by minutes; "
        f"utilisation {units.show_share(found.utilisation)}; "
        f"on average {found.replicas_mean:.2f} replicas ready; cold starts: {found.cold_starts}.",
    )
    lines = _table("a month", "quantity", "unit", "unit price", "amount", right=("quantity", "unit price", "amount"))
    for line in found.bill.lines:
        lines.add_row(
            _safe(line.item),
            f"{line.quantity:,f}",
            _safe(line.unit),
            f"{line.unit_price:f}",
            f"{line.amount:,}",
        )
    lines.add_row("total", "", "", _safe(found.bill.currency), f"{found.bill.month:,}", style="bold")
    _show(console, lines)
    _say(console, f"A month here is {found.bill.note}.", "dim")
    if found.objectives:
        goals = _table("objective", "wanted", "got", "answered within it", "minutes met", "", right=("wanted", "got"))
        for goal in found.objectives:
            goals.add_row(
                _safe(goal.name),
                show_objective(goal.name, goal.wanted, study.currency),
                show_objective(goal.name, goal.got, study.currency)
                + (FAILED_SIGN if found.hides_failures and goal.is_latency else ""),
                "" if goal.within is None else f"{units.show_availability(goal.within)} of {wanted_share(goal)}",
                "" if goal.minutes is None else f"{goal.minutes[0]:,} of {goal.minutes[1]:,}",
                "met" if goal.met else "missed",
            )
        _show(console, goals)


def check(found: Check) -> None:
    """What was understood, and what cannot work."""
    console = _console()
    _heading(console, found.study, found.trace)
    for note in found.trace.source.notes:
        _say(console, f"  {note}")
    _demand(console, found.trace)
    columns = (
        "replicas",
        "CPU needs",
        "slots need",
        "p95 alone",
        f"least {found.study.currency}/month",
    )
    table = _table("plan", "tier", "size", *columns, "releases at", "cannot work", right=columns)
    for plan in found.plans:
        at = [found.trace.local_time(at_s) for at_s in plan.rollouts_s]
        times = [
            units.show_duration(at_s) if local is None else f"{local:%H:%M}"
            for local, at_s in zip(at, plan.rollouts_s, strict=True)
        ]
        table.add_row(
            _safe(plan.plan.name),
            _safe(plan.plan.tier.name),
            _safe(plan.plan.size.name),
            _fleet_range(*plan.plan.limits),
            str(plan.needs_cpu),
            str(plan.needs_slots),
            units.show_duration(plan.alone_p95_s),
            f"{units.to_cent(plan.least_month):,}",
            ", ".join(times) or "-",
            f"{len(plan.problems)} found" if plan.problems else "nothing",
        )
    _show(console, table)
    for plan in found.plans:
        for problem in plan.problems:
            _say(console, f"{plan.plan.name}: {problem}")
    if found.works:
        _say(console, "Nothing was found that cannot work.")


def written(trace: Trace, path: Path) -> None:
    """What was written, and what was assumed on the way."""
    console = _console()
    _say(console, f"{path}: {len(trace):,} requests over {units.show_duration(trace.span_s)}")
    for note in trace.source.notes:
        _say(console, f"  {note}")


def summary(found: Summary) -> None:
    """A picture of the load."""
    console, trace = _console(), found.trace
    when = "" if trace.start is None else f" from {trace.start:%a %d %b %Y %H:%M} ({trace.start.tzinfo})"
    console.print()
    _say(console, f"{len(trace):,} requests over {units.show_duration(trace.span_s)}{when}", "bold")
    _say(
        console,
        f"format {trace.source.format}, {trace.source.lines:,} lines, {trace.source.skipped:,} of them skipped"
        + (_CACHED if trace.source.from_cache else ""),
    )
    for reason, n in trace.source.reasons:
        _say(console, f"  {n:,} skipped: {reason}")
    for note in trace.source.notes:
        _say(console, f"  {note}")
    rates = _table("rate", "requests / s", "when", right=("requests / s",))
    rates.add_row("mean", f"{found.mean_rate:.3g}", "")
    for name, peak in found.peaks.items():
        rates.add_row(f"busiest {name}", f"{peak.per_second:.3g}", _clock(trace, peak.at_s))
    _show(console, rates)
    if found.dispersion is not None:
        _say(console, f"Index of dispersion of counts per minute: {found.dispersion:.3g} (1: Poisson at one rate).")
    if found.concurrency is not None:
        little, mean, most = (found.concurrency[key] for key in ("little", "mean", "max"))
        _say(
            console,
            f"In progress as observed: {mean:.3g} on average ({little:.3g} by Little's law), {most:,.0f} at most.",
        )
    for quiet in found.quiet:
        _say(
            console,
            f"Quietest {units.show_duration(quiet.length_s)}: from {_clock(trace, quiet.at_s)}, "
            f"{quiet.requests:,} requests.",
        )
    if found.statuses:
        _say(console, "Statuses: " + ", ".join(f"{status}: {n:,}" for status, n in found.statuses.items()) + ".")
    right = ("requests", "share", "p50", "p95", "p99", "MB")
    routes = _table("route", *right, right=right)
    for load in found.routes[:_MOST_ROUTES]:
        routes.add_row(
            _safe(load.route),
            f"{load.requests:,}",
            units.show_share(load.share),
            units.show_duration(load.p50),
            units.show_duration(load.p95),
            units.show_duration(load.p99),
            "-" if load.bytes is None else f"{load.bytes / 1e6:,.1f}",
        )
    _show(console, routes)
    if len(found.routes) > _MOST_ROUTES:
        _say(console, f"and {len(found.routes) - _MOST_ROUTES} routes more (--json has them all)")
    if found.week is not None:
        _week(console, found)
    for unknown in found.unknown:
        _say(console, f"It cannot tell {unknown}.", "dim")


def _demand(console: Console, trace: Trace) -> None:
    """What the estimated demand of each route rests on."""
    if not trace.demand.routes:
        return
    right = ("requests", "samples", "observed mean", "without queueing")
    table = _table("route", *right, "quiet minutes", right=right)
    for route in sorted(trace.demand.routes, key=lambda route: -route.requests)[:_MOST_ROUTES]:
        table.add_row(
            _safe(route.route),
            f"{route.requests:,}",
            f"{route.samples:,}",
            units.show_duration(route.observed_mean_s),
            units.show_duration(route.quiet_mean_s),
            f"{route.minutes} of them",
        )
    _show(console, table)


def _clock(trace: Trace, at_s: float) -> str:
    local = trace.local_time(at_s)
    return f"{units.show_duration(at_s)} after the start" if local is None else f"{local:%a %d %b %H:%M:%S}"


def _week(console: Console, found: Summary) -> None:
    """The mean rate of each hour of the week: a row an hour, a column a weekday that the trace has."""
    assert found.week is not None
    days = [day for day in range(7) if not np.isnan(found.week[day]).all()]
    names = tuple(("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")[day] for day in days)
    latencies = {load.hour: load for load in found.hours}
    percentiles = ("p50", "p95", "p99") if latencies else ()
    table = _table("hour", *names, *percentiles, "mean requests / s", right=(*names, *percentiles))
    top = float(np.nanmax(found.week))
    for hour in range(24):
        rates = found.week[days, hour]
        mean = float(np.nanmean(rates)) if not np.isnan(rates).all() else 0.0
        cells = ["-" if np.isnan(rate) else f"{rate:.3g}" for rate in rates.tolist()]
        cells += [units.show_duration(getattr(latencies.get(hour), name, None)) for name in percentiles]
        table.add_row(f"{hour:02}", *cells, "▆" * round(40 * mean / top) if top else "")
    _show(console, table)
