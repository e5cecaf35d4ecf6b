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


PAGES = [*PAGE.parent.rglob("*.md"), *(PAGE.parent.parent / name for name in ("README.md", "CONTRIBUTING.md"))]


def test_every_finding_and_problem_is_explained() -> None:
    """What it means and what to do, a section a kind; and nothing that is not found any more."""
    from libramen.report.findings import _SENTENCES as FINDINGS
    from libramen.report.problems import _SENTENCES as PROBLEMS

    page = PAGE.with_name("findings.md").read_text()
    sections = dict(re.findall(r"^### (\w+)\n(.*?)(?=^#|\Z)", page, re.MULTILINE | re.DOTALL))
    assert set(sections) == set(FINDINGS)
    assert all("**Do:**" in text for text in sections.values())
    told = re.findall(r"^\| (`.*?) \|", page.split("## Problems")[1], re.MULTILINE)
    assert sorted(re.findall(r"`(\w+)`", " ".join(told))) == sorted(PROBLEMS)


def test_every_command_answers_a_question() -> None:
    import typer

    from libramen.cli.app import app

    commands = set(typer.main.get_command(app).commands) - {"demo", "prepare", "store", "schema", "trace"}  # type: ignore[attr-defined]
    page = PAGE.with_name("questions.md").read_text()
    assert all(f"libramen {name}" in page for name in commands)
    pages = {page.name for page in (PAGE.parent / "how-to").glob("*.md")}
    assert all(f"how-to/{name}" in page for name in pages - {"how-sure.md"})
    reference = PAGE.with_name("commands.md").read_text()
    assert all(f"## libramen {name}\n" in reference for name in commands)


def test_everything_public_is_in_the_reference_and_every_picture_in_the_gallery() -> None:
    import libramen

    listed = re.findall(r"auto(?:class|function|exception):: libramen\.(\w+)", PAGE.with_name("python.md").read_text())
    assert sorted(listed) == sorted(name for name in libramen.__all__ if name != "__version__")
    gallery = PAGE.with_name("gallery.md").read_text()
    pictures = {picture.name for picture in (PAGE.parent / "screenshots").glob("*.png")}
    assert set(re.findall(r"screenshots/([\w-]+\.png)", gallery)) == pictures


def test_outputs_on_pages_are_those_of_commands(tmp_path: Path) -> None:
    """Each page with an output is one that `python docs/outputs.py` fills; it picks lines as it is told."""
    outputs = runpy.run_path(str(PAGE.with_name("outputs.py")))
    assert outputs["_picked"]("a\nb 1\nc\nd\nb 2\n", "/^a/+1; /^b/") == "a\nb 1\n...\nb 2"
    page = "<!-- run: touch made -->\n<!-- shows: all -->\n```console\n$ ls\nold\n```\n"
    assert outputs["filled"](page, tmp_path).endswith("$ ls\nmade\n```\n")
    with pytest.raises(outputs["PageError"], match="is not in the output"):
        outputs["_picked"]("a", "/b/")


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
