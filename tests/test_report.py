"""Sections say a thing once; terminals, notebooks and files only render it."""

from __future__ import annotations

from typing import TYPE_CHECKING

import pytest

from builders import make_plan, make_trace
from libramen import Objectives, Service, replay
from libramen.cli import show
from libramen.report.comparison import plans_section
from libramen.report.html import to_html
from libramen.report.replay import bill_section, latency_section, objectives_section, time_section
from libramen.report.section import Cell, Column, Section, row

if TYPE_CHECKING:
    from libramen.outcome.figures import Figures

_TRICKY = Section(
    title="Two routes",
    sentences=("They are <b>plain</b>.",),
    columns=(Column("route", "route", is_number=False), Column("p95", "p95", "s"), Column("p99", only_wide=True)),
    rows=(
        row(["=SUM(A1)", Cell("20 ms", 0.02, "20"), Cell("30 ms")]),
        row(["[red]x", Cell("-"), Cell("-")], stands_out=True),
    ),
    notes=("p95 & p99: of ok requests.",),
)


@pytest.fixture(scope="module")
def figures() -> Figures:
    """Two requests of one route and one of another on one replica: latencies of 1, 1 and 2 s."""
    trace = make_trace([0, 10, 20], wait=[1, 1, 2], route=["/a", "/a", "/b"], span_s=3600)
    return replay(trace, Service(slots=1), make_plan(replicas=1), Objectives(p95="1.5s", month=1000)).figures()


def test_the_csv_of_a_section_has_units_and_nothing_that_a_spreadsheet_would_run() -> None:
    assert _TRICKY.to_csv() == "route,p95 [s]\r\n'=SUM(A1),0.02\r\n[red]x,\r\n"


def test_html_is_escaped() -> None:
    html = to_html([_TRICKY])
    assert "&lt;b&gt;plain&lt;/b&gt;" in html
    assert "p95 &amp; p99" in html
    assert "<strong>[red]x</strong>" in html
    assert html.count("<tr>") == 3


@pytest.mark.parametrize(("columns", "has_p99", "text"), [(200, True, "20 ms"), (80, False, "   20\n")])
def test_a_narrow_terminal_gets_fewer_columns_and_shorter_cells(
    columns: int, has_p99: bool, text: str, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(show, "_PIPED_WIDTH", columns)
    show.render([_TRICKY])
    printed = capsys.readouterr().out
    lines = printed.splitlines()
    assert ("p99" in lines[4]) == has_p99
    assert text in printed
    assert "[red]x" in printed
    assert lines[:3] == ["", "Two routes", "They are <b>plain</b>."]
    assert "\n\n\n" not in printed


def test_sections_are_made_of_the_figures_alone(figures: Figures) -> None:
    """What comes back from another machine says the same."""
    again = type(figures).from_dict(figures.to_dict())
    for section_of in (time_section, bill_section, objectives_section):
        assert section_of(again) == section_of(figures)
    one, other = (latency_section(of.latency_s, of.availability) for of in (again, figures))
    assert one == other
    assert plans_section([again]) == plans_section([figures])


def test_the_table_of_a_section_is_data(figures: Figures) -> None:
    frame = time_section(figures).to_frame().set_index("route")
    assert frame.loc["/a", "requests"] == 2
    assert frame.loc["/b", "p95"] == 2
    assert frame.loc["all requests", "waiting"] == pytest.approx(4 / 3)
    bill = bill_section(figures).to_frame()
    assert bill["amount"].sum() == pytest.approx(float(figures.bill.month))  # the total is none of its rows
    goals = objectives_section(figures).to_frame().set_index("objective")
    assert not goals.loc["p95", "met"]
    assert goals.loc["month", "met"]
    assert goals.loc["p95", "within"] == pytest.approx(2 / 3)
