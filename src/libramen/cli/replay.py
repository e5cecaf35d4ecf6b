"""The command that replays one plan, with all that can be written and drawn of it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from libramen.cli.common import (
    Csv,
    Form,
    Json,
    NoCache,
    OnePlan,
    Outputs,
    Plot,
    RepeatTimes,
    Seed,
    Strict,
    StudyPath,
    Trust,
    check_plot,
    read_repeats,
    ready,
    repeats_document,
    save_figure,
)
from libramen.cli.grouped import App

if TYPE_CHECKING:
    from libramen.outcome.outcome import Outcome
    from libramen.report.section import Section
    from libramen.trace.trace import Trace

_AROUND_S = 900.0
"""So much is shown on either side of the peak [s]."""

app = App()


@app.command(
    examples=[
        "libramen replay saltmarsh/study.toml --plan brisk --plot brisk.png",
        'libramen replay saltmarsh/study.toml --plan late --from "Thu 17:45" --to "Thu 18:30"',
        "libramen replay saltmarsh/study.toml --plan brisk --costs costs.csv --series brisk.parquet",
    ]
)
def replay(
    study: StudyPath,
    plan: OnePlan,
    json: Json = False,
    seed: Seed = 0,
    strict: Strict = False,
    trust_code: Trust = False,
    no_cache: NoCache = False,
    plot: Plot = None,
    csv: Csv = None,
    form: Form = "text",
    where: Annotated[
        Path | None, typer.Option("--where", metavar="FILE", help="Draw where the time of requests went: .png or .svg.")
    ] = None,
    money: Annotated[
        Path | None, typer.Option("--money", metavar="FILE", help="Draw where the money goes: .png or .svg.")
    ] = None,
    costs: Annotated[
        Path | None,
        typer.Option("--costs", metavar="FILE", help="Write the month for finance, FOCUS 1.0: .csv or .parquet."),
    ] = None,
    month: Annotated[
        str | None, typer.Option("--month", metavar="YYYY-MM", help="--costs: the month that is billed.")
    ] = None,
    requests: Annotated[
        Path | None, typer.Option("--requests", metavar="FILE", help="Write one row per request: .parquet.")
    ] = None,
    decisions: Annotated[
        Path | None,
        typer.Option("--decisions", metavar="FILE", help="Write one row per decision of the scaling rule: .csv."),
    ] = None,
    series: Annotated[
        str | None,
        typer.Option(
            "--series", metavar="FILE", help="Write one row per window: .csv or .parquet; -: in the JSON, with --json."
        ),
    ] = None,
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
    from libramen.base.errors import OutputError
    from libramen.base.files import check_output
    from libramen.bill.cost_rows import billing_month
    from libramen.cli import sections
    from libramen.report.cost_file import write_costs
    from libramen.report.tables import json_of_frame, write_frame
    from libramen.study.file import load_study
    from libramen.trust.grade import kept_grade

    out = Outputs(json, csv=csv, form=form)
    check_plot(plot)
    check_plot(where)
    check_plot(money)
    for file, suffixes in ((requests, (".parquet",)), (decisions, (".csv",)), (costs, (".csv", ".parquet"))):
        if file is not None:
            check_output(file, suffixes)
    in_json = series == "-"
    if series is not None and not in_json:
        check_output(Path(series), (".csv", ".parquet"))
    if in_json and not json:
        raise OutputError("--series -: found no --json beside it; allowed: a file .csv or .parquet, or - with --json")
    if month is not None:
        if costs is None:
            raise OutputError("--month says which month --costs is of; allowed: with --costs")
        billing_month(month, None)
    loaded, n = load_study(study, trust_code=trust_code), read_repeats(repeats)
    chosen = loaded.plan(plan)
    with ready(loaded, seed, no_cache=no_cache) as (trace, bar):
        stretch = _stretch(trace, first, last)
        outcome = loaded.replay(chosen, trace=trace, seed=seed, progress=bar.share(f"replaying {plan}"))
        repeated = None
        if n is not None:
            from libramen.questions.repeats import repeat

            repeated = repeat(loaded, n, plans=[plan], trace=trace, seed=seed, progress=bar.named)
    _write(outcome, requests, decisions, where)
    seen = outcome.stretch(**stretch) if stretch else None
    said = repeats_document(repeated) | ({} if seen is None else {"stretch": seen.to_dict()})
    if series is not None and not in_json:
        write_frame(Path(series), outcome.series_table())
    if in_json:
        said |= {"series": json_of_frame(outcome.series_table())}
    if costs is not None:
        write_costs(costs, outcome.cost_rows(loaded.name, month))
    if plot is not None:
        save_figure(outcome.plot(**stretch), plot)
    if money is not None:
        save_figure(outcome.plot_costs(), money)

    def shown() -> list[Section]:
        some = (
            sections.outcome(loaded, outcome, kept_grade(loaded, seed))
            if seen is None
            else sections.stretch(loaded, outcome, seen)
        )
        return some if repeated is None else [*some, *sections.repeats(repeated)]

    main = "bill" if seen is None else "latency"
    out.give_with(trace, outcome, shown, main, outcome.to_dict() | said if json else None)
    return int(strict and not (outcome.meets_all if repeated is None else repeated.cheapest is not None))


def _write(outcome: Outcome, requests: Path | None, decisions: Path | None, where: Path | None) -> None:
    """Write the tables and the picture that are asked for beside what is shown."""
    from libramen.base.files import write_whole

    if requests is not None:
        from pyarrow import parquet

        table = outcome.requests_table()
        write_whole(requests, lambda path: parquet.write_table(table, path))
    if decisions is not None:
        frame = outcome.decisions
        write_whole(decisions, lambda path: frame.to_csv(path, index=False, lineterminator="\n"))
    if where is not None:
        save_figure(outcome.plot_where(), where)


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
