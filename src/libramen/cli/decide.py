"""The commands that decide: what events cost, which plan is cheapest, how much more load it takes."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from libramen.cli.common import (
    Growth,
    Memory,
    OnePlan,
    OutputsAndPicture,
    RepeatTimes,
    Replayed,
    ReplayedOften,
    SomePlans,
    Strict,
    plans_of,
    read,
    read_growth,
    read_repeats,
)
from libramen.cli.grouped import App

if TYPE_CHECKING:
    from libramen.study.plan import Plan
    from libramen.study.study import Study

app = App()


@app.command(
    examples=[
        "libramen events landing/study.toml --plan bold",
        "libramen events landing/study.toml --plan noon --plot noon.png",
    ]
)
def events(
    given: Replayed,
    plan: OnePlan,
    out: OutputsAndPicture,
    once: Annotated[
        bool, typer.Option("--once", help="Count each event once a month, not as often as the trace stands for.")
    ] = False,
) -> int:
    """What each release and fault of a plan costs: as planned, in the quietest window, with other strategies."""
    from libramen.questions.events import events as find
    from libramen.report.events import ways_sections

    study = given.load()
    study.plan(plan)
    with given.ready(study) as (trace, bar):
        found = find(study, plan, trace=trace, seed=given.seed, once=once, progress=bar.named)
    out.draw(found)
    out.give(found, lambda: ways_sections(found, study.name), "events", trace=trace)
    return 0


@app.command(
    examples=[
        "libramen search saltmarsh/study.toml --plan steady --vary replicas=2..20 --vary size=small,medium",
        "libramen search cabins/study.toml --plan pooled --vary auto",
        "libramen search saltmarsh/study.toml --vary plan=steady,lamp --vary trace.scale=0.5,1,2 --plot loads.png",
    ]
)
def search(
    given: ReplayedOften,
    out: OutputsAndPicture,
    name: Annotated[str | None, typer.Argument(metavar="[NAME]", help="A [search.NAME] of the study.")] = None,
    plan: Annotated[
        str | None,
        typer.Option(
            "--plan", metavar="PLAN", autocompletion=plans_of, help="Name of the plan: all that is not varied."
        ),
    ] = None,
    vary: Annotated[
        list[str] | None,
        typer.Option(
            "--vary",
            metavar="KEY=VALUES",
            help="Key and values, 2..20 or a,b,c: plan, replicas, scaling.K, size.K, service.K, trace.scale; or auto.",
        ),
    ] = None,
    strict: Strict = False,
    front: Annotated[
        bool, typer.Option("--front", help="Replay all, and show the plans that nobody beats in everything.")
    ] = False,
    save: Annotated[
        Path | None, typer.Option("--save", metavar="FILE", help="Write the winner as a plan to be pasted: .toml.")
    ] = None,
    repeats: RepeatTimes = None,
) -> int:
    """Find the cheapest combination that meets every objective, and prove it without replaying all of them."""
    from libramen.base.errors import OutputError
    from libramen.base.files import check_output
    from libramen.questions.search import search as find
    from libramen.report.search import search_sections

    if save is not None:
        check_output(save, (".toml",))
    ranges = _ranges(vary or [])
    study = given.load()
    if name is not None:
        planned, own = _named(study, name)
        if plan is not None:
            own.pop("plan", None)
        plan, ranges = plan or planned, own | ranges
    if plan is None and "plan" not in ranges:
        raise OutputError(
            "--plan is missing; allowed: a plan and what is varied, --vary plan=A,B, or the name of a [search.NAME]"
        )
    if plan is not None:
        study.plan(plan)
    for key in ranges if save is not None else ():
        if {"size", "tier"} & set(key.split(".")[:-1]):
            raise OutputError(f"--save: {key} changes what the tier sells, which a plan cannot name; leave one out")
    how: Any = {"auto": "auto" in (vary or ()), "front": front, "repeats": read_repeats(repeats)}
    with given.asked(study) as (trace, _, asked):
        found = find(study, plan, vary=ranges, **how, **asked)
    if save is not None:
        _save(save, found.winner(), plan, study)
    out.draw(found)
    out.give(found, lambda: search_sections(study.name, found, front=front), "plans", trace=trace)
    return int(strict and any(one.cheapest is None for one in found.scenarios))


def _named(study: Study, name: str) -> tuple[str | None, dict[str, Any]]:
    """The plan of a search of a study, and what it varies."""
    from libramen.base.errors import OutputError
    from libramen.base.fields import nearest

    if name not in study.searches:
        raise OutputError(f"{study.path}: there is no [search.{name}]; {nearest(name, study.searches)}")
    plan, ranges = study.searches[name]
    return plan, dict(ranges)


def _save(file: Path, winner: Plan | None, plan: str | None, study: Study) -> None:
    """Write the plan that won, if there is one; `plan`: the one that was varied, None: it is the winner's."""
    from libramen.base.files import write_whole
    from libramen.cli import show
    from libramen.study.written import plan_toml

    if winner is None:
        show.told(f"{file}: not written, since no combination meets every objective.")
    else:
        name = winner.name.split()[0] if plan is None else plan
        text = plan_toml(winner, f"{name}-found", study.tiers).encode()
        write_whole(file, lambda path: path.write_bytes(text))


def _ranges(vary: list[str]) -> dict[str, Any]:
    """What `--vary` says: the values of each key."""
    from libramen.base.errors import OutputError
    from libramen.questions.vary import read_values

    ranges: dict[str, Any] = {}
    for one in vary:
        if one == "auto":
            continue
        key, equals, values = one.partition("=")
        if not equals or not values or key.strip() in ranges:
            raise OutputError(f"--vary: found {one!r}; allowed: KEY=VALUES, each key once, such as replicas=2..20")
        ranges[key.strip()] = read_values(values)
    return ranges


@app.command(
    examples=[
        "libramen headroom saltmarsh/study.toml --plan brisk --grow 8%",
        "libramen headroom saltmarsh/study.toml --grow 5%..12% --plot headroom.png",
    ]
)
def headroom(
    given: ReplayedOften,
    out: OutputsAndPicture,
    plan: SomePlans = None,
    grow: Growth = None,
    repeats: Annotated[
        int | None,
        typer.Option("--repeats", metavar="N", min=1, max=100_000, help="Look for the limits with N seeds."),
    ] = None,
    memory: Memory = None,
) -> int:
    """How much more load each plan takes, which objective breaks first, and what runs out."""
    from libramen.base.units import parse_size
    from libramen.questions.headroom import headroom as find
    from libramen.report.headroom import headroom_sections, in_words

    how: Any = {"grow": read_growth(grow), "memory": read(memory, parse_size, "--memory"), "repeats": repeats}
    study = given.load()
    with given.asked(study) as (trace, bar, asked):
        found = find(study, plans=plan or None, found=lambda room: bar.line(in_words(room)), **how, **asked)
    out.draw(found)
    out.give(found, lambda: headroom_sections(found, study.name), "plans", trace=trace)
    return 0


@app.command(
    examples=[
        "libramen breakeven saltmarsh/study.toml --between steady,lamp --plot breakeven.png",
        "libramen breakeven saltmarsh/study.toml --between steady,lamp --loads 0.2..5",
    ]
)
def breakeven(
    given: ReplayedOften,
    out: OutputsAndPicture,
    between: Annotated[
        str | None, typer.Option("--between", metavar="P,Q,...", help="Two plans or more (default: all of them).")
    ] = None,
    loads: Annotated[
        str, typer.Option("--loads", metavar="FROM..TO", help="From where to where, in times the load of the trace.")
    ] = "0.05..20",
    memory: Memory = None,
) -> int:
    """At which loads another plan becomes the cheaper one, and which objectives each misses there."""
    from libramen.base.units import parse_range, parse_size
    from libramen.questions.break_even import break_even as find
    from libramen.report.break_even import break_even_sections

    ends, most = read(loads, parse_range, "--loads"), read(memory, parse_size, "--memory")
    assert ends is not None
    study = given.load()
    plans = None if between is None else [name.strip() for name in between.split(",")]
    for name in plans or ():
        study.plan(name)
    with given.asked(study) as (trace, _, asked):
        found = find(study, between=plans, loads=ends, memory=most, **asked)
    out.draw(found)
    out.give(found, lambda: break_even_sections(found, study.name), "crossings", trace=trace)
    return 0
