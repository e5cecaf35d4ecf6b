"""The commands. Each parses, makes one call of the library, and prints; heavy imports come late."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from libramen._version import __version__
from libramen.cli.common import (
    Cluster,
    Csv,
    Form,
    Json,
    NoCache,
    NoStore,
    Outputs,
    Plot,
    RepeatTimes,
    Seed,
    SomePlans,
    StoreFile,
    Strict,
    StudyPath,
    Trust,
    read_repeats,
    repeats_document,
    replaying,
)
from libramen.cli.decide import app as decide_app
from libramen.cli.grouped import App
from libramen.cli.handing_over import app as handing_over_app
from libramen.cli.replay import app as replay_app
from libramen.cli.trace import app as trace_app

if TYPE_CHECKING:
    from libramen.report.section import Section
    from libramen.trust.doubt import Doubt
    from libramen.trust.fit import Fitted

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
            "--study",
            metavar="NAME",
            help="saltmarsh: a day; cabins: four services; landing: releases, faults; islands: regions.",
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

    document |= repeats_document(repeated) | ({} if since is None else {"against": since.to_dict()})
    out.give_with(trace, comparison, shown, "plans", document)
    if plan:  # those that are named must hold, each of them
        holds = comparison.meets_all if repeated is None else all(one.holds for one in repeated.plans)
    else:
        holds = (comparison.cheapest if repeated is None else repeated.cheapest) is not None
    return int((strict and not holds) or (since is not None and bool(since.worse)))


for more in (replay_app, decide_app, handing_over_app):
    app.registered_commands += more.registered_commands


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
