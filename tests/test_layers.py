"""The seam reaches what it names, and no files import each other in a circle; contracts prove the order of the rooms."""

from __future__ import annotations

import ast
import functools
import re
from pathlib import Path
from typing import NamedTuple

import libramen
from libramen.base import shown

SOURCE = Path(libramen.__file__).parent


class Import(NamedTuple):
    file: str
    module: str
    function: str  # in which it stands, empty: at the top
    typing: bool  # under TYPE_CHECKING


def _imports(path: Path) -> list[Import]:
    found: list[Import] = []

    def visit(node: ast.AST, function: str, typing: bool) -> None:
        for child in ast.iter_child_nodes(node):
            inside, only = function, typing
            if isinstance(child, ast.FunctionDef | ast.AsyncFunctionDef):
                inside = function or child.name
            elif isinstance(child, ast.If) and ast.unparse(child.test) == "TYPE_CHECKING":
                only = True
            elif isinstance(child, ast.ImportFrom) and (child.module or "").split(".")[0] == "libramen":
                for alias in child.names:
                    module = f"{child.module}.{alias.name}"
                    is_module = (SOURCE.parent / (module.replace(".", "/") + ".py")).exists()
                    found.append(Import(file, module if is_module else str(child.module), inside, only))
            elif isinstance(child, ast.Import):
                found.extend(
                    Import(file, alias.name, inside, only)
                    for alias in child.names
                    if alias.name.split(".")[0] == "libramen"
                )
            visit(child, inside, only)

    file = path.relative_to(SOURCE).as_posix()
    visit(_tree(path), "", typing=False)
    return found


@functools.cache
def _tree(path: Path) -> ast.Module:
    return ast.parse(path.read_text())


def test_what_is_reached_through_the_seam_is_there() -> None:
    """Each place that it names; and nobody else loads a module of this package by its name."""
    tables = (
        shown._SECTIONS, shown._FIGURES, shown._WHERE, shown._COSTS, shown._LIVE, shown._LIVE_COSTS, shown._SENTENCES,
        shown._ADVICE, shown.QUESTIONS,
    )  # fmt: skip
    single = [shown._HTML, shown._VERDICT, shown._PAGE, shown._SVG, shown._BAR]
    places = [*single, *(place for table in tables for place in table.values())]
    assert len(places) > 15
    for place in places:
        assert callable(shown.reach(place))
    loads = {path.name for path in SOURCE.rglob("*.py") if re.search(r"import_module\((?!\"IPython)", path.read_text())}
    assert loads <= {"shown.py", "heavy.py"}


def test_the_base_needs_nothing_heavy() -> None:
    """It is the first that everything else loads."""
    for path in (SOURCE / "base").glob("*.py"):
        assert path.name == "heavy.py" or "pandas" not in path.read_text()


def test_no_circles() -> None:
    """Of what is imported when a file is: of two files at most one needs the other."""
    edges: dict[str, set[str]] = {}
    for entry in (one for path in sorted(SOURCE.rglob("*.py")) for one in _imports(path)):
        if entry.function or entry.typing:
            continue
        name = entry.module.removeprefix("libramen").lstrip(".").replace(".", "/")
        target = next((c for c in (f"{name}.py", f"{name}/__init__.py") if (SOURCE / c).exists()), None)
        if target is not None:
            edges.setdefault(entry.file, set()).add(target)
    done: set[str] = set()

    def walk(file: str, path: tuple[str, ...]) -> None:
        assert file not in path, " -> ".join((*path[path.index(file) :], file))
        if file not in done:
            for other in sorted(edges.get(file, ())):
                walk(other, (*path, file))
            done.add(file)

    for file in sorted(edges):
        walk(file, ())


ONE_LOOP = {"advance", "_make_advance", "count", "_make_count"}
"""The bodies of two compiled loops, which their docstrings and the page about the data plane explain whole."""


def _lines_of_code(text: str, tree: ast.AST) -> set[int]:
    """Those that are no docstring, no comment, and not blank."""
    texts: set[int] = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant) and isinstance(node.value.value, str):
            texts |= set(range(node.lineno, (node.end_lineno or node.lineno) + 1))
    lines = enumerate(text.splitlines(), start=1)
    return {number for number, line in lines if line.strip() and not line.lstrip().startswith("#")} - texts


def test_nothing_is_long() -> None:
    """A file has at most 400 lines of code, a function at most 60."""
    for path in SOURCE.rglob("*.py"):
        text = path.read_text()
        tree = _tree(path)
        code = _lines_of_code(text, tree)
        assert len(code) <= 400, path
        for node in ast.walk(tree):
            if isinstance(node, ast.FunctionDef) and node.name not in ONE_LOOP:
                own = code.intersection(range(node.lineno, (node.end_lineno or node.lineno) + 1))
                assert len(own) <= 60, f"{path}: {node.name}"
