"""The commands. Each parses, makes one call of the library, and prints; heavy imports come late."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from libramen._version import __version__
from libramen.cli.common import (
    Cluster,
    Csv,
    Form,
    Json,
    NoCache,
    NoStore,
    OnePlan,
    Outputs,
    Plot,
    RepeatTimes,
    Seed,
    SomePlans,
    StoreFile,
    Strict,
    StudyPath,
    Trust,
    check_plot,
    read_repeats,
    ready,
    replaying,
    save_figure,
)
from libramen.cli.decide import app as decide_app
from libramen.cli.grouped import App
from libramen.cli.trace import app as trace_app

if TYPE_CHECKING:
    from libramen.outcome.outcome import Outcome
    from libramen.questions.repeats import Repeats
    from libramen.report.section import Section
    from libramen.trace.trace import Trace
    from libramen.trust.doubt import Doubt
    from libramen.trust.fit import Fitted

_AROUND_S = 900.0
"""So much is shown on either side of the peak [s]."""

app = App(
    name="libramen",
    help="Replay a request trace against hosting plans; compare latency, availability and monthly cost.",
    epilog="Start here:  libramen demo",
    no_args_is_help=True,
    context_settings={"help_option_names": ["--help", "-h"]},
)
app.add_typer(trace_app, name="trace")


def _version(wanted: bool) -> None:
    if wanted:
        typer.echo(f"libramen {__version__}")
        raise typer.Exit


@app.callback()
def _options(
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Print the version and exit.")
    ] = False,
) -> None:
    pass


@app.command(examples=["libramen demo", "libramen demo --study landing"])
def demo(
    directory: Annotated[
        Path | None, typer.Argument(metavar="[DIR]", help="Where to write it (default: a folder of the study's name).")
    ] = None,
    study_name: Annotated[
        str,
        typer.Option(
            "--study", metavar="NAME", help="saltmarsh: a day; cabins: four services; landing: releases, faults."
        ),
    ] = "saltmarsh",
    json: Json = False,
    seed: Seed = 0,
    plot: Plot = None,
    csv: Csv = None,
    form: Form = "text",
) -> int:
    """Write the Saltmarsh Ferries study with its log, and compare its plans."""
    from libramen.cli import sections, show
    from libramen.demo.write import write_demo
    from libramen.engine.compiling import Compilation
    from libramen.questions.compare import compare
    from libramen.study.file import load_study

    out = Outputs(json, plot, csv, form)
    with Compilation(show.told) as compilation, show.progress() as bar:
        path = write_demo(
            directory or Path(study_name),
            bar.share("writing the log"),
            compilation.wait,
            study=study_name,
        )
        compilation.wait()
        study = load_study(path)
        comparison = compare(study, seed=seed, progress=bar.named)
    out.give(comparison, lambda: sections.comparison(study, comparison), "plans")
    if not json and form == "text":
        show.next_steps(study)
    return 0


@app.command(examples=["libramen check saltmarsh/study.toml", "libramen check tiers.toml"])
def check(
    study: StudyPath,
    json: Json = False,
    seed: Seed = 0,
    strict: Strict = False,
    no_cache: NoCache = False,
    csv: Csv = None,
    form: Form = "text",
) -> int:
    """Read everything, replay nothing: what was understood, and the problems of each plan; or a catalogue alone."""
    from libramen.cli import sections, show
    from libramen.cli.catalogues import is_catalogue, tiers_of
    from libramen.questions.check import check as check_study
    from libramen.study.file import load_study
    from libramen.trust.grade import kept_grade

    out = Outputs(json, csv=csv, form=form)
    if is_catalogue(study):
        from libramen.bill.price_list import price_list

        name, read, _ = tiers_of(study, [])
        priced = price_list(read.tiers, notes=read.notes)
        out.give(priced, lambda: sections.price_list(name, priced), "sizes")
        return 0
    loaded = load_study(study)
    with show.progress() as bar:
        found = check_study(loaded, seed=seed, cache=not no_cache, progress=bar.share("reading the trace"))
    out.give_with(found.trace, found, lambda: sections.check(found, kept_grade(loaded, seed)), "plans")
    return int(strict and not found.works)


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
    said = _repeats_document(repeated) | ({} if seen is None else {"stretch": seen.to_dict()})
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


@app.command(
    examples=[
        "libramen compare saltmarsh/study.toml --plot compare.png",
        "libramen compare saltmarsh/study.toml --repeats auto",
        "libramen compare saltmarsh/study.toml --plan brisk --strict --against baseline.json --format md",
    ]
)
def compare(
    study: StudyPath,
    json: Json = False,
    seed: Seed = 0,
    strict: Strict = False,
    trust_code: Trust = False,
    no_cache: NoCache = False,
    plot: Plot = None,
    csv: Csv = None,
    form: Form = "text",
    plan: SomePlans = None,
    baseline: Annotated[
        Path | None,
        typer.Option("--against", metavar="FILE", help="An earlier --json: exit with 1 when something got worse."),
    ] = None,
    doubt: Annotated[
        bool, typer.Option("--doubt", help="Compare again at the ends of what is not known: does the verdict hold?")
    ] = False,
    percentile: Annotated[
        str | None,
        typer.Option("--percentile", metavar="P", help="--plot: p50 to p999 (default: what is wanted, or p95)."),
    ] = None,
    repeats: RepeatTimes = None,
    store: StoreFile = None,
    no_store: NoStore = False,
    cluster: Cluster = None,
) -> int:
    """Replay all plans of a study, or some, and compare them; also with an earlier comparison."""
    from libramen.base.ranks import percentile_of
    from libramen.cli import sections
    from libramen.questions.against import against as find_changes, read_baseline
    from libramen.questions.compare import compare as compare_plans
    from libramen.study.file import load_study
    from libramen.trust.grade import kept_grade

    out = Outputs(json, plot, csv, form, {} if percentile is None else {"percentile": percentile_of(percentile)})
    earlier = None if baseline is None else read_baseline(baseline)
    loaded = load_study(study, trust_code=trust_code)
    n = read_repeats(repeats)
    where = replaying(loaded, seed, no_cache=no_cache, store=store, no_store=no_store, cluster=cluster)
    with where as (trace, _, asked):
        comparison = compare_plans(loaded, plans=plan or None, **asked)
        doubted: tuple[Doubt, ...] = ()
        if doubt:
            from libramen.trust.doubt import doubt as doubt_verdict

            doubted = doubt_verdict(loaded, comparison, **asked)
        repeated = None
        if n is not None:
            from libramen.questions.repeats import repeat

            repeated = repeat(loaded, n, plans=plan or None, **asked)
    since = None if earlier is None else find_changes(comparison, repeated, earlier, str(baseline))
    document = comparison.to_dict() | ({"doubt": [one.to_dict() for one in doubted]} if doubt else {})

    def shown() -> list[Section]:
        some = sections.comparison(loaded, comparison, kept_grade(loaded, seed), doubted)
        some += [] if repeated is None else sections.repeats(repeated)
        return some if since is None else [*some, *sections.against(loaded, since)]

    document |= _repeats_document(repeated) | ({} if since is None else {"against": since.to_dict()})
    out.give_with(trace, comparison, shown, "plans", document)
    if plan:  # those that are named must hold, each of them
        holds = comparison.meets_all if repeated is None else all(one.holds for one in repeated.plans)
    else:
        holds = (comparison.cheapest if repeated is None else repeated.cheapest) is not None
    return int((strict and not holds) or (since is not None and bool(since.worse)))


app.registered_commands += decide_app.registered_commands


@app.command(
    examples=[
        "libramen backtest saltmarsh/study.toml --plot backtest.png",
        "libramen backtest saltmarsh/study.toml --fit slots,cpu_share",
        "libramen backtest saltmarsh/study.toml --invoice invoice.csv",
    ]
)
def backtest(
    study: StudyPath,
    json: Json = False,
    seed: Seed = 0,
    strict: Annotated[
        bool, typer.Option("--strict", help="Exit with 1 when the grade is neither close nor fair.")
    ] = False,
    no_cache: NoCache = False,
    plot: Plot = None,
    csv: Csv = None,
    form: Form = "text",
    fit: Annotated[
        str | None,
        typer.Option("--fit", metavar="KEYS", help="Which slots,threads,cpu_share,overhead explain the log best."),
    ] = None,
    invoice: Annotated[
        Path | None,
        typer.Option("--invoice", metavar="FILE", help="Lay an invoice (CSV: item, amount) beside the plan's bill."),
    ] = None,
) -> int:
    """Replay the log on the plan on which it was recorded, and see how far to trust a replay."""
    from libramen.base.errors import LibramenError
    from libramen.cli import sections, show
    from libramen.engine.compiling import Compilation
    from libramen.study.file import load_study
    from libramen.trust.backtest import backtest as test_study

    out, loaded = Outputs(json, plot, csv, form), load_study(study)
    with Compilation(show.told) as compilation, show.progress() as bar:
        compilation.wait()
        fitted: tuple[Fitted, ...] = ()
        if fit is not None:
            from libramen.trust.fit import fit as fit_settings

            keys = [key.strip() for key in fit.split(",")]
            fitted = fit_settings(loaded, keys, seed=seed, cache=not no_cache, progress=bar.named)
        try:
            found = test_study(loaded, invoice=invoice, seed=seed, cache=not no_cache, progress=bar.named)
        except LibramenError:  # the settings in the study are impossible: then what was fitted is the answer
            if fitted and not json:
                show.render(sections.fitted(fitted))
            raise
    document = found.to_dict() | ({"fit": [one.to_dict() for one in fitted]} if fit is not None else {})
    out.give_with(found.trace, found, lambda: sections.backtest(found, fitted), "percentiles", document)
    return int(strict and found.grade.grade not in {"close", "fair"})


@app.command(examples=["libramen prepare"])
def prepare() -> int:
    """Compile the replay engine now, for instance when an image is built; else the first replay does it."""
    from libramen.engine.compiling import Compilation, compile_now, is_compiled

    had_been = is_compiled()
    with Compilation(lambda _: None) as compilation:
        compilation.wait()
    for lean in (True, False):
        compile_now(lean=lean)
    typer.echo("The replay engine was compiled already." if had_been else "The replay engine is compiled.")
    return 0


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


def _repeats_document(repeated: Repeats | None) -> dict[str, Any]:
    return {} if repeated is None else {"repeats": repeated.to_dict()}
