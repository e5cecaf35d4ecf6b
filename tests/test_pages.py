"""Pages that say what the program says: the worked example of the data plane, the keys of scaling rules."""

from __future__ import annotations

import ast
import re
import runpy
from pathlib import Path

import pytest

from builders import both, make_plan, make_trace
from libramen import Service, read_trace
from libramen.trace.options import ReadOptions

ROOT = Path(__file__).parent.parent
PAGE = ROOT / "docs" / "data-plane.md"
KERNEL = ROOT / "src" / "libramen" / "engine" / "kernel"


def test_ten_requests_by_hand() -> None:
    """Arrivals, CPU work and waits are read from the table of the page; what it says of endings and latencies as well."""
    rows = [[cell.strip() for cell in line.strip("|\n").split("|")] for line in PAGE.read_text().splitlines()]
    table = [row for row in rows if len(row) == 7 and re.fullmatch(r"\d+", row[0])]
    assert [int(row[0]) for row in table] == list(range(1, 11))
    at, cpu, wait = ([float(row[k]) for row in table] for k in (1, 2, 3))
    outcome = both(make_trace(at, cpu=cpu, wait=wait, span_s=20), Service(slots=2, backlog=1), make_plan())
    assert list(outcome.requests["ending"]) == ["ok", "ok", "ok", "refused"] + ["ok"] * 6
    assert outcome.run.results.latency_s.tolist() == [4, 2, 2, 0, 1.5, 2, 3.5, 2, 0, 3]
    for row, latency in zip(table, outcome.run.results.latency_s, strict=True):
        assert row[6] in {"", f"{latency:g}"}, row


@pytest.mark.parametrize("file", sorted(KERNEL.glob("*.py")), ids=lambda file: file.stem)
def test_what_the_kernel_obeys_is_in_the_model(file: Path) -> None:
    head = ast.get_docstring(ast.parse(file.read_text())) or ""
    model = " ".join((PAGE.parent / "model.md").read_text().split())
    quoted = "\n".join(line[1:].strip() for line in head.splitlines() if line.startswith(">")).split("\n\n")
    assert all(" ".join(sentence.split()) in model for sentence in quoted)


def test_the_two_planes_stand_side_by_side() -> None:
    walk = PAGE.read_text().split("## Following one request")[1].split("## ")[0]
    rows = re.findall(r"^\| [a-z].*\|$", walk, re.MULTILINE)
    assert len(rows) > 8
    for row in rows:
        for plane, cell in zip(("plain", "kernel"), row.split("|")[2:4], strict=True):
            code = " ".join(file.read_text() for file in (KERNEL.parent / plane).glob("*.py"))
            for name in re.findall(r"`(?:\w+\.)?(\w+)`", cell):
                assert re.search(rf"\b{name}\b", code), name


def test_everything_in_the_layout_is_told_of() -> None:
    from libramen.engine.kernel import layout

    page = PAGE.read_text()
    for name in (
        "WORLD",
        "FLEET",
        "CLIENT",
        "POOL",
        "LEVEL",
        "REPLICA",
        "USE",
        "HEAP",
        "NODE",
        "VISIT",
        "ENDED_VISIT",
        "SENT",
        "TIMED",
    ):
        assert hasattr(layout, name)
        assert f"`{name}`" in page


def test_tables_of_the_pages_are_up_to_date() -> None:
    """`python docs/tables.py` has been run since a key, an argument or a help text was changed."""
    tables = runpy.run_path(str(PAGE.with_name("tables.py")))
    pages = tables["pages"]()
    assert {page.name for page in pages} >= {
        "study-file.md",
        "prices.md",
        "scaling-keys.md",
        "trace-keys.md",
        "making-traces.md",
    }
    for page in pages:
        assert tables["filled"](page.read_text()) == page.read_text(), page.name


def test_every_option_is_described_where_it_is_used() -> None:
    for name in ReadOptions.model_fields:
        assert f"`{name}`" in str(read_trace.__doc__), name


def test_every_rule_is_on_the_page() -> None:
    page = PAGE.with_name("scaling-keys.md").read_text()
    for rule in ("target", "steps", "on_arrival", "ahead", "python:module:name"):
        assert f'`rule = "{rule}"`' in page


PAGES = [*PAGE.parent.glob("*.md"), *(PAGE.parent.parent / name for name in ("README.md", "CONTRIBUTING.md"))]


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_what_a_page_links_to_is_there(page: Path) -> None:
    for target in re.findall(r"\]\(([^)#:]+)(?:#[^)]*)?\)", page.read_text()):
        assert (page.parent / target).exists(), target


@pytest.mark.parametrize("page", [PAGE.with_name("architecture.md"), PAGE.parent.parent / "CONTRIBUTING.md"])
def test_the_files_that_a_page_names_are_there(page: Path) -> None:
    """Such as `prices/egress.py`, `rules/scaling/` or `tests/test_bill.py`."""
    root = PAGE.parent.parent
    for name in re.findall(r"`([a-z_]+/[a-z_]+[a-z_/]*(?:\.py)?)`", page.read_text()):
        assert (root / name).exists() or (root / "src" / "libramen" / name).exists(), name
