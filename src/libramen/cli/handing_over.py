"""The commands for what is kept and handed over: prices and schemas, the page, the store."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from libramen.cli.common import Growth, Outputs, ReplayedOften, SomePlans, open_store, read, read_growth
from libramen.cli.grouped import App

app = App()


@app.command(
    examples=[
        "libramen tiers saltmarsh/tiers.toml",
        "libramen tiers sizes.csv --column cores=vCPU --column per_hour=Price --save tiers.toml",
    ]
)
def tiers(
    out: Outputs,
    file: Annotated[
        Path | None,
        typer.Argument(
            metavar="[FILE]", help="A catalogue, a study, or a table of sizes, .csv (default: made-up ones)."
        ),
    ] = None,
    column: Annotated[
        list[str] | None,
        typer.Option("--column", metavar="KEY=NAME", help="What a column of the table is called, as cores=vCPU."),
    ] = None,
    cpu: Annotated[str, typer.Option("--cpu", metavar="TIME", help="CPU work of a request.")] = "50ms",
    size: Annotated[str, typer.Option("--bytes", metavar="SIZE", help="Bytes of an answer.")] = "10 kB",
    save: Annotated[
        Path | None, typer.Option("--save", metavar="FILE", help="Write them as a catalogue for a study: .toml.")
    ] = None,
) -> int:
    """What each size costs in a month: idle, half used and full, before anything is replayed."""
    from libramen.base.files import check_output
    from libramen.base.units import parse_duration, parse_size
    from libramen.cli.catalogues import show_prices

    if save is not None:
        check_output(save, (".toml",))
    cpu_s, sent = read(cpu, parse_duration, "--cpu"), read(size, parse_size, "--bytes")
    return show_prices(out, file, column or [], save, cpu=cpu_s or 0.0, bytes_out=sent or 0)


@app.command(
    examples=["libramen schema study --out study.schema.json", "libramen schema compare --out compare.schema.json"]
)
def schema(
    kind: Annotated[
        str,
        typer.Argument(metavar="[KIND]", help="study, catalogue, or a command: of what it prints."),
    ] = "study",
    out: Annotated[Path | None, typer.Option("--out", metavar="FILE", help="Write it there: .json.")] = None,
) -> int:
    """The JSON Schema of study files and catalogues, for editors; or of what a command prints with --json."""
    import json

    from libramen.base.errors import OutputError
    from libramen.base.files import check_output, write_whole
    from libramen.study.schema import KINDS, outputs, schema_of, schema_of_output

    if kind not in {*KINDS, *outputs()}:
        raise OutputError(f"schema: found {kind!r}; allowed: {', '.join((*KINDS, *outputs()))}")
    if out is not None:
        check_output(out, (".json",))
    found = schema_of_output(kind) if kind in outputs() else schema_of("study" if kind == "study" else "catalogue")
    text = json.dumps(found, indent=2, ensure_ascii=False) + "\n"
    if out is None:
        typer.echo(text, nl=False)
    else:
        write_whole(out, lambda path: path.write_text(text, encoding="utf-8"))
    return 0


@app.command(
    examples=[
        "libramen report saltmarsh/study.toml --out report.html",
        "libramen report saltmarsh/study.toml --out report.md --plan brisk --plan lamp --full",
    ]
)
def report(
    given: ReplayedOften,
    out: Annotated[Path, typer.Option("--out", metavar="FILE", help="Where to: .html, or .md without figures.")],
    plan: SomePlans = None,
    full: Annotated[
        bool, typer.Option("--full", help="Look for headroom and break-even, too, if they are not known yet.")
    ] = False,
    grow: Growth = None,
) -> int:
    """Write one page to hand over: the verdict, the plans, what happens, what it costs, how long it lasts."""
    from libramen.base.files import check_output, write_whole
    from libramen.cli import show
    from libramen.questions.dossier import dossier
    from libramen.report.markdown import to_markdown
    from libramen.report.page import page_of, sections_of

    check_output(out, (".html", ".md"))
    growth = read_growth(grow)
    study = given.load()
    for name in plan or ():
        study.plan(name)
    with given.asked(study) as (trace, _, asked):
        found = dossier(study, plans=plan or None, full=full, grow=growth, **asked)
        text = page_of(found) if out.suffix.lower() == ".html" else to_markdown(sections_of(found))
    write_whole(out, lambda path: path.write_text(text, encoding="utf-8"))
    show.skipped_lines(trace)
    show.told(f"{out}: {found.comparison.verdict()}")
    return 0


@app.command(examples=["libramen store --clear"])
def store(
    file: Annotated[
        Path | None, typer.Option("--store", metavar="FILE", help="This store (default: in the cache directory).")
    ] = None,
    clear: Annotated[bool, typer.Option("--clear", help="Throw away all that it keeps.")] = False,
) -> int:
    """Show how much is kept of earlier replays, and where; or clear it."""
    kept = open_store(file, no_store=False)
    assert kept is not None
    if clear:
        typer.echo(f"{kept.path}: {kept.clear():,} entries thrown away.")
    else:
        found = kept.size()
        typer.echo(f"{kept.path}: {found.entries:,} entries, {found.size / 1e6:,.1f} MB.")
    kept.close()
    return 0
