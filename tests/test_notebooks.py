"""The notebooks of the docs, cell by cell, as a reader runs them: each shows something, and no table is broad."""

from __future__ import annotations

import ast
import json
import re
import sys
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest

from libramen import load_study
from libramen.report.bar import bar_of_notebook

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


@pytest.mark.parametrize(
    "path",
    [  # the site runs all of them
        path if path.stem == "know-my-load" else pytest.param(path, marks=pytest.mark.thorough) for path in NOTEBOOKS
    ],
    ids=lambda path: path.stem,
)
def test_every_cell_runs_and_shows_little(
    path: Path, demo_study: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    (tmp_path / "saltmarsh").symlink_to(demo_study.parent)  # it is written once for all tests, and kept as it is
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


def test_a_bar_beneath_the_cell(monkeypatch: pytest.MonkeyPatch, hour_study: Path) -> None:
    """Not for what is done at once; then moved, and gone at the end. Elsewhere there is none."""
    shown: list[str] = []

    class Place:
        def update(self, text: str) -> None:
            shown.append(text)

    def display(text: str, display_id: bool) -> Place:
        shown.append(text)
        return Place()

    assert bar_of_notebook() is None
    shell = SimpleNamespace(get_ipython=lambda: SimpleNamespace(kernel=1))
    monkeypatch.setitem(sys.modules, "IPython", shell)
    monkeypatch.setitem(sys.modules, "IPython.display", SimpleNamespace(HTML=str, display=display))
    now = [0.0]
    monkeypatch.setattr("libramen.report.bar.time.monotonic", lambda: now[0])
    bar = bar_of_notebook()
    assert bar is not None
    now[0] = 0.7
    bar("done at once", 1.0)
    now[0] = 0.0
    for at, share in ((0.1, 0.1), (0.6, 0.3), (0.65, 0.4), (0.8, 0.5), (0.81, 1.0)):
        now[0] = at
        bar("<replaying>", share)
    assert shown == [
        '<progress value="0.300" max="1"></progress> &lt;replaying&gt;',
        '<progress value="0.500" max="1"></progress> &lt;replaying&gt;', "",
    ]  # fmt: skip
    # Questions ask for it by themselves.
    seen: list[tuple[str, float]] = []
    monkeypatch.setattr("libramen.report.bar._Bar", lambda: lambda what, share: seen.append((what, share)))
    study = load_study(hour_study)
    study.compare(plans=["single", "steady"])
    assert seen
    assert seen[-1][1] == 1.0


def test_short_views_keep_what_counts(hour_study: Path) -> None:
    """Of a dozen columns those eight that say what is bought, how it was and what it costs."""
    study = load_study(hour_study)
    comparison = study.compare(plans=["single", "steady"])
    heads = re.findall(r"<th[^>]*>([^<]*)</th>", comparison._repr_html_())
    assert heads == ["plan", "replicas", "p95", "≤ 600 ms", "worst hour", "available", "EUR/month", "objectives"]
    assert list(comparison.table.columns[-3:]) == ["month [EUR]", "meets_all", "misses"]
    bill = study.replay("steady").bill
    assert {"item", "quantity", "unit", "unit_price [EUR]", "amount [EUR]"} < set(bill.table)
    assert not bill.table.isna().all().any()  # nor a column in which there is nothing
    assert bill.table["amount [EUR]"].sum() == bill.month
