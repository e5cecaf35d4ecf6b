"""`libramen trace ...`: look at traces, convert, shape and make them."""

from __future__ import annotations

import json as json_format
import re
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from libramen.cli.common import Json, NoCache, OutputsAndPicture, Seed
from libramen.cli.grouped import App

if TYPE_CHECKING:
    from libramen.trace.trace import Trace

_BARE = re.compile(r"[^\s\"'\[\]{},#=][^\"'\[\]{}#=]*")

app = App(help="Look at traces, convert, shape and make them.", no_args_is_help=True)

Out = Annotated[Path, typer.Option("--out", metavar="FILE", help="Where to: .csv, .jsonl, .parquet or .arrow.")]
Settings = Annotated[
    list[str],
    typer.Option("--set", metavar="KEY=VALUE", help="A key of [trace], such as latency_unit=ms; may be repeated."),
]


@dataclass(frozen=True)
class Source:
    """Logs or a trace, read as `[trace]` with some keys would."""

    files: Annotated[list[str], typer.Argument(metavar="FILES", help="Logs or a trace table; patterns and '-' too.")]
    seed: Seed = 0
    time_zone: Annotated[
        str, typer.Option("--time-zone", metavar="ZONE", help="Zone of local times, such as Europe/Lisbon.")
    ] = "UTC"
    settings: Settings = field(default_factory=list)
    no_cache: NoCache = False

    def read(self, *, estimate: bool = True, **more: Any) -> Trace:
        """Read it, with a bar."""
        from libramen.cli import show
        from libramen.load.load import Load
        from libramen.study.trace_table import TraceTable

        table = TraceTable(files=self.files, time_zone=self.time_zone, **_settings(self.settings), **more)
        with show.progress() as bar:
            load = Load(table, Path(), self.seed)
            return load.trace(bar.share("reading"), estimate=estimate, cache=not self.no_cache)


@app.command(examples=["libramen trace inspect saltmarsh/saltmarsh.log.gz --time-zone Europe/Lisbon"])
def inspect(source: Source, out: OutputsAndPicture) -> int:
    """Look at the load of logs or a trace, and see what was assumed."""
    from libramen.cli import show
    from libramen.report.load import summary_sections
    from libramen.trace.source import Demand
    from libramen.trace.summary import summarise

    trace = source.read(estimate=False)
    summary = summarise(trace)
    show.skipped_lines(trace)
    show.unusual((), trace)
    if out.json:
        show.doubts(Demand("quiet", doubts=summary.doubts))
    out.draw(summary)
    out.give(summary, lambda: summary_sections(summary), "routes")
    return 0


@app.command(examples=["libramen trace convert saltmarsh/saltmarsh.log.gz --out saltmarsh/trace.parquet"])
def convert(
    source: Source,
    out: Out,
    counts: Annotated[
        str | None, typer.Option("--counts", metavar="LENGTH", help="Write requests per interval, such as 1m.")
    ] = None,
    json: Json = False,
) -> int:
    """Write any readable log or trace as a trace table, or as counts per interval."""
    from libramen.base import units

    _check_out(out)
    every_s = None if counts is None else units.parse_duration(counts)
    return _write(source.read(), out, json, every_s)


@app.command(
    examples=["libramen trace shape saltmarsh/saltmarsh.log.gz --step '{ repeat = \"7d\" }' --out week.parquet"]
)
def shape(
    source: Source,
    out: Out,
    steps: Annotated[list[str], typer.Option("--step", metavar="STEP", help="A step as in shape = [...]; in order.")],
    json: Json = False,
) -> int:
    """Stretch, thin, grow, cut or mix a trace, and write it."""
    _check_out(out)
    return _write(source.read(**_toml("shape = [" + ", ".join(steps) + "]", "--step")), out, json)


@app.command(examples=["libramen trace make --set rate=20 --set profile=daily --out day.parquet"])
def make(
    out: Out,
    settings: Settings = [],  # noqa: B006
    seed: Seed = 0,
    json: Json = False,
) -> int:
    """Make a synthetic trace; the keys of --set are the arguments of make_trace."""
    import inspect as signatures

    from libramen.base.errors import TraceError
    from libramen.base.fields import nearest
    from libramen.trace.make import make_trace

    _check_out(out)
    chosen = _settings(settings)
    known = [name for name in signatures.signature(make_trace).parameters if name != "seed"]
    for key in chosen:
        if key not in known:
            raise TraceError(f"--set: unknown key {key!r}; {nearest(key, known)}")
    return _write(make_trace(**chosen, seed=seed), out, json)


def _check_out(out: Path) -> None:
    from libramen.base.files import check_output
    from libramen.trace.write import SUFFIXES

    check_output(out, SUFFIXES)


def _settings(settings: list[str]) -> dict[str, Any]:
    chosen: dict[str, Any] = {}
    for setting in settings:
        chosen |= _toml(setting, "--set")
    if "recorded_on" in chosen:
        from libramen.base.errors import TraceError

        raise TraceError(
            "--set: recorded_on names a plan, and there is no study here; allowed: it in [trace] of a study"
        )
    return chosen


def _toml(text: str, option: str) -> dict[str, Any]:
    import tomllib

    from libramen.base.errors import TraceError

    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError:
        key, equals, word = text.partition("=")
        if equals and _BARE.fullmatch(word.strip()):  # a shell has taken the quotes away
            return {key.strip(): word.strip()}
        example = "--set latency_unit=ms" if option == "--set" else "--step '{ scale = 2 }'"
        raise TraceError(f"{option}: found {text!r}; allowed: TOML such as {example}") from None


def _write(trace: Trace, out: Path, json: bool, counts_every: float | None = None) -> int:
    from libramen.cli import show
    from libramen.trace.write import write_trace

    write_trace(trace, out, counts_every=counts_every)
    show.skipped_lines(trace)
    show.unusual((), trace)
    if json:
        document = {"out": str(out), "requests": len(trace), "span_s": trace.span_s, "notes": list(trace.source.notes)}
        typer.echo(json_format.dumps(document, indent=2))
    else:
        show.written(trace, out)
    return 0
