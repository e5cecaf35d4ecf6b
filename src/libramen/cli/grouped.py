"""How commands describe themselves: options in groups, commands in the order of the questions, examples as typed."""

from __future__ import annotations

import functools
import inspect
from dataclasses import MISSING, fields, is_dataclass
from typing import TYPE_CHECKING, Any, Final, get_type_hints

import typer
from typer.core import TyperCommand, TyperGroup

if TYPE_CHECKING:
    from collections.abc import Callable

_OPTIONS: Final = {
    "How it is replayed": (
        "seed", "repeats", "trust-code", "no-cache", "store", "no-store", "cluster", "memory",
    ),
    "What comes out": (
        "json", "csv", "format", "plot", "percentile", "where", "money", "costs", "month", "requests", "decisions",
        "series", "out", "save", "strict", "from", "to",
    ),
    "Help": ("help", "version", "install-completion", "show-completion"),
}  # fmt: skip
"""Names of options by the heading under which they stand; the others stand under that of their command."""
_COMMANDS: Final = {
    "Begin": ("demo", "check", "prepare"),
    "The load": ("trace", "backtest"),
    "Plans": ("compare", "replay", "search", "headroom", "breakeven", "events", "tiers"),
    "Handing over": ("report", "schema", "store"),
}
_STATUS: Final = {
    "": "0  all is well",
    "strict": "1  something that --strict asks for is not met",
    "against": "1  something got worse than in the file of --against",
    "help": "2  the input or the command is wrong; 3  a mistake of Libramen's",
}


def _is_in(group: tuple[str, ...], names: list[str]) -> bool:
    return any(name.lstrip("-") in group for name in names)


class _Command(TyperCommand):
    """A command whose options are in groups."""

    def format_options(self, ctx: Any, formatter: Any) -> None:
        """Arguments, then what is asked, then the groups."""
        records = [(param, param.get_help_record(ctx)) for param in self.get_params(ctx)]
        told = [(param, record) for param, record in records if record is not None]
        arguments = [record for param, record in told if param.param_type_name == "argument"]
        if arguments:
            with formatter.section("Arguments"):
                formatter.write_dl(arguments)
        options = [(param, record) for param, record in told if param.param_type_name != "argument"]
        grouped = {heading: [r for p, r in options if _is_in(names, p.opts)] for heading, names in _OPTIONS.items()}
        rest = [r for p, r in options if not any(_is_in(names, p.opts) for names in _OPTIONS.values())]
        for heading, rows in {"What is asked": rest, **grouped}.items():
            if rows:
                with formatter.section(heading):
                    formatter.write_dl(rows)

    def format_epilog(self, ctx: Any, formatter: Any) -> None:
        """Exit statuses, and examples as they are typed, each on its line."""
        names = {name.lstrip("-") for param in self.get_params(ctx) for name in param.opts}
        with formatter.section("Exit status"):
            for line in (text for name, text in _STATUS.items() if name in {*names, ""}):
                formatter.write(f"{'':{formatter.current_indent}}{line}\n")
        if self.epilog:
            with formatter.section("Examples"):
                for line in self.epilog.splitlines():
                    formatter.write(f"{'':{formatter.current_indent}}{line}\n")


class _Group(TyperGroup):
    """Commands by the questions that they answer, each with its whole sentence."""

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        """A section a group; those in none are the first."""
        names = self.list_commands(ctx)
        known = {name for group in _COMMANDS.values() for name in group}
        rest = tuple(name for name in names if name not in known)
        for heading, group in {"Commands": rest, **_COMMANDS}.items():
            rows = []
            for name in group:
                command = self.get_command(ctx, name) if name in names else None
                if command is not None and not command.hidden:
                    rows.append((name, (command.help or "").split("\n\n")[0].replace("\n", " ")))
            if rows:
                with formatter.section(heading):
                    formatter.write_dl(rows)


class App(typer.Typer):
    """Commands of these kinds."""

    def __init__(self, **how: Any) -> None:
        super().__init__(cls=_Group, rich_markup_mode=None, **how)

    def command(  # type: ignore[override]
        self, name: str | None = None, *, examples: list[str], **how: Any
    ) -> Callable[[Any], Any]:
        """Add a command; `examples`: as they are typed."""
        add = super().command(name, cls=_Command, epilog="\n".join(examples), **how)
        return lambda function: add(_with_options(function))


def _with_options(function: Callable[..., int]) -> Callable[..., int]:
    """A command in whose place of a dataclass stand the options that are its fields."""
    hints = get_type_hints(function, include_extras=True)
    tables: dict[str, Any] = {name: kind for name, kind in hints.items() if is_dataclass(kind)}
    parameters: list[inspect.Parameter] = []
    for name, parameter in inspect.signature(function).parameters.items():
        if name not in tables:
            parameters.append(parameter.replace(annotation=hints[name]))
            continue
        of = get_type_hints(tables[name], include_extras=True)
        for one in fields(tables[name]):
            default = [] if one.default_factory is not MISSING else one.default
            none = inspect.Parameter.empty if default is MISSING else default
            parameters.append(parameter.replace(name=one.name, annotation=of[one.name], default=none))

    @functools.wraps(function)
    def command(**given: Any) -> int:
        made = {name: kind(**{one.name: given.pop(one.name) for one in fields(kind)}) for name, kind in tables.items()}
        return function(**given, **made)

    needed = sorted(parameters, key=lambda one: one.default is not inspect.Parameter.empty)
    command.__signature__ = inspect.Signature(needed, return_annotation=int)  # type: ignore[attr-defined]
    command.__annotations__ = {one.name: one.annotation for one in needed} | {"return": int}
    return command
