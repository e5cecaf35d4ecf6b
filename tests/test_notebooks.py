"""The notebooks of the docs, cell by cell, as a reader runs them: each shows something, and no table is broad."""

from __future__ import annotations

import ast
import json
import re
from pathlib import Path
from typing import Any

import pytest

NOTEBOOKS = sorted((Path(__file__).parent.parent / "docs" / "notebooks").glob("*.ipynb"))
MOST_COLUMNS = 8


def _shown(source: str, names: dict[str, Any]) -> Any:
    """What a cell shows: the value of its last line, if that is an expression."""
    tree = ast.parse(source)
    last = tree.body[-1]
    if not isinstance(last, ast.Expr):
        exec(compile(tree, "cell", "exec"), names)
        return None
    exec(compile(ast.Module(tree.body[:-1], []), "cell", "exec"), names)
    return eval(compile(ast.Expression(last.value), "cell", "eval"), names)


@pytest.mark.parametrize("path", NOTEBOOKS, ids=lambda path: path.stem)
def test_every_cell_runs_and_shows_little(path: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    names: dict[str, Any] = {"__name__": "__main__"}
    cells = [cell for cell in json.loads(path.read_text())["cells"] if cell["cell_type"] == "code"]
    assert all(not cell["outputs"] and cell["execution_count"] is None for cell in cells)  # the site has them
    pictures = 0
    for cell in cells:
        shown = _shown("".join(cell["source"]), names)
        if hasattr(shown, "_repr_png_"):
            assert shown._repr_png_().startswith(b"\x89PNG")
            pictures += 1
        elif hasattr(shown, "_repr_html_"):
            for head in re.findall(r"<thead>\s*(<tr.*?</tr>)", shown._repr_html_() or "", re.DOTALL):
                assert head.count("<th") <= MOST_COLUMNS + 1, cell["source"]  # and the index
    assert pictures >= 2


def test_a_reader_is_told_where_to_go_on() -> None:
    """Each notebook links to the next, and all are on the first page."""
    index = (NOTEBOOKS[0].parent.parent / "index.md").read_text()
    assert len(NOTEBOOKS) == 3
    assert all(f"notebooks/{path.name}" in index for path in NOTEBOOKS)
    linked = set(re.findall(r"\((\S+\.ipynb)\)", " ".join(path.read_text() for path in NOTEBOOKS)))
    assert linked == {"choose-a-plan.ipynb", "how-far.ipynb"}
