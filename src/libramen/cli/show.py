"""How results are printed for people."""

from __future__ import annotations

import shlex
import sys
import textwrap
import time
from typing import TYPE_CHECKING, Self

from rich import box
from rich.console import Console
from rich.markup import escape
from rich.progress import BarColumn, Progress, TaskProgressColumn, TextColumn, TimeRemainingColumn
from rich.table import Table

from libramen.base import units
from libramen.base.errors import printable

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable
    from pathlib import Path
    from types import TracebackType

    from libramen.report.section import Section
    from libramen.study.study import Study
    from libramen.trace.source import Demand
    from libramen.trace.trace import Trace

_PIPED_WIDTH = 200
_A_WHILE_S = 5.0
_WIDE_ENOUGH = 156
# A rule under the heading and nothing else: what is left of the width is for the figures.
_RULE = box.Box("    \n    \n ── \n    \n    \n    \n    \n    \n")


class _Console(Console):
    def on_broken_pipe(self) -> None:
        """Whoever read has gone: that is for `cli.run` to answer, not for the console."""
        raise BrokenPipeError


def _console(*, error: bool = False) -> Console:
    """A console as wide as the terminal; where there is none, wide enough for every table."""
    stream = sys.stderr if error else sys.stdout
    return _Console(file=stream, width=None if stream.isatty() else _PIPED_WIDTH, highlight=False)


def _safe(text: str) -> str:
    """Text that may come from anybody, such as a route: neither markup nor escapes of the terminal."""
    return escape(printable(text))


class Bar:
    """A progress bar on stderr, where that is a terminal."""

    def __init__(self) -> None:
        columns = (TextColumn("{task.description}"), BarColumn(), TaskProgressColumn(), TimeRemainingColumn())
        shown = sys.stderr.isatty()
        self._progress = Progress(*columns, console=_console(error=True), transient=True, disable=not shown)
        self._task = self._progress.add_task("", total=1.0)
        self._began_s = time.monotonic()

    def named(self, what: str, share: float) -> None:
        """Show what is being done and how much of it is."""
        self._progress.update(self._task, description=_safe(what), completed=share)

    def share(self, what: str) -> Callable[[float], None]:
        """A function to be called with the share of one thing that is done."""
        return lambda share: self.named(what, share)

    def line(self, sentence: str) -> None:
        """Say something above it, once what is being done has taken a while."""
        if time.monotonic() - self._began_s > _A_WHILE_S:
            _say(self._progress.console, sentence)

    def __enter__(self) -> Self:
        self._progress.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._progress.stop()


def progress() -> Bar:
    """A progress bar to be used in a `with` block."""
    return Bar()


def _say(console: Console, text: str, style: str | None = None) -> None:
    """Print a sentence without breaking it, so that what is copied from it works."""
    console.print("\n".join(map(_safe, text.split("\n"))), style=style, soft_wrap=True)


def _broken(console: Console, text: str) -> str:
    """Prose: in a terminal broken between words, elsewhere a line a sentence."""
    return textwrap.fill(text, console.width - 1, subsequent_indent="  ") if console.is_terminal else text


def told(sentence: str) -> None:
    """Say on stderr what is being done."""
    _say(_console(error=True), sentence)


def skipped_lines(trace: Trace) -> None:
    """On stderr: how many lines could not be read, and the first of them."""
    source = trace.source
    if not source.skipped:
        return
    console = _console(error=True)
    _say(
        console,
        f"{source.skipped:,} of {source.lines:,} lines could not be read and are left out, the first ones:",
    )
    for skipped in source.first_skipped:
        where = f"{skipped.file}:{skipped.line}" if skipped.line else skipped.file
        _say(console, f"  {where}: {skipped.reason}")


def doubts(found: Demand) -> None:
    """On stderr: what speaks against the work that was taken from a log, where stdout is for JSON."""
    from libramen.report.words import demand_sections

    for section in demand_sections(found):
        for line in (section.title, *section.sentences):
            _say(_console(error=True), line)


def unusual(of_study: tuple[str, ...], trace: Trace) -> None:
    """On stderr, before anything is replayed: numbers that can hardly be meant."""
    from libramen.trace.implausible import unit_doubts

    for doubt in (*of_study, *unit_doubts(trace)):
        told(f"Can this be meant? {doubt[0].upper()}{doubt[1:]}")


def render(sections: Iterable[Section]) -> None:
    """Print sections, with a blank line between them and around tables."""
    console = _console()
    narrow = console.width < _WIDE_ENOUGH
    is_blank = False  # whether the line before is

    def apart() -> None:
        nonlocal is_blank
        if not is_blank:
            console.print()
        is_blank = True

    def say(text: str, style: str | None = None, *, prose: bool = False) -> None:
        nonlocal is_blank
        _say(console, _broken(console, text) if prose else text, style)
        is_blank = False

    for section in sections:
        if section.title or section.sentences:
            apart()
        if section.title:
            say(section.title, "bold")
        for sentence in section.sentences:
            say(sentence, prose=section.prose)
        if section.rows:
            apart()
            console.print(_table(section, narrow=narrow))
            console.print()
        for note in section.notes:
            say(note, "dim")


def _table(section: Section, *, narrow: bool) -> Table:
    section = section.for_people()
    table = Table(box=_RULE, pad_edge=False, padding=(0, 1, 0, 0), show_edge=False)
    shown = [at for at, column in enumerate(section.columns) if not (narrow and column.only_wide)]
    for at in shown:
        column = section.columns[at]
        table.add_column(escape(column.title), justify="right" if column.is_number else "left", no_wrap=True)
    for row in section.rows:
        cells = (row.cells[at] for at in shown)
        texts = (cell.short if narrow and cell.short is not None else cell.text for cell in cells)
        table.add_row(*map(_safe, texts), style="bold" if row.stands_out else None)
    return table


def next_steps(study: Study) -> None:
    """What to try after the demo, in commands that can be typed as they stand."""
    console = _console()
    file = shlex.quote(str(study.path))
    folder = study.path.parent
    console.print()
    _say(console, "Next, for example:")
    # The plan with the most to see, and a backtest where the log has a plan on which it was recorded.
    plan = "late" if "late" in study.plans else next(name for name in reversed(study.plans))
    commands = [
        f"libramen replay {file} --plan {plan} --plot {shlex.quote(str(folder / f'{plan}.png'))}",
        f"libramen compare {file} --plot {shlex.quote(str(folder / 'compare.png'))}",
        f"libramen check {file}",
    ]
    if study.trace_table.recorded_on is not None:
        commands.append(f"libramen backtest {file} --plot {shlex.quote(str(folder / 'backtest.png'))}")
    for command in commands:
        _say(console, f"  {command}")
    _say(console, f"Or change a number in {study.path} and compare again.")


def written(trace: Trace, path: Path) -> None:
    """What was written, and what was assumed on the way."""
    console = _console()
    _say(console, f"{path}: {len(trace):,} requests over {units.show_duration(trace.span_s)}")
    for note in trace.source.notes:
        _say(console, f"  {note}")
