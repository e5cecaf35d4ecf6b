"""The commands. Each parses, makes one call of the library, and prints; heavy imports come late."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from libramen._version import __version__
from libramen.cli.common import (
    Given,
    Outputs,
    OutputsAndPicture,
    RepeatTimes,
    ReplayedOften,
    Seed,
    SomePlans,
    Strict,
    read_repeats,
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
    out: OutputsAndPicture,
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
    seed: Seed = 0,
) -> int:
    """Write the Saltmarsh Ferries study with its log, and compare its plans."""
    from libramen.cli import show
    from libramen.demo.write import write_demo
    from libramen.engine.compiling import Compilation
    from libramen.questions.compare import compare
    from libramen.report.comparison import comparison_sections
    from libramen.study.file import load_study

    with Compilation(show.told) as compilation, show.progress() as bar:
        folder = directory or Path(study_name)
        path = write_demo(folder, bar.share("writing the log"), compilation.wait, study=study_name)
        compilation.wait()
        study = load_study(path)
        comparison = compare(study, seed=seed, progress=bar.named)
    out.draw(comparison)
    out.give(comparison, lambda: comparison_sections(study, comparison), "plans")
    if not out.json and out.form == "text":
        show.next_steps(study)
    return 0


@app.command(examples=["libramen check saltmarsh/study.toml", "libramen check tiers.toml"])
def check(given: Given, out: Outputs, strict: Strict = False) -> int:
    """Read everything, replay nothing: what was understood, and the problems of each plan; or a catalogue alone."""
    from libramen.cli import show
    from libramen.cli.catalogues import is_catalogue, show_prices
    from libramen.questions.check import check as check_study
    from libramen.report.check import check_sections
    from libramen.report.trust import trust_section
    from libramen.trust.grade import kept_grade

    if is_catalogue(given.study):
        return show_prices(out, given.study)
    study = given.load()
    with show.progress() as bar:
        found = check_study(study, progress=bar.share("reading the trace"), **given.reading)

    def shown() -> list[Section]:
        return [*check_sections(found), *trust_section(study, kept_grade(study, given.seed))]

    out.give(found, shown, "plans", trace=found.trace)
    return int(strict and not found.works)


@app.command(
    examples=[
        "libramen compare saltmarsh/study.toml --plot compare.png",
        "libramen compare saltmarsh/study.toml --repeats auto",
        "libramen compare saltmarsh/study.toml --plan brisk --strict --against baseline.json --format md",
    ]
)
def compare(
    given: ReplayedOften,
    out: OutputsAndPicture,
    strict: Strict = False,
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
) -> int:
    """Replay all plans of a study, or some, and compare them; also with an earlier comparison."""
    from libramen.base.ranks import percentile_of
    from libramen.questions.against import against as find_changes, read_baseline
    from libramen.questions.compare import compare as compare_plans
    from libramen.questions.repeats import repeat
    from libramen.report.against import against_section
    from libramen.report.comparison import comparison_sections, doubts_of_verdict
    from libramen.report.repeats import repeats_sections
    from libramen.report.trust import trust_section
    from libramen.trust.doubt import doubt as doubt_verdict
    from libramen.trust.grade import kept_grade

    drawn = {} if percentile is None else {"percentile": percentile_of(percentile)}
    earlier = None if baseline is None else read_baseline(baseline)
    study, n = given.load(), read_repeats(repeats)
    with given.asked(study) as (trace, _, asked):
        comparison = compare_plans(study, plans=plan or None, **asked)
        doubted: tuple[Doubt, ...] = doubt_verdict(study, comparison, **asked) if doubt else ()
        repeated = None if n is None else repeat(study, n, plans=plan or None, **asked)
    since = None if earlier is None else find_changes(comparison, repeated, earlier, str(baseline))
    document = comparison.to_dict() | ({"doubt": [one.to_dict() for one in doubted]} if doubt else {})
    document |= {} if repeated is None else {"repeats": repeated.to_dict()}
    document |= {} if since is None else {"against": since.to_dict()}

    def shown() -> list[Section]:
        some = [*comparison_sections(study, comparison), *(doubts_of_verdict(doubted) if doubted else [])]
        some += trust_section(study, kept_grade(study, given.seed))
        some += [] if repeated is None else repeats_sections(repeated)
        return some if since is None else [*some, against_section(since, study.currency)]

    out.draw(comparison, **drawn)
    out.give(comparison, shown, "plans", document, trace=trace)
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
    given: Given,
    out: OutputsAndPicture,
    strict: Annotated[
        bool, typer.Option("--strict", help="Exit with 1 when the grade is neither close nor fair.")
    ] = False,
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
    from libramen.cli import show
    from libramen.engine.compiling import Compilation
    from libramen.report.backtest import backtest_sections, fit_sections
    from libramen.trust.backtest import backtest as test_study
    from libramen.trust.fit import fit as fit_settings

    study = given.load()
    with Compilation(show.told) as compilation, show.progress() as bar:
        compilation.wait()
        fitted: tuple[Fitted, ...] = ()
        if fit is not None:
            keys = [key.strip() for key in fit.split(",")]
            fitted = fit_settings(study, keys, progress=bar.named, **given.reading)
        try:
            found = test_study(study, invoice=invoice, progress=bar.named, **given.reading)
        except LibramenError:  # the settings in the study are impossible: then what was fitted is the answer
            if fitted and not out.json:
                show.render(fit_sections(fitted))
            raise
    document = found.to_dict() | ({"fit": [one.to_dict() for one in fitted]} if fit is not None else {})
    out.draw(found)

    def shown() -> list[Section]:
        return [*backtest_sections(found), *(fit_sections(fitted) if fitted else [])]

    out.give(found, shown, "percentiles", document, trace=found.trace)
    return int(strict and found.grade.grade not in {"close", "fair"})


@app.command(examples=["libramen prepare"])
def prepare() -> int:
    """Compile the replay engine now, for instance when an image is built; else the first replay does it."""
    from libramen.engine.compiling import Compilation, compile_now, is_compiled

    had_been = is_compiled()
    with Compilation(lambda _: None) as compilation:
        compilation.wait()
    kept = [is_compiled(lean=lean) or compile_now(lean=lean) for lean in (True, False)]
    if not all(kept):
        typer.echo("The replay engine was compiled, but is not kept: NUMBA_CACHE_DIR may name a folder for it.")
        return 1
    typer.echo("The replay engine was compiled already." if had_been else "The replay engine is compiled.")
    return 0
