"""What the commands share: their options, a study that is ready to be replayed, and how results are given out.

A dataclass here stands in a command for the options that are its fields; see `grouped.App.command`.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, TypeVar

import typer

if TYPE_CHECKING:
    from concurrent.futures import Executor

    from libramen.cli.show import Bar
    from libramen.questions.context import Asking
    from libramen.report.section import Section
    from libramen.runs.store import Store
    from libramen.study.study import Study
    from libramen.trace.trace import Trace

_Found = TypeVar("_Found")
FORMS = ("text", "md")
_REACHED_S = 10
"""So long a cluster may take to answer."""
Json = Annotated[bool, typer.Option("--json", help="Print JSON on stdout, and nothing else there.")]
Seed = Annotated[int, typer.Option("--seed", min=0, help="Random seed.")]
Strict = Annotated[bool, typer.Option("--strict", help="Exit with 1 when an objective or check is not met.")]
NoCache = Annotated[bool, typer.Option("--no-cache", help="Read the files again, also if they were read before.")]
RepeatTimes = Annotated[
    str | None,
    typer.Option(
        "--repeats", metavar="N", help="Replay with N seeds, and say how much is luck; auto: until it is clear."
    ),
]
StoreFile = Annotated[
    Path | None,
    typer.Option("--store", metavar="FILE", help="Keep figures here, .sqlite (default: in the cache directory)."),
]
Memory = Annotated[
    str | None, typer.Option("--memory", metavar="SIZE", help="What replays may take (default: half of the machine's).")
]
Growth = Annotated[
    str | None,
    typer.Option("--grow", metavar="SHARE", help="Growth of the load a month, as 8% or 5%..12%: when it ends."),
]


def plans_of(incomplete: str) -> list[str]:
    """For completion in the shell: the names of the plans of the study that stands on the line."""
    import os
    import tomllib

    line = os.environ.get("COMP_WORDS") or os.environ.get("_TYPER_COMPLETE_ARGS") or ""
    study = next((word for word in line.split() if word.endswith(".toml")), None)
    if study is None:
        return []
    try:
        with Path(study).expanduser().open("rb") as file:
            plans = tomllib.load(file).get("plans")
    except (OSError, ValueError):
        return []
    return [name for name in plans if name.startswith(incomplete)] if isinstance(plans, dict) else []


OnePlan = Annotated[str, typer.Option("--plan", metavar="PLAN", autocompletion=plans_of, help="Name of the plan.")]
SomePlans = Annotated[
    list[str] | None,
    typer.Option("--plan", metavar="PLAN", autocompletion=plans_of, help="Name of a plan, more than once for several."),
]


def check_plot(plot: Path | None) -> None:
    """Before any time is spent: whether a picture can be written there.

    Raises:
        OutputError: it cannot.
    """
    if plot is not None:
        from libramen.base.files import check_output

        check_output(plot, (".png", ".svg"))


def read(text: str | None, parse: Callable[[Any], _Found], option: str) -> _Found | None:
    """What an option says, None: it is not there; a bare number is one, as in a study.

    Raises:
        ReplayError: it is not allowed.
    """
    from libramen.base.errors import ReplayError, UnitError
    from libramen.base.units import number_or_text

    try:
        return None if text is None else parse(number_or_text(text))
    except UnitError as error:
        raise ReplayError(f"{option}: {error}") from None


def read_repeats(text: str | None) -> Any:
    """What `--repeats` says: a number, `auto` or None.

    Raises:
        ReplayError: it is none of these.
    """
    if text is None or text == "auto":
        return text
    from libramen.questions.repeats import check_repeats

    n = int(text) if text.isdecimal() else text
    check_repeats(n)
    return n


def open_store(file: Path | None, *, no_store: bool) -> Store | None:
    """Where figures are kept, None: nowhere.

    Raises:
        OutputError: both are said; the file is something else.
    """
    from libramen.base.errors import OutputError
    from libramen.cli import show
    from libramen.runs.store import Store

    if no_store and file is not None:
        raise OutputError("--store and --no-store are both there; allowed: one of them")
    return None if no_store else Store(file, show.told)


@contextmanager
def _on_cluster(address: str | None) -> Iterator[Executor | None]:
    """Where replays run: on a cluster, or None: on this machine.

    Raises:
        OutputError: it cannot be reached, or what is needed for it is not installed.
    """
    if address is None:
        yield None
        return
    from libramen.base.errors import OutputError

    try:
        from distributed import Client
    except ImportError:
        raise OutputError("--cluster needs the extra `cluster`: pip install 'libramen[cluster]'") from None
    try:
        client: Any = Client(address, timeout=_REACHED_S)  # type: ignore[no-untyped-call]
    except Exception as error:  # noqa: BLE001  (nobody knows what its ways of connecting may raise)
        why = " ".join(str(error).split())[:200] or type(error).__name__
        if "ssl_context" in why:
            why = "TLS needs certificates, and the Dask configuration of this machine names none"
        raise OutputError(f"--cluster {address}: cannot be reached: {why}; allowed: such as tcp://HOST:8786") from None
    with client:
        yield client.get_executor()


@dataclass(frozen=True)
class Given:
    """A study, and how it is read."""

    study: Annotated[Path, typer.Argument(metavar="STUDY", help="The study file (TOML).")]
    seed: Seed = 0
    no_cache: NoCache = False

    def load(self) -> Study:
        """The study.

        Raises:
            StudyError: something in it is not allowed.
        """
        from libramen.study.file import load_study

        return load_study(self.study)

    @property
    def reading(self) -> dict[str, Any]:
        """The keywords of what reads its trace."""
        return {"seed": self.seed, "cache": not self.no_cache}


@dataclass(frozen=True)
class Replayed(Given):
    """A study that is replayed here and now."""

    trust_code: Annotated[
        bool,
        typer.Option("--trust-code", help="Run scaling rules in Python modules beside the study; read them first."),
    ] = False

    def load(self) -> Study:
        """The study; its rules may run, if that is said."""
        from libramen.study.file import load_study

        return load_study(self.study, trust_code=self.trust_code)

    @contextmanager
    def ready(self, study: Study) -> Iterator[tuple[Trace, Bar]]:
        """Its trace, with the engine compiled, and a progress bar for what is done with them."""
        from libramen.cli import show
        from libramen.engine.compiling import Compilation
        from libramen.study.unusual import unusual_values

        with Compilation(show.told) as compilation, show.progress() as bar:
            trace = study.trace(progress=bar.share("reading the trace"), **self.reading)
            show.unusual(unusual_values(study), trace)
            compilation.wait()
            yield trace, bar


@dataclass(frozen=True)
class ReplayedOften(Replayed):
    """A study that is replayed many times, on workers, with figures that are kept."""

    store: StoreFile = None
    no_store: Annotated[bool, typer.Option("--no-store", help="Replay everything, and keep nothing.")] = False
    cluster: Annotated[
        str | None,
        typer.Option("--cluster", metavar="ADDRESS", help="Replay on this Dask cluster, tcp://HOST:PORT."),
    ] = None

    @contextmanager
    def asked(self, study: Study) -> Iterator[tuple[Trace, Bar, Asking]]:
        """Its trace, a progress bar, and in what every question that replays it many times is asked."""
        from libramen.runs.cases import cores, forks

        kept = open_store(self.store, no_store=self.no_store)
        workers = None if forks() else cores()  # nobody's script would run again
        try:
            with _on_cluster(self.cluster) as executor, self.ready(study) as (trace, bar):
                asked: Asking = {"trace": trace, "seed": self.seed, "store": kept, "progress": bar.named}
                yield trace, bar, {**asked, "executor": executor, "workers": workers}
        finally:
            if kept is not None:
                kept.close()


def save_figure(figure: Any, file: Path) -> None:
    """Write a picture: .png or .svg."""
    from libramen.draw.style import save

    save(figure, file)


def read_growth(text: str | None) -> tuple[float, float] | None:
    """What --grow says: the least and the greatest growth a month; None: it is not there.

    Raises:
        ReplayError: it is not allowed.
    """
    from libramen.base.units import parse_range, parse_share

    return read(text, lambda given: parse_range(given, parse_share), "--grow")


@dataclass(frozen=True)
class Outputs:
    """How a result is to be given out: in words or as JSON, and its tables, the main one where that is said."""

    json: Json = False
    csv: Annotated[
        Path | None, typer.Option("--csv", metavar="FILE", help="Write the tables as CSV, the main one here.")
    ] = None
    form: Annotated[
        str, typer.Option("--format", metavar="FORM", help="text, or md: Markdown, for a pull request.")
    ] = "text"

    def __post_init__(self) -> None:
        """Before any time is spent: whether they can be written.

        Raises:
            OutputError: they cannot.
        """
        if self.form not in FORMS or (self.json and self.form != "text"):
            from libramen.base.errors import OutputError

            beside = " beside --json" if self.json and self.form in FORMS else ""
            raise OutputError(f"--format: found {self.form!r}{beside}; allowed: {' or '.join(FORMS)}, or --json")
        if self.csv is not None:
            from libramen.base.files import check_output

            check_output(self.csv, (".csv",))

    def give(
        self,
        result: Any,
        sections: Callable[[], list[Section]],
        main: str,
        document: dict[str, Any] | None = None,
        *,
        trace: Trace | None = None,
    ) -> None:
        """The tables, and the JSON or the words; on stderr what is to be known of a trace.

        Args:
            result: with `to_dict()`.
            sections: what is said of it.
            main: name of the main table.
            document: the JSON, where it is not that of the result.
            trace: what was replayed.
        """
        from libramen.cli import show

        if trace is not None:
            show.skipped_lines(trace)
        made = sections() if self.csv is not None or not self.json else []
        if self.csv is not None:
            from libramen.report.tables import write_tables

            written = write_tables(self.csv, made, main)
            show.told(f"Written: {', '.join(map(str, written))}." if written else "There is no table to be written.")
        if self.json:
            import json

            typer.echo(json.dumps(result.to_dict() if document is None else document, indent=2, allow_nan=False))
            if trace is not None:
                show.doubts(trace.demand)
        elif self.form == "md":
            from libramen.report.markdown import to_markdown

            typer.echo(to_markdown(made), nl=False)
        else:
            show.render(made)


@dataclass(frozen=True)
class OutputsAndPicture(Outputs):
    """The same of a result that has a picture."""

    plot: Annotated[Path | None, typer.Option("--plot", metavar="FILE", help="Draw a picture: .png or .svg.")] = None

    def __post_init__(self) -> None:
        """See `Outputs`."""
        super().__post_init__()
        check_plot(self.plot)

    def draw(self, result: Any, **how: Any) -> None:
        """The picture, if one is asked for; `how`: of its `plot()`."""
        if self.plot is not None:
            save_figure(result.plot(**how), self.plot)
