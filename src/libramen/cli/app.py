"""The commands. Each parses, makes one call of the library, and prints; heavy imports come late."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from libramen._version import __version__
from libramen.cli.trace import app as trace_app

if TYPE_CHECKING:
    from libramen.comparison.doubt import Doubt
    from libramen.comparison.fit import Fitted
    from libramen.comparison.repeats import Repeats
    from libramen.trace.trace import Trace

app = typer.Typer(
    name="libramen",
    help="Replay a request trace against hosting plans; compare latency, availability and monthly cost.",
    epilog="Start here:  libramen demo",
    rich_markup_mode=None,
    no_args_is_help=True,
    context_settings={"help_option_names": ["--help", "-h"]},
)

app.add_typer(trace_app, name="trace")

StudyPath = Annotated[Path, typer.Argument(metavar="STUDY", help="The study file (TOML).")]
Json = Annotated[bool, typer.Option("--json", help="Print JSON on stdout, and nothing else there.")]
Seed = Annotated[int, typer.Option("--seed", min=0, help="Random seed.")]
Strict = Annotated[bool, typer.Option("--strict", help="Exit with 1 when an objective or check is not met.")]
Trust = Annotated[
    bool, typer.Option("--trust-code", help="Run scaling rules in Python modules beside the study; read them first.")
]
NoCache = Annotated[bool, typer.Option("--no-cache", help="Read the files again, also if they were read before.")]
RepeatTimes = Annotated[
    int | None,
    typer.Option("--repeats", metavar="N", min=1, max=100_000, help="Replay with N seeds, and say how much is luck."),
]
Plot = Annotated[Path | None, typer.Option("--plot", metavar="FILE", help="Draw a picture: .png or .svg.")]


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


@app.command(epilog="Example:  libramen demo  (then: libramen compare saltmarsh/study.toml)")
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
) -> int:
    """Write the Saltmarsh Ferries study with its log, and compare its plans."""
    from libramen.cli import show
    from libramen.comparison.compare import compare
    from libramen.demo.write import write_demo
    from libramen.engine.compiling import Compilation
    from libramen.study.study import load_study

    _check_plot(plot)
    with Compilation(show.told) as compilation, show.progress() as bar:
        path = write_demo(
            directory or Path(study_name),
            bar.share("writing the log"),
            compilation.wait,
            study=study_name,
        )
        compilation.wait()
        study = load_study(path)
        comparison = compare(study, seed=seed, workers=None, progress=bar.named)
    _finish(comparison.to_dict() if json else None, plot, comparison)
    if not json:
        show.comparison(study, comparison)
        show.next_steps(study)
    return 0


@app.command(epilog="Example:  libramen check saltmarsh/study.toml")
def check(
    study: StudyPath, json: Json = False, seed: Seed = 0, strict: Strict = False, no_cache: NoCache = False
) -> int:
    """Read everything, replay nothing: what was understood, and the problems of each plan."""
    from libramen.checks.check import check as check_study
    from libramen.cli import show
    from libramen.study.study import load_study

    loaded = load_study(study)
    with show.progress() as bar:
        found = check_study(loaded, seed=seed, cache=not no_cache, progress=bar.share("reading the trace"))
    _finish(found.to_dict() if json else None, None, None)
    show.skipped_lines(found.trace)
    if json:
        show.doubts(found.trace.demand.doubts)
    else:
        show.check(found)
    return int(strict and not found.works)


@app.command(epilog="Example:  libramen replay saltmarsh/study.toml --plan brisk --plot brisk.png")
def replay(
    study: StudyPath,
    plan: Annotated[str, typer.Option("--plan", metavar="PLAN", help="Name of the plan.")],
    json: Json = False,
    seed: Seed = 0,
    strict: Strict = False,
    trust_code: Trust = False,
    no_cache: NoCache = False,
    plot: Plot = None,
    where: Annotated[
        Path | None, typer.Option("--where", metavar="FILE", help="Draw where the time of requests went: .png or .svg.")
    ] = None,
    requests: Annotated[
        Path | None, typer.Option("--requests", metavar="FILE", help="Write one row per request: .parquet.")
    ] = None,
    decisions: Annotated[
        Path | None,
        typer.Option("--decisions", metavar="FILE", help="Write one row per decision of the scaling rule: .csv."),
    ] = None,
    repeats: RepeatTimes = None,
    first: Annotated[
        str | None, typer.Option("--from", metavar="T", help='Draw from then on: "17:45", "6h" from the start, ISO.')
    ] = None,
    last: Annotated[str | None, typer.Option("--to", metavar="T", help="Draw up to then, likewise.")] = None,
) -> int:
    """Replay one plan, and see what happened and why."""
    from libramen.cli import show
    from libramen.comparison.backtest import kept_grade
    from libramen.engine.compiling import Compilation
    from libramen.errors import OutputError
    from libramen.files import check_output, write_whole
    from libramen.outcome.replay import replay as replay_plan
    from libramen.study.study import load_study

    _check_plot(plot)
    _check_plot(where)
    if (first is not None or last is not None) and plot is None:
        raise OutputError("--from, --to: they say what is drawn; allowed: together with --plot FILE")
    if requests is not None:
        check_output(requests, (".parquet",))
    if decisions is not None:
        check_output(decisions, (".csv",))
    loaded = load_study(study, trust_code=trust_code)
    chosen = loaded.plan(plan)
    with Compilation(show.told) as compilation, show.progress() as bar:
        trace = loaded.trace(seed=seed, progress=bar.share("reading the trace"), cache=not no_cache)
        compilation.wait()
        outcome = replay_plan(
            trace,
            loaded.services,
            chosen,
            loaded.objectives,
            seed,
            settle=loaded.trace_table.settle,
            currency=loaded.currency,
            progress=bar.share(f"replaying {plan}"),
        )
        repeated = None
        if repeats is not None:
            from libramen.comparison.repeats import repeat

            repeated = repeat(loaded, repeats, trace=trace, plans=[plan], seed=seed, workers=None, progress=bar.named)
    if requests is not None:
        from pyarrow import parquet

        table = outcome.requests_table()
        write_whole(requests, lambda path: parquet.write_table(table, path))
    if decisions is not None:
        frame = outcome.decisions
        write_whole(decisions, lambda path: frame.to_csv(path, index=False, lineterminator="\n"))
    if where is not None:
        from libramen.draw.style import save

        save(outcome.plot_where(), where)
    document = (outcome.to_dict() | _repeats_document(repeated)) if json else None
    if plot is not None:
        from libramen.draw.style import save

        save(outcome.plot(**_stretch(trace, first, last)), plot)
    _finish(document, None, outcome)
    show.skipped_lines(trace)
    if json:
        show.doubts(trace.demand.doubts)
    else:
        show.outcome(loaded, outcome, kept_grade(loaded, seed))
        if repeated is not None:
            show.repeats(repeated)
    holds = outcome.meets_all if repeated is None else repeated.cheapest is not None
    return int(strict and not holds)


@app.command(epilog="Example:  libramen compare saltmarsh/study.toml --plot compare.png")
def compare(
    study: StudyPath,
    json: Json = False,
    seed: Seed = 0,
    strict: Strict = False,
    trust_code: Trust = False,
    no_cache: NoCache = False,
    plot: Plot = None,
    doubt: Annotated[
        bool, typer.Option("--doubt", help="Compare again at the ends of what is not known: does the verdict hold?")
    ] = False,
    repeats: RepeatTimes = None,
) -> int:
    """Replay all plans of a study and compare them."""
    from libramen.cli import show
    from libramen.comparison.backtest import kept_grade
    from libramen.comparison.compare import compare as compare_plans
    from libramen.engine.compiling import Compilation
    from libramen.study.study import load_study

    _check_plot(plot)
    loaded = load_study(study, trust_code=trust_code)
    with Compilation(show.told) as compilation, show.progress() as bar:
        trace = loaded.trace(seed=seed, progress=bar.share("reading the trace"), cache=not no_cache)
        compilation.wait()
        comparison = compare_plans(loaded, trace=trace, seed=seed, workers=None, progress=bar.named)
        doubted: tuple[Doubt, ...] = ()
        if doubt:
            from libramen.comparison.doubt import doubt as doubt_verdict

            doubted = doubt_verdict(loaded, comparison, trace=trace, seed=seed, workers=None, progress=bar.named)
        repeated = None
        if repeats is not None:
            from libramen.comparison.repeats import repeat

            repeated = repeat(loaded, repeats, trace=trace, seed=seed, workers=None, progress=bar.named)
    document = comparison.to_dict() | ({"doubt": [one.to_dict() for one in doubted]} if doubt else {})
    _finish(document | _repeats_document(repeated) if json else None, plot, comparison)
    show.skipped_lines(comparison.trace)
    if json:
        show.doubts(trace.demand.doubts)
    else:
        show.comparison(loaded, comparison, kept_grade(loaded, seed), doubted)
        if repeated is not None:
            show.repeats(repeated)
    best = comparison.cheapest if repeated is None else repeated.cheapest
    return int(strict and best is None)


@app.command(epilog="Example:  libramen events landing/study.toml --plan bold")
def events(
    study: StudyPath,
    plan: Annotated[str, typer.Option("--plan", metavar="PLAN", help="Name of the plan.")],
    json: Json = False,
    seed: Seed = 0,
    trust_code: Trust = False,
    no_cache: NoCache = False,
    once: Annotated[
        bool, typer.Option("--once", help="Count each event once a month, not as often as the trace stands for.")
    ] = False,
    plot: Plot = None,
) -> int:
    """What each release and fault of a plan costs: as planned, in the quietest window, with other strategies."""
    from libramen.cli import show
    from libramen.comparison.events import events as find_events
    from libramen.engine.compiling import Compilation
    from libramen.study.study import load_study

    _check_plot(plot)
    loaded = load_study(study, trust_code=trust_code)
    loaded.plan(plan)
    with Compilation(show.told) as compilation, show.progress() as bar:
        trace = loaded.trace(seed=seed, progress=bar.share("reading the trace"), cache=not no_cache)
        compilation.wait()
        found = find_events(loaded, plan, trace=trace, seed=seed, once=once, progress=bar.named)
    _finish(found.to_dict() if json else None, plot, found)
    show.skipped_lines(trace)
    if json:
        show.doubts(trace.demand.doubts)
    else:
        show.events(loaded, found)
    return 0


@app.command(
    epilog="Example:  libramen search saltmarsh/study.toml --plan steady --vary replicas=2..20 --vary size=small,medium"
)
def search(
    study: StudyPath,
    name: Annotated[str | None, typer.Argument(metavar="[NAME]", help="A [search.NAME] of the study.")] = None,
    plan: Annotated[
        str | None, typer.Option("--plan", metavar="PLAN", help="Name of the plan: all that is not varied.")
    ] = None,
    vary: Annotated[
        list[str] | None,
        typer.Option(
            "--vary",
            metavar="KEY=VALUES",
            help="Key and values, 2..20 or a,b,c; also scaling.K, rollouts.N.K, size.K, tier.K, service.K; or auto.",
        ),
    ] = None,
    json: Json = False,
    seed: Seed = 0,
    strict: Strict = False,
    trust_code: Trust = False,
    no_cache: NoCache = False,
    front: Annotated[
        bool, typer.Option("--front", help="Replay all, and show the plans that nobody beats in everything.")
    ] = False,
    save: Annotated[
        Path | None, typer.Option("--save", metavar="FILE", help="Write the winner as a plan to be pasted: .toml.")
    ] = None,
    plot: Plot = None,
) -> int:
    """Find the cheapest combination that meets every objective, and prove it without replaying all of them."""
    from libramen.cli import show
    from libramen.comparison.search import search as find
    from libramen.comparison.vary import read_values
    from libramen.engine.compiling import Compilation
    from libramen.errors import OutputError
    from libramen.fields import nearest
    from libramen.files import check_output, write_whole
    from libramen.study.study import load_study
    from libramen.study.written import plan_toml

    _check_plot(plot)
    if save is not None:
        check_output(save, (".toml",))
    ranges: dict[str, Any] = {}
    for one in vary or ():
        if one == "auto":
            continue
        key, equals, values = one.partition("=")
        if not equals or not values or key.strip() in ranges:
            raise OutputError(f"--vary: found {one!r}; allowed: KEY=VALUES, each key once, such as replicas=2..20")
        ranges[key.strip()] = read_values(values)
    loaded = load_study(study, trust_code=trust_code)
    if name is not None:
        if name not in loaded.searches:
            raise OutputError(f"{study}: there is no [search.{name}]; {nearest(name, loaded.searches)}")
        planned, own = loaded.searches[name]
        plan, ranges = plan or planned, own | ranges
    if plan is None:
        raise OutputError("--plan is missing; allowed: a plan and what is varied, or the name of a [search.NAME]")
    loaded.plan(plan)
    with Compilation(show.told) as compilation, show.progress() as bar:
        trace = loaded.trace(seed=seed, progress=bar.share("reading the trace"), cache=not no_cache)
        compilation.wait()
        found = find(
            loaded,
            plan,
            vary=ranges,
            auto="auto" in (vary or ()),
            trace=trace,
            seed=seed,
            workers=None,
            front=front,
            progress=bar.named,
        )
    winner = found.winner()
    if save is not None and winner is not None:
        text = plan_toml(winner, f"{plan}-found", loaded.tiers).encode()

        def write(path: Path) -> None:
            path.write_bytes(text)

        write_whole(save, write)
    _finish(found.to_dict() if json else None, plot, found)
    show.skipped_lines(trace)
    if json:
        show.doubts(trace.demand.doubts)
    else:
        show.search(loaded, found, front=front)
    return int(strict and found.cheapest is None)


@app.command(epilog="Example:  libramen headroom saltmarsh/study.toml --plan brisk --grow 8%")
def headroom(
    study: StudyPath,
    plan: Annotated[
        list[str] | None, typer.Option("--plan", metavar="PLAN", help="Name of a plan, more than once for several.")
    ] = None,
    grow: Annotated[
        str | None, typer.Option("--grow", metavar="SHARE", help="Growth of the load a month: in which month it ends.")
    ] = None,
    json: Json = False,
    seed: Seed = 0,
    trust_code: Trust = False,
    no_cache: NoCache = False,
    plot: Plot = None,
) -> int:
    """How much more load each plan takes, which objective breaks first, and what runs out."""
    from libramen.cli import show
    from libramen.comparison.headroom import headroom as find
    from libramen.engine.compiling import Compilation
    from libramen.study.study import load_study
    from libramen.units import parse_share

    _check_plot(plot)
    growth = None if grow is None else parse_share(grow)
    loaded = load_study(study, trust_code=trust_code)
    with Compilation(show.told) as compilation, show.progress() as bar:
        trace = loaded.trace(seed=seed, progress=bar.share("reading the trace"), cache=not no_cache)
        compilation.wait()
        found = find(loaded, trace=trace, plans=plan or None, grow=growth, seed=seed, workers=None, progress=bar.named)
    _finish(found.to_dict() if json else None, plot, found)
    show.skipped_lines(trace)
    if json:
        show.doubts(trace.demand.doubts)
    else:
        show.headroom(loaded, found)
    return 0


@app.command(epilog="Example:  libramen backtest saltmarsh/study.toml --plot backtest.png")
def backtest(
    study: StudyPath,
    json: Json = False,
    seed: Seed = 0,
    strict: Annotated[
        bool, typer.Option("--strict", help="Exit with 1 when the grade is neither close nor fair.")
    ] = False,
    no_cache: NoCache = False,
    plot: Plot = None,
    fit: Annotated[
        str | None,
        typer.Option("--fit", metavar="KEYS", help="Which slots,threads,cpu_share,overhead explain the log best."),
    ] = None,
) -> int:
    """Replay the log on the plan on which it was recorded, and see how far to trust a replay."""
    from libramen.cli import show
    from libramen.comparison.backtest import backtest as test_study
    from libramen.engine.compiling import Compilation
    from libramen.errors import LibramenError
    from libramen.study.study import load_study

    _check_plot(plot)
    loaded = load_study(study)
    with Compilation(show.told) as compilation, show.progress() as bar:
        compilation.wait()
        fitted: tuple[Fitted, ...] = ()
        if fit is not None:
            from libramen.comparison.fit import fit as fit_settings

            keys = [key.strip() for key in fit.split(",")]
            fitted = fit_settings(loaded, keys, seed=seed, cache=not no_cache, progress=bar.named)
        try:
            found = test_study(loaded, seed=seed, cache=not no_cache, progress=bar.named)
        except LibramenError:  # the settings in the study are impossible: then what was fitted is the answer
            if fitted and not json:
                show.fitted(fitted)
            raise
    document = found.to_dict() | ({"fit": [one.to_dict() for one in fitted]} if fit is not None else {})
    _finish(document if json else None, plot, found)
    show.skipped_lines(found.trace)
    if json:
        show.doubts(found.trace.demand.doubts)
    else:
        show.backtest(found, fitted)
    return int(strict and found.grade.grade not in {"close", "fair"})


@app.command(epilog="Example:  libramen prepare")
def prepare() -> int:
    """Compile the replay engine now, for instance when an image is built; else the first replay does it."""
    from libramen.engine.compiling import compile_now, is_compiled

    had_been = is_compiled()
    compile_now()
    typer.echo("The replay engine was compiled already." if had_been else "The replay engine is compiled.")
    return 0


def _stretch(trace: Trace, first: str | None, last: str | None) -> dict[str, float | None]:
    """What is to be drawn, in seconds from the start."""
    from libramen.times import parse_moment

    found: dict[str, float | None] = {}
    for name, text, key in (("--from", first, "from_s"), ("--to", last, "to_s")):
        found[key] = None if text is None else _within(parse_moment(text).lies_at(trace, name), trace)
    return found


def _within(at_s: float, trace: Trace) -> float:
    return min(max(0.0, at_s), trace.span_s)


def _repeats_document(repeated: Repeats | None) -> dict[str, Any]:
    return {} if repeated is None else {"repeats": repeated.to_dict()}


def _check_plot(plot: Path | None) -> None:
    if plot is not None:
        from libramen.files import check_output

        check_output(plot, (".png", ".svg"))


def _finish(document: dict[str, Any] | None, plot: Path | None, result: Any) -> None:
    """Print the JSON and draw the picture, where they are asked for."""
    if plot is not None:
        from libramen.draw.style import save

        save(result.plot(), plot)
    if document is not None:
        import json

        typer.echo(json.dumps(document, indent=2, allow_nan=False))
