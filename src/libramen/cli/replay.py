"""The command that replays one plan, with all that can be written and drawn of it."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from libramen.cli.common import OnePlan, Outputs, RepeatTimes, Replayed, Strict, check_plot, read_repeats, save_figure
from libramen.cli.grouped import App

if TYPE_CHECKING:
    from libramen.outcome.outcome import Outcome
    from libramen.report.section import Section
    from libramen.trace.trace import Trace

_AROUND_S = 900.0
"""So much is shown on either side of the peak [s]."""

app = App()


@dataclass(frozen=True)
class Files:
    """What is written and drawn of a replay beside what is shown of it."""

    plot: Annotated[Path | None, typer.Option("--plot", metavar="FILE", help="Draw a picture: .png or .svg.")] = None
    where: Annotated[
        Path | None, typer.Option("--where", metavar="FILE", help="Draw where the time of requests went: .png or .svg.")
    ] = None
    money: Annotated[
        Path | None, typer.Option("--money", metavar="FILE", help="Draw where the money goes: .png or .svg.")
    ] = None
    costs: Annotated[
        Path | None,
        typer.Option("--costs", metavar="FILE", help="Write the month for finance, FOCUS 1.0: .csv or .parquet."),
    ] = None
    month: Annotated[
        str | None, typer.Option("--month", metavar="YYYY-MM", help="--costs: the month that is billed.")
    ] = None
    requests: Annotated[
        Path | None, typer.Option("--requests", metavar="FILE", help="Write one row per request: .parquet.")
    ] = None
    decisions: Annotated[
        Path | None,
        typer.Option("--decisions", metavar="FILE", help="Write one row per decision of the scaling rule: .csv."),
    ] = None
    series: Annotated[
        str | None,
        typer.Option(
            "--series", metavar="FILE", help="Write one row per window: .csv or .parquet; -: in the JSON, with --json."
        ),
    ] = None

    def check(self, *, in_json: bool) -> None:
        """Before any time is spent: whether all of it can be written; `in_json`: whether JSON is printed.

        Raises:
            OutputError: it cannot.
        """
        from libramen.base.errors import OutputError
        from libramen.base.files import check_output
        from libramen.bill.cost_rows import billing_month

        for picture in (self.plot, self.where, self.money):
            check_plot(picture)
        either = (".csv", ".parquet")
        for file, endings in (
            (self.requests, (".parquet",)), (self.decisions, (".csv",)), (self.costs, either), (self.frame, either),
        ):  # fmt: skip
            if file is not None:
                check_output(file, endings)
        if self.has_series_in_json and not in_json:
            raise OutputError(
                "--series -: found no --json beside it; allowed: a file .csv or .parquet, or - with --json"
            )
        if self.month is not None:
            if self.costs is None:
                raise OutputError("--month says which month --costs is of; allowed: with --costs")
            billing_month(self.month, None)

    @property
    def has_series_in_json(self) -> bool:
        """Whether the series go into the JSON."""
        return self.series == "-"

    @property
    def frame(self) -> Path | None:
        """Where the series go."""
        return None if self.series is None or self.has_series_in_json else Path(self.series)

    def write(self, outcome: Outcome, study: str, stretch: dict[str, float]) -> None:
        """Write and draw what is asked for; `stretch`: what the picture over time is to show."""
        from libramen.base.files import write_whole
        from libramen.report.cost_file import write_costs
        from libramen.report.tables import write_frame

        if self.requests is not None:
            from pyarrow import parquet

            table = outcome.requests_table()
            write_whole(self.requests, lambda path: parquet.write_table(table, path))
        if self.decisions is not None:
            frame = outcome.decisions
            write_whole(self.decisions, lambda path: frame.to_csv(path, index=False, lineterminator="\n"))
        if self.frame is not None:
            write_frame(self.frame, outcome.series_table())
        if self.costs is not None:
            write_costs(self.costs, outcome.cost_rows(study, self.month))
        if self.where is not None:
            save_figure(outcome.plot_where(), self.where)
        if self.plot is not None:
            save_figure(outcome.plot(**stretch), self.plot)
        if self.money is not None:
            save_figure(outcome.plot_costs(), self.money)


@app.command(
    examples=[
        "libramen replay saltmarsh/study.toml --plan brisk --plot brisk.png",
        'libramen replay saltmarsh/study.toml --plan late --from "Thu 17:45" --to "Thu 18:30"',
        "libramen replay saltmarsh/study.toml --plan brisk --costs costs.csv --series brisk.parquet",
    ]
)
def replay(
    given: Replayed,
    plan: OnePlan,
    out: Outputs,
    files: Files,
    strict: Strict = False,
    repeats: RepeatTimes = None,
    first: Annotated[
        str | None,
        typer.Option(
            "--from", metavar="T", help='Show from then on: "17:45", "Wed 17:45", "6h" from the start, ISO, "peak".'
        ),
    ] = None,
    last: Annotated[str | None, typer.Option("--to", metavar="T", help="Show up to then, likewise.")] = None,
) -> int:
    """Replay one plan, and see what happened and why."""
    from libramen.questions.repeats import repeat
    from libramen.report.repeats import repeats_sections
    from libramen.report.replay import outcome_sections
    from libramen.report.stretch import stretch_sections
    from libramen.report.tables import json_of_frame
    from libramen.report.trust import trust_section
    from libramen.trust.grade import kept_grade

    files.check(in_json=out.json)
    study, n = given.load(), read_repeats(repeats)
    chosen = study.plan(plan)
    with given.ready(study) as (trace, bar):
        stretch = _stretch(trace, first, last)
        outcome = study.replay(chosen, trace=trace, seed=given.seed, progress=bar.share(f"replaying {plan}"))
        how: Any = {"trace": trace, "seed": given.seed, "progress": bar.named}
        repeated = None if n is None else repeat(study, n, plans=[plan], **how)
    files.write(outcome, study.name, stretch)
    seen = outcome.stretch(**stretch) if stretch else None
    said = {} if repeated is None else {"repeats": repeated.to_dict()}
    said |= {} if seen is None else {"stretch": seen.to_dict()}
    said |= {"series": json_of_frame(outcome.series_table())} if files.has_series_in_json else {}

    def shown() -> list[Section]:
        if seen is None:
            some = [*outcome_sections(study, outcome), *trust_section(study, kept_grade(study, given.seed))]
        else:
            some = stretch_sections(study, outcome, seen)
        return some if repeated is None else [*some, *repeats_sections(repeated)]

    document = outcome.to_dict() | said if out.json else None
    out.give(outcome, shown, "bill" if seen is None else "latency", document, trace=trace)
    return int(strict and not (outcome.meets_all if repeated is None else repeated.cheapest is not None))


def _stretch(trace: Trace, first: str | None, last: str | None) -> dict[str, float]:
    """What is to be shown, in seconds from the start; empty: all.

    Of the peak alone it is that minute and a quarter of an hour around it.

    Raises:
        OutputError: it ends before it begins; a time of day needs its day.
    """
    from libramen.base.errors import OutputError
    from libramen.base.times import PEAK_S, parse_moment

    if first is None and last is None:
        return {}
    found = {"from_s": 0.0, "to_s": trace.span_s}
    for name, text, key in (("--from", first, "from_s"), ("--to", last, "to_s")):
        if text is None:
            continue
        moment = parse_moment(text)
        if moment.is_daily and trace.start is not None and trace.span_s > 86400.0:
            local = trace.local_time(moment.lies_at(trace, name))
            raise OutputError(
                f"{name}: found {text!r} in a trace of several days; allowed: with its day, such as "
                f'"{local:%a %d %b} {text}", or an ISO time'
            )
        at_s = moment.lies_at(trace, name)
        if moment.is_peak:
            alone = last is None or first is None
            at_s += -_AROUND_S if alone and key == "from_s" else PEAK_S + _AROUND_S * alone if key == "to_s" else 0.0
            if last is None:
                found["to_s"] = min(trace.span_s, at_s + PEAK_S + 2 * _AROUND_S)
            elif first is None:
                found["from_s"] = max(0.0, at_s - PEAK_S - 2 * _AROUND_S)
        found[key] = min(max(0.0, at_s), trace.span_s)
    if found["from_s"] >= found["to_s"]:
        raise OutputError(f"--from {first or 'the start'} is not before --to {last or 'the end'}")
    return found
