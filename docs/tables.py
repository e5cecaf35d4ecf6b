"""Fills the tables of the pages from the code: `python docs/tables.py`.

A page says what belongs between two comments, and this script writes it there:

    <!-- keys: libramen.study.service:Service -->         the keys of a table of a study
    <!-- keys: libramen.rules.scaling:Target - libramen.rules.scaling.rule:Rule -->   those that the second lacks
    <!-- arguments: libramen:make_trace -->               the arguments of a function, from its docstring
    <!-- price: Egress -->                                a price: what it is, and its keys with their places
    <!-- trace keys -->                                   the keys of [trace], and which formats know them
    <!-- help: trace make -->                             what a command says of itself
    <!-- advice: flapping -->                             what to do about a finding
"""

from __future__ import annotations

import inspect
import re
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Any

from libramen.base.units import show_duration
from libramen.prices import PRICES
from libramen.report.advice import ADVICE
from libramen.study.trace_table import TraceTable
from libramen.trace.formats.registry import users_of

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from pydantic.fields import FieldInfo

    from libramen.base.fields import Table

DOCS = Path(__file__).parent
_MARK = re.compile(
    r"(<!-- (keys|arguments|price|trace keys|help|advice)(?:: ([^>]*?))? -->\n)(.*?)(<!-- end -->)", re.DOTALL
)
PLACES = {
    "of_tier": "`[tiers.T]`", "of_free": "`[tiers.T] free = { ... }`", "of_size": "`[tiers.T.sizes.S]`",
    "of_plan": "`[plans.P]`", "of_study": "`[study]`",
}  # fmt: skip
_KINDS = ("rule", "strategy", "kind")
"""Keys that say which table it is."""
_NAMED = ("Tier", "Size")
"""Tables whose name stands in the head of the table."""


def filled(page: str) -> str:
    """A page with its tables as the code has them."""
    return _MARK.sub(lambda mark: f"{mark[1]}\n{FILL[mark[2]](mark[3])}\n\n{mark[5]}", page)


def pages() -> list[Path]:
    """Those that have such tables."""
    return [page for page in sorted(DOCS.rglob("*.md")) if _MARK.search(page.read_text(encoding="utf-8"))]


def _class(place: str) -> Any:
    module, _, name = place.strip().partition(":")
    return getattr(import_module(module), name)


def _cell(text: str) -> str:
    return " ".join(text.split()).replace("|", "\\|")


def _default(field: FieldInfo) -> str:
    default = field.default
    if field.is_required():
        return "must be given"
    if default is None or default in ((), {}):
        return ""
    if "[s]" in (field.description or "") and isinstance(default, float | int):
        default = show_duration(default)
    if hasattr(default, "share"):
        default = default.share
    if type(default).__name__ == "Delay":
        default = show_duration(default.median_s)
    if type(default).__name__ == "ReplicaLimits":
        default = "{ least = 1 }"
    if type(default).__name__ == "Fixed" or default == "":
        return ""
    if isinstance(default, bool):
        default = str(default).lower()
    return f"`{', '.join(map(str, default)) if isinstance(default, tuple) else default}`"


def _table(head: tuple[str, ...], rows: Sequence[tuple[str, ...]]) -> str:
    lines = [f"| {' | '.join(cells)} |" for cells in (head, *rows)]
    return "\n".join([lines[0], "|---" * len(head) + "|", *lines[1:]])


def _fields(table: type[Table], without: type[Table] | None = None) -> list[tuple[str, FieldInfo]]:
    known = set(without.model_fields) if without else set()
    return [
        (name, field)
        for name, field in table.model_fields.items()
        if name not in known
        and not field.exclude
        and field.description
        and name not in _KINDS
        and not (name == "name" and table.__name__ in _NAMED)
    ]


def keys(told: str) -> str:
    """The keys of a table, but for those of another."""
    place, *others = told.split(" - ")
    fields = _fields(_class(place), _class(others[0]) if others else None)
    rows = [(f"`{name}`", _cell(field.description or ""), _default(field)) for name, field in fields]
    return _table(("key", "", "default"), rows)


def arguments(told: str) -> str:
    """The arguments of a function with their defaults, as its docstring says them."""
    function = _class(told)
    said = inspect.cleandoc(function.__doc__).split("Args:\n")[1].split("\n\n")[0]
    entries = re.findall(r"^    (\w[\w, ]*): (.*?)(?=^    \w[\w, ]*: |\Z)", said, re.MULTILINE | re.DOTALL)
    defaults = {name: one.default for name, one in inspect.signature(function).parameters.items()}
    rows = []
    for names, text in entries:
        shown = [
            defaults[name]
            for name in names.split(", ")
            if defaults.get(name) not in (None, (), inspect.Parameter.empty)
        ]
        rows.append((f"`{names.replace(', ', '`, `')}`", _cell(text), ", ".join(f"`{one}`" for one in shown)))
    return _table(("argument", "", "default"), rows)


def price(told: str) -> str:
    """What a price is, and its keys with the tables in which they stand."""
    (one,) = (entry for entry in PRICES if type(entry).__name__ == told)
    rows = [
        (f"`{name}`", place, _cell(field.description or ""), _default(field))
        for of, place in PLACES.items()
        if (table := getattr(one, of)) is not None
        for name, field in table.model_fields.items()
    ]
    said = inspect.cleandoc(one.__doc__ or "")
    return said + ("\n\n" + _table(("key", "where", "", "default"), rows) if rows else "")


def trace_keys(_told: str) -> str:
    """The keys of `[trace]`, and which formats know them."""
    rows = [
        (f"`{name}`", _cell(field.description or ""), _default(field), ", ".join(users_of(name)))
        for name, field in TraceTable.model_fields.items()
    ]
    return _table(("key", "", "default", "only for"), rows)


def help_of(told: str) -> str:
    """What a command says of itself."""
    from typer.testing import CliRunner

    from libramen.cli.app import app

    command = told.split() if told else []
    said = CliRunner().invoke(app, [*command, "--help"], prog_name="libramen", env={"COLUMNS": "100"}).output
    return f"```text\n{said.strip()}\n```"


def advice(told: str) -> str:
    """What to do about a finding."""
    return f"**Do:** {ADVICE[told]}"


FILL: dict[str, Callable[[str], str]] = {
    "keys": keys, "arguments": arguments, "price": price, "trace keys": trace_keys, "help": help_of, "advice": advice,
}  # fmt: skip

if __name__ == "__main__":
    for page in pages():
        page.write_text(filled(page.read_text(encoding="utf-8")), encoding="utf-8")
