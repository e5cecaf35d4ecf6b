"""Tables of the command line as CSV: every number as it was, and no cell that a spreadsheet would run."""

from __future__ import annotations

import csv
import io
import math
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd
import pytest
from typer.testing import CliRunner

from builders import write_study
from libramen.base.errors import OutputError
from libramen.cli.app import app
from libramen.report import tables
from libramen.report.section import Cell, Column, Row, Section, row
from libramen.report.tables import write_tables

if TYPE_CHECKING:
    from pathlib import Path

COMMANDS = {
    "check": ["check", "{study}"],
    "compare": ["compare", "{study}", "--no-store", "--repeats", "3"],
    "replay": ["replay", "{study}", "--plan", "rolled"],
    "stretch": ["replay", "{study}", "--plan", "rolled", "--from", "100s"],
    "events": ["events", "{study}", "--plan", "rolled"],
    "search": [
        "search",
        "{study}",
        "--plan",
        "one",
        "--vary",
        "replicas=1..20",
        "--vary",
        "size.speed=0.01",
        "--no-store",
    ],
    "loads": ["search", "{study}", "--vary", "plan=one,rolled", "--vary", "trace.scale=1,2", "--no-store"],
    "headroom": ["headroom", "{study}", "--plan", "one", "--grow", "5%..9%", "--no-store"],
    "breakeven": ["breakeven", "{study}", "--between", "one,rolled,used", "--loads", "0.5..2", "--no-store"],
    "inspect": ["trace", "inspect", "{trace}"],
}
MAIN = {
    "replay": "bill",
    "stretch": "latency",
    "events": "rolling",
    "breakeven": "crossings",
    "inspect": "routes",
}


@pytest.fixture(scope="module")
def study(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Of routes and plans whose names a spreadsheet would run."""
    rng = np.random.default_rng(4)
    folder, n = tmp_path_factory.mktemp("tables"), 400
    columns = {
        "at_s": np.cumsum(rng.exponential(0.8, n)),
        "cpu_s": rng.exponential(0.3, n),
        "bytes_out": rng.exponential(1e5, n),
    }
    tiers = {
        "t": {"billing": "per_hour", "replicas": {"most": 30}, "sizes": {"small": {"cores": 1, "per_hour": 0.02}}},
        "u": {"billing": "per_request", "per_core_second": 0.0001, "sizes": {"small": {"cores": 1}}},
    }
    rollouts = [{"at": "100s", "strategy": "rolling"}]
    plans = {
        "one": {"tier": "t", "replicas": 2},
        "rolled": {"tier": "t", "replicas": 3, "rollouts": rollouts},
        "=1+1": {"tier": "t", "replicas": 3},
        "used": {"tier": "u", "replicas": 2},
    }
    tables = {"service": {"slots": 4, "timeout": "9s"}, "objectives": {"p95": "2s", "availability": "99%"}}
    file = write_study(
        folder, columns, tiers, plans, study={"name": "t", "fees": [{"name": "@SUM(A1)", "per_month": 3}]}, **tables
    )
    lines = (folder / "t.csv").read_text().splitlines()
    names = ["=HYPERLINK(0)", "+1", "-1", "@x", "/a,b", '/"q"', "/ok"]
    routes = [names[k % len(names)] if k % 40 else f"/{k}" for k in range(n)]
    body = [f'{line},"{route.replace(chr(34), 2 * chr(34))}"' for line, route in zip(lines[1:], routes, strict=True)]
    (folder / "t.csv").write_text("\n".join([lines[0] + ",route", *body]) + "\n")
    return file


def _same(text: str, value: Any) -> bool:
    if value is None:
        return text == ""
    if isinstance(value, bool):
        return text == str(value)
    if isinstance(value, int | float):
        return float(text) == value or (math.isnan(value) and text == "")
    return text.removeprefix("'") == value.removeprefix("'")


@pytest.mark.parametrize("name", COMMANDS)
def test_every_table_is_read_back_with_the_same_numbers(
    study: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, name: str
) -> None:
    made: list[Section] = []

    def caught(path: Path, sections: list[Section], main: str) -> list[Path]:
        made.extend(sections)
        return write_tables(path, sections, main)

    monkeypatch.setattr(tables, "write_tables", caught)
    arguments = [part.format(study=study, trace=study.parent / "t.csv") for part in COMMANDS[name]]
    run = CliRunner().invoke(app, [*arguments, "--csv", str(tmp_path / "out.csv")])
    assert run.exit_code == 0, run.output
    shown = [section for section in made if section.columns]
    main = MAIN.get(name, "plans")
    assert {section.name for section in shown} >= {main}
    assert all(section.name for section in shown)
    files = sorted(tmp_path.glob("*.csv"))
    assert len(files) == len(shown)
    counts: dict[str, int] = {}
    is_first = True
    for section in sorted(shown, key=lambda section: section.name != main):
        n = counts[section.name] = counts.get(section.name, 0) + 1
        file = tmp_path / (f"out.{section.name}{f'-{n}' if n > 1 else ''}.csv" if not is_first else "out.csv")
        is_first = False
        raw = file.read_bytes()
        assert raw.count(b"\r\n") >= 1 + len(section.rows) - sum(one.is_total for one in section.rows)
        head, *rows = csv.reader(io.StringIO(raw.decode("utf-8"), newline=""))
        kept = [at for at, column in enumerate(section.columns) if column.key]
        assert len(set(head)) == len(head) == len(kept)
        wanted = [one for one in (*section.rows, *section.more) if not one.is_total]
        assert len(rows) == len(wanted)
        for cells, one in zip(rows, wanted, strict=True):
            for text, at in zip(cells, kept, strict=True):
                assert _same(text, one.cells[at].value), (file.name, section.columns[at].key, text, one.cells[at])
                assert not text or (
                    text[0] not in "=+@\t\r" and (text[0] != "-" or isinstance(one.cells[at].value, float | int))
                )
                # What is shown as a number is one in data, too.
                assert not section.columns[at].is_number or not isinstance(one.cells[at].value, str)
        frame = pd.read_csv(file)
        assert len(frame) == len(wanted)
    if name == "search":
        assert len(pd.read_csv(tmp_path / "out.csv")) == 20  # those that are not shown, too
    if name == "replay":
        bill = pd.read_csv(tmp_path / "out.csv")
        assert f"{bill['amount [EUR]'].sum():.2f}" in run.stdout
        assert "'@SUM(A1)" in set(bill["item"])
        assert set(pd.read_csv(tmp_path / "out.time.csv")["route"]) >= {"'=HYPERLINK(0)", "'+1", "'-1", "'@x", "/a,b"}


def test_what_is_written_where(tmp_path: Path) -> None:
    """The main one where it was asked for, others by name, several of one name numbered; a total is not data."""
    columns = (Column("x", "x"), Column("", "y", "s", in_text=False), Column("shown alone", is_number=False))
    rows = (row([Cell("1", 1.5), Cell("", 2), "a"]), Row((Cell("sum", 9), Cell("", 9), Cell("b")), is_total=True))
    some = [Section(columns=columns, rows=rows, name=name) for name in ("a", "main", "a")]
    written = write_tables(tmp_path / "t.csv", [Section("no table"), *some], "main")
    assert [file.name for file in written] == ["t.csv", "t.a.csv", "t.a-2.csv"]
    assert (tmp_path / "t.csv").read_bytes() == b"x,y [s]\r\n1.5,2\r\n"
    assert write_tables(tmp_path / "none.csv", [Section("no table")], "main") == []
    assert not (tmp_path / "none.csv").exists()
    shown = some[0].for_people()
    assert [column.title for column in shown.columns] == ["x", "shown alone"]
    assert [len(one.cells) for one in shown.rows] == [2, 2]


@pytest.mark.parametrize("cell", ["=1", "+1", "-1", "@x", "\t=1", "\r=1", "\n=1"])
def test_cells_that_a_spreadsheet_would_run(cell: str) -> None:
    section = Section(columns=(Column("x", cell, is_number=False),), rows=(row([cell]),))
    head, body = csv.reader(io.StringIO(section.to_csv(), newline=""))
    assert head == body == ["'" + cell]


def test_a_table_that_cannot_be_written(study: Path, tmp_path: Path) -> None:
    run = CliRunner().invoke(app, ["compare", str(study), "--csv", str(tmp_path / "out.txt")])
    assert isinstance(run.exception, OutputError)
    assert "found the ending '.txt'; allowed: .csv" in str(run.exception)
