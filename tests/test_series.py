"""The series of a replay as a table: against sums, the bill, and read back from files."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd
import pytest
from typer.testing import CliRunner

from builders import demo_in, make_plan, make_tier, make_trace
from libramen import OutputError, Service, load_study, replay
from libramen.cli.app import app

if TYPE_CHECKING:
    from pathlib import Path


def test_money_of_windows_by_hand() -> None:
    """Two replicas at 1 an hour, one ordered at half past ten; 2.4 GB at 1 a GB in the second hour: 1, 1.5 + 2.4.

    Of a trace of two hours from ten o'clock on each hour stands 365 times in a month.
    """
    tier = make_tier(billing="per_second", egress_per_gb=1)
    plan = make_plan(tier, replicas=[["10:00", 1], ["11:30", 2]])
    trace = make_trace([100, 3700], wait=1, bytes_out=[0, 2.4e9], span_s=7200, start="2031-06-05T10:00:00")
    outcome = replay(trace, Service(slots=5), plan, window_s=600)
    table = outcome.series_table()
    money = table["money [EUR]"].to_numpy()
    assert money[:6].sum() == pytest.approx(1.0)
    assert money[6:].sum() == pytest.approx(1.5 + 2.4)
    assert money == pytest.approx([1 / 6] * 6 + [3.9 / 6] * 6)  # an hour's money is laid evenly over it
    assert 365 * money.sum() == pytest.approx(float(outcome.bill.month))
    assert table["arrivals"].tolist() == [1, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0]
    assert table["ready"].tolist() == pytest.approx([1] * 9 + [2] * 3)


def test_money_of_hours_with_an_event_that_happens_once() -> None:
    """A release for a second fleet in the second of two hours, once a month: 1 x 2 hours + 2 h of the other, 364 times 1.

    The hour costs 1, or once 1 and what the second fleet takes; the mean over the month is what a window shows.
    """
    switch = {"at": 3600, "strategy": "switch", "keep_old": 1800}
    plan = make_plan(make_tier(billing="per_second"), replicas=1, rollouts=[switch])
    outcome = replay(
        make_trace([0], wait=1, span_s=7200, start="2031-06-05T10:00:00"), Service(slots=5), plan, window_s=3600
    )
    money = outcome.series_table()["money [EUR]"].to_numpy()
    assert 365 * money.sum() == pytest.approx(float(outcome.bill.month), abs=0.02)
    assert money[0] == pytest.approx(1.0)
    assert 365 * (money[1] - 1) == pytest.approx(0.5, abs=0.01)  # half an hour of one replica more, once a month


def test_windows_that_hours_cut() -> None:
    """Windows of 25 minutes from 10:50 on: what is of two hours is of both."""
    plan = make_plan(make_tier(billing="per_second"), replicas=[["10:50", 1], ["11:00", 3]])
    trace = make_trace([0], wait=1, span_s=6000, start="2031-06-05T10:50:00")
    table = replay(trace, Service(slots=5), plan, window_s=1500).series_table()
    minutes = np.array([[10, 15], [0, 25], [0, 20], [0, 0]])  # of the first hour, of the second; then of the third
    third = np.array([0, 0, 5, 25])
    assert table["money [EUR]"].tolist() == pytest.approx(((minutes @ [1, 3] + 3 * third) / 60).tolist())


def test_the_files(tmp_path: Path) -> None:
    """CSV and Parquet say the same, of several services each; the JSON has it on request."""
    file = demo_in(tmp_path / "cabins", "cabins")
    run, command = CliRunner().invoke, ["replay", str(file), "--plan", "pooled"]
    assert run(app, [*command, "--series", str(tmp_path / "s.csv")]).exit_code == 0
    shown = run(app, [*command, "--series", "-", "--json"])
    document = json.loads(shown.stdout)["series"]
    outcome = load_study(file).replay("pooled")
    wanted = outcome.series_table()
    read = pd.read_csv(tmp_path / "s.csv")
    assert [*read] == [*wanted] == [*document]
    assert {"web ready", "database utilisation", "money [EUR]", "p95 [s]"} <= set(read)
    for name in wanted:
        if name != "time":
            assert read[name].to_numpy() == pytest.approx(wanted[name].to_numpy(), nan_ok=True)
            there = [np.nan if value is None else value for value in document[name]]
            assert np.array(there, float) == pytest.approx(wanted[name].to_numpy(), nan_ok=True)
    assert pd.to_datetime(read["time"], utc=True).tolist() == wanted["time"].dt.tz_convert("UTC").tolist()
    run(app, [*command, "--series", str(tmp_path / "s.parquet")])
    pd.testing.assert_frame_equal(pd.read_parquet(tmp_path / "s.parquet"), wanted, check_dtype=False)
    assert read["arrivals"].sum() == outcome.n_requests


@pytest.mark.parametrize(
    ("series", "sentence"),
    [("-", "--series -: found no --json beside it"), ("x.txt", "found the ending '.txt'; allowed: .csv or .parquet")],
)
def test_where_it_cannot_go(demo_study: Path, series: str, sentence: str) -> None:
    run = CliRunner().invoke(app, ["replay", str(demo_study), "--plan", "steady", "--series", series])
    assert isinstance(run.exception, OutputError)
    assert sentence in str(run.exception)


def test_a_panel_of_a_picture_says_its_own_day() -> None:
    """Two days, and all failures on the second: the panel beside the whole begins on that day."""
    at_s = sorted([*np.arange(0, 172_800, 600.0), *(129_600 + np.arange(200) / 10)])
    trace = make_trace(at_s, wait=1, span_s=172_800, start="2031-06-04T00:00:00")
    figure = replay(trace, Service(slots=1, backlog=0), make_plan()).plot()
    labels = [axes.get_xlabel() for axes in figure.axes if axes.get_xlabel()]
    assert [label.rpartition("from ")[2] for label in labels] == ["Wed 04 Jun 2031", "Thu 05 Jun 2031"]
    shown = {label for axes in figure.axes for label in axes.get_legend_handles_labels()[1]}
    assert {"p95 to p99", "p95", "p50", "paid", "ready"} <= shown
