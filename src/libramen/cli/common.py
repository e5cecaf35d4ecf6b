"""What the commands share: their options, a study that is ready to be replayed, and how results are given out."""

from __future__ import annotations

from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator

    from libramen.cli.show import Bar
    from libramen.study.study import Study
    from libramen.trace.trace import Trace

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


def check_plot(plot: Path | None) -> None:
    """Before any time is spent: whether a picture can be written there.

    Raises:
        OutputError: it cannot.
    """
    if plot is not None:
        from libramen.files import check_output

        check_output(plot, (".png", ".svg"))


@contextmanager
def ready(study: Study, seed: int, *, no_cache: bool) -> Iterator[tuple[Trace, Bar]]:
    """The trace of a study, with the engine compiled, and a progress bar for what is done with them."""
    from libramen.cli import show
    from libramen.engine.compiling import Compilation

    with Compilation(show.told) as compilation, show.progress() as bar:
        trace = study.trace(seed=seed, progress=bar.share("reading the trace"), cache=not no_cache)
        compilation.wait()
        yield trace, bar


def finish(document: dict[str, Any] | None, plot: Path | None, result: Any) -> None:
    """Print the JSON and draw the picture, where they are asked for."""
    if plot is not None:
        from libramen.draw.style import save

        save(result.plot(), plot)
    if document is not None:
        import json

        typer.echo(json.dumps(document, indent=2, allow_nan=False))


def give_out(
    trace: Trace, document: dict[str, Any] | None, plot: Path | None, result: Any, shown: Callable[[], None]
) -> None:
    """The picture, then the JSON and the doubts about the trace, or without JSON what is `shown` to people."""
    from libramen.cli import show

    finish(document, plot, result)
    show.skipped_lines(trace)
    if document is None:
        shown()
    else:
        show.doubts(trace.demand.doubts)
