"""Shaping and making traces: what each step conserves, and what each process is."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest
from hypothesis import given, strategies as st

from builders import make_trace as trace_at
from libramen import StudyError, Trace, TraceError, load_study, make_trace, shaped, summarise, write_trace
from libramen.cli import run
from libramen.study.trace_table import TraceTable
from libramen.trace.steps import mixed

if TYPE_CHECKING:
    from pathlib import Path


def _shape(trace: Trace, *steps: dict[str, Any], seed: int = 0, folder: Any = None) -> Trace:
    return shaped(trace, steps, seed=seed, **({} if folder is None else {"folder": folder}))


def _day(**values: Any) -> Trace:
    return make_trace(
        **{
            "span": "1d",
            "rate": 0.5,
            "profile": "daily",
            "start": "2031-06-05",
            "time_zone": "Europe/Lisbon",
            "seed": 2,
        }
        | values
    )


def _per_hour(trace: Trace) -> np.ndarray:
    return np.bincount((trace.at_s // 3600).astype(int), minlength=int(trace.span_s // 3600))


@pytest.mark.parametrize("factor", [0.3, 1.0, 2.5])
def test_scale_keeps_the_pattern_and_the_work(factor: float) -> None:
    """Within 5 standard errors of the count of the day and of each hour; the mean work within 5 %."""
    day = _day()
    scaled = _shape(day, {"scale": factor})
    assert abs(len(scaled) - factor * len(day)) < 5 * np.sqrt(factor * len(day)) + 1
    assert (np.abs(_per_hour(scaled) - factor * _per_hour(day)) < 5 * np.sqrt(factor * _per_hour(day)) + 12).all()
    assert scaled.cpu_s.mean() == pytest.approx(day.cpu_s.mean(), rel=0.05)
    assert scaled.span_s == day.span_s
    assert len(np.unique(scaled.at_s)) == len(scaled)  # no copies at one instant


@given(st.floats(0.1, 5), st.integers(0, 100))
def test_every_step_leaves_a_valid_trace(factor: float, seed: int) -> None:
    trace = make_trace(span="1h", rate=0.05, seed=seed)
    steps = [{"scale": factor}, {"jitter": "30s"}, {"repeat": "5h"}, {"between": ["30m", "4h"]}]
    out = _shape(trace, *steps, seed=seed)
    again = _shape(trace, *steps, seed=seed)
    assert (np.diff(out.at_s) >= 0).all()
    assert ((out.at_s >= 0) & (out.at_s <= out.span_s)).all()
    assert out.span_s == 3.5 * 3600
    assert out.at_s.tobytes() == again.at_s.tobytes()


def test_repeat_keeps_local_hours_across_a_change_of_clocks() -> None:
    """Clocks go back in the night to 2031-10-26: the second copy of Saturday begins 25 h after the first Sunday."""
    saturday = _day(start="2031-10-25", rate=0.2)
    days = _shape(saturday, {"repeat": "73h"})
    assert days.span_s == 73 * 3600
    assert len(days) == 3 * len(saturday)
    for k, begin in enumerate((0, 24, 49)):
        first = days.at_s[k * len(saturday)]
        assert first == pytest.approx(begin * 3600 + saturday.at_s[0])
        assert days.local_time(first).strftime("%H:%M:%S") == saturday.local_time(saturday.at_s[0]).strftime("%H:%M:%S")


def test_repeat_of_a_week_is_by_weeks_and_of_an_hour_end_to_end() -> None:
    week = _day(span="7d", rate=0.01, profile="weekly")
    month = _shape(week, {"repeat": "21d"})
    assert len(month) == 3 * len(week)
    np.testing.assert_allclose(month.at_s[len(week) : 2 * len(week)], week.at_s + 7 * 86400)
    hour = make_trace(span="1h", rate=1, seed=1)
    np.testing.assert_allclose(
        _shape(hour, {"repeat": "3h"}).at_s, np.concatenate([hour.at_s + k * 3600 for k in range(3)])
    )
    with pytest.raises(TraceError, match="longer than the trace, which covers 1 h"):
        _shape(hour, {"repeat": "30m"})


def test_grow_compounds_by_the_month() -> None:
    """A month (730 h) at 1 request in 100 s growing by 100 %: the mean factor is the integral of 2^x over 0..1, 1 / ln 2."""
    month = make_trace(span="730h", rate=0.01, seed=3)
    grown = _shape(month, {"grow": "100%"})
    assert len(grown) / len(month) == pytest.approx(1 / np.log(2), rel=0.03)
    last = 700 * 3600
    assert np.count_nonzero(grown.at_s > last) / np.count_nonzero(month.at_s > last) == pytest.approx(1.97, rel=0.1)


def test_a_campaign_rises_and_falls_on_its_routes() -> None:
    """From 2 h on to 5 times in 10 min, back in 1 h: of the mean factor over that hour, 1 + 4 / 2."""
    trace = make_trace(span="6h", rate=2, routes={"/a": {}, "/b": {}}, seed=4)
    out = _shape(trace, {"campaign": "2h", "rise": "10m", "height": 5, "fall": "1h", "routes": ["/a"]})

    def count(one: Trace, route: str, begin: float, end: float) -> int:
        on = np.array([one.routes[code] == route for code in one.route_codes])
        return int(np.count_nonzero(on & (one.at_s >= begin) & (one.at_s < end)))

    top, back = 2 * 3600 + 600, 3 * 3600 + 600
    assert count(out, "/b", 0, 1e9) == count(trace, "/b", 0, 1e9)
    assert count(out, "/a", top, back) / count(trace, "/a", top, back) == pytest.approx(3, rel=0.08)
    assert count(out, "/a", back + 60, 1e9) == pytest.approx(count(trace, "/a", back + 60, 1e9), rel=0.01)


def test_between_moves_the_start() -> None:
    cut = _shape(_day(), {"between": ["06:00", "09:30"]})
    assert cut.span_s == 3.5 * 3600
    assert cut.start.isoformat() == "2031-06-05T06:00:00+01:00"
    assert len(cut) == np.count_nonzero((_day().at_s >= 6 * 3600) & (_day().at_s < 9.5 * 3600))


def test_only_without_and_mix(tmp_path: Path) -> None:
    trace = trace_at([0, 1, 2], cpu=1, route=["/a/x", "/b", "/a/y"], span_s=10)
    assert _shape(trace, {"only": ["/a/*"]}).at_s.tolist() == [0, 2]
    assert _shape(trace, {"without": ["/a/*"]}).at_s.tolist() == [1]
    with pytest.raises(TraceError, match="only leaves no request"):
        _shape(trace, {"only": ["/c"]})
    write_trace(trace_at([0.5, 12], cpu=3, route=["/c", "/b"], span_s=20), tmp_path / "o.csv")
    both = _shape(trace, {"mix": "o.csv"}, folder=tmp_path)
    assert both.at_s.tolist() == [0, 0.5, 1, 2, 12]
    assert both.cpu_s.tolist() == [1, 3, 1, 1, 3]
    assert [both.routes[code] for code in both.route_codes] == ["/a/x", "/c", "/b", "/a/y", "/b"]
    assert both.span_s == 20


def test_jitter_moves_by_at_most_so_much() -> None:
    trace = trace_at([float(100 * k) for k in range(50)], span_s=4900)
    moved = _shape(trace, {"jitter": "40s"})
    assert 20 < np.abs(moved.at_s - trace.at_s).max() <= 40


def test_two_equal_steps_draw_differently_and_are_noted() -> None:
    trace = make_trace(span="1h", rate=1)
    twice = _shape(trace, {"scale": 0.5}, {"scale": 0.5})
    assert len(twice) == pytest.approx(len(trace) / 4, rel=0.15)
    assert twice.source.notes[-1] == "shaped: scale = 0.5"
    bump = _shape(trace, {"campaign": "10m", "height": 2, "routes": ["all"]})
    job = _shape(trace, {"job": "/n", "at": "10m", "count": 2, "cpu": "4s", "wait": {"p50": "1s", "p95": "3s"}})
    assert 'cpu = "4 s", wait = { p50 = "1 s", p95 = "3 s" }' in job.source.notes[-1]
    assert bump.source.notes[-1] == "shaped: campaign = \"10m\", height = 2.0, routes = ['all']"


def test_a_step_that_is_none(tmp_path: Path) -> None:
    path = tmp_path / "study.toml"
    for step, message in (
        ("{ stretch = 2 }", "allowed: a table with one of the keys scale, grow"),
        ('{ scale = "much" }', r"\[trace.shape\[1\]\] scale: found 'much'; allowed: a number"),
        ('{ campaign = "12:00" }', r"height is missing"),
    ):
        path.write_text(f'[trace]\nfiles = "x"\nshape = [{step}]\n[service]\nslots = 1\n[plans.p]\n')
        with pytest.raises(StudyError, match=message):
            load_study(path)


# -- making ----------------------------------------------------------------------------------------


def test_a_poisson_process_has_dispersion_one_and_a_bursty_one_more() -> None:
    """The index of dispersion of counts per minute is 1 within 5 standard errors of sqrt(2 / 1440); the mean rates agree."""
    poisson = make_trace(span="1d", rate=5, seed=1)
    assert summarise(poisson).dispersion == pytest.approx(1, abs=5 * np.sqrt(2 / 1440))
    assert len(poisson) == pytest.approx(5 * 86400, rel=0.01)
    bursty = make_trace(span="1d", rate=5, arrivals="bursty", burst=8, burst_length="20s", seed=1)
    assert summarise(bursty).dispersion > 10
    assert len(bursty) == pytest.approx(5 * 86400, rel=0.1)


def test_a_closed_population_follows_its_cycle() -> None:
    """100 clients, think 9 s, work 1 s: 10 requests a second."""
    assert len(make_trace(span="2h", arrivals="closed", clients=100, think="9s", mean="1s")) == pytest.approx(
        72_000, rel=0.03
    )


def test_profiles_and_a_flash_crowd() -> None:
    hours = [1.0] * 12 + [3.0] * 12
    counts = _per_hour(make_trace(span="1d", rate=1, profile=hours, seed=5))
    assert counts[12:].sum() / counts[:12].sum() == pytest.approx(3, rel=0.05)
    week = make_trace(span="7d", rate=0.2, profile="weekly", start="2031-06-02", seed=5)
    assert summarise(week).week[6].mean() < 0.7 * summarise(week).week[0].mean()
    crowd = make_trace(span="3h", rate=1, crowd_at="1h", crowd=20, crowd_fades="10m", seed=5)
    minutes = np.bincount((crowd.at_s // 60).astype(int))
    assert minutes[60] > 10 * minutes[:60].mean()
    assert minutes[170:].mean() < 2 * minutes[:60].mean()


@pytest.mark.parametrize(
    ("work", "spread", "tail"),
    [
        ("constant", 1, 1.0),
        ("exponential", 1, 4.605),
        ("log-normal", 0.5, 2.825),
        ("pareto", 3, 3.094),
        ("table", 1, 1.5),
    ],
)
def test_work_has_its_mean_and_its_tail(work: str, spread: float, tail: float) -> None:
    """Mean 1 s; p99: 1, ln 100, exp(-1/8 + 2.326 / 2), (2/3) 100^(1/3), and of the table 0.5, 1, 1.5 its greatest."""
    made = make_trace(
        span="1d", rate=2, work=work, spread=spread, mean="1s", table=[0.5, 1.0, 1.5], cpu_share=0.25, seed=6
    )
    total = made.cpu_s + made.wait_s
    assert total.mean() == pytest.approx(1, rel=0.02)
    assert np.quantile(total, 0.99) == pytest.approx(tail, rel=0.06)
    assert made.cpu_s.sum() == pytest.approx(0.25 * total.sum())


def test_routes_have_work_of_their_own() -> None:
    made = make_trace(
        span="1h", rate=5, routes={"/a": {"share": 3, "mean": "10ms"}, "/b": {"mean": "2s", "work": "constant"}}
    )
    shares = {load.route: load.share for load in summarise(made).routes}
    assert shares["/a"] == pytest.approx(0.75, abs=0.03)
    assert (made.cpu_s + made.wait_s)[made.route_codes == 1] == pytest.approx(2)


@pytest.mark.parametrize(
    ("values", "message"),
    [
        ({"rate": 0}, "rate: found 0; allowed: a number above 0"),
        ({"profile": "hourly"}, "profile: found 'hourly'; allowed: constant, daily, weekly"),
        ({"profile": [1, 2]}, "24 or 168 numbers"),
        ({"work": "gaussian"}, "work: found 'gaussian'"),
        ({"work": "pareto", "spread": 1}, "above 1, or the mean would be infinite"),
        ({"routes": {"/a": {"cost": 1}}}, "routes./a: found 'cost'"),
        ({"span": "soon"}, "found 'soon'; allowed: a duration"),
        ({"work": "table"}, "table: found"),
    ],
)
def test_what_cannot_be_made(values: dict[str, Any], message: str) -> None:
    with pytest.raises(TraceError, match=message):
        make_trace(**values)


# -- looking ---------------------------------------------------------------------------------------


def test_a_summary_by_hand() -> None:
    """Ten at 0..9 s and two at 3600 and 3601 s over 2 h, a second each: mean 12 / 7200; busiest minute 10 / 60; one in
    progress at a time, 12 s of 7200; the quietest half hour with whole-minute starts begins at 60 s."""
    at = [*map(float, range(10)), 3600.0, 3601.0]
    trace = trace_at(
        at, latency_s=[1.0] * 12, status=[200] * 11 + [500], bytes_out=[5] * 12, span_s=7200, start="2031-06-05T23:30"
    )
    found = summarise(trace)
    assert found.mean_rate == 12 / 7200
    assert {name: peak.per_second for name, peak in found.peaks.items()} == {"1s": 1, "1min": 10 / 60, "1h": 10 / 3600}
    assert found.concurrency == {"little": pytest.approx(12 / 7200), "mean": pytest.approx(12 / 7200), "max": 1}
    assert [(quiet.at_s, quiet.requests) for quiet in found.quiet] == [(60, 0), (0, 12)]
    assert found.statuses == {200: 11, 500: 1}
    assert found.routes == (("all", 12, 1.0, 1.0, 1.0, 1.0, 60.0),)
    assert found.week[3, 23] == pytest.approx(10 / 1800)  # Thursday 23:30 to midnight
    assert found.week[4, 0] == pytest.approx(2 / 3600)
    document = found.to_dict()
    assert document["start"] == "2031-06-05T23:30:00+00:00"
    assert document["quiet"][0] == {"start": "2031-06-05T23:31:00+00:00", "length_s": 1800, "requests": 0}
    assert json.dumps(document, allow_nan=False)


def test_the_trace_commands(hour_study: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    log, out = str(hour_study.parent / "saltmarsh.log.gz"), tmp_path / "t.parquet"
    plot = tmp_path / "load.png"
    assert run(["trace", "inspect", log, "--time-zone", "Europe/Lisbon", "--plot", str(plot), "--json"]) == 0
    document = json.loads(capsys.readouterr().out)
    assert document["requests"] >= 10_000
    assert set(document["peak_rate"]) == {"1s", "1min", "1h"}
    assert {"route", "requests", "share", "p50", "p95", "p99", "bytes"} == set(document["routes"][0])
    assert plot.read_bytes().startswith(b"\x89PNG")
    assert run(["trace", "inspect", log]) == 0
    assert "Index of dispersion" in capsys.readouterr().out
    assert (
        run(["trace", "shape", log, "--step", "{ scale = 0.2 }", "--step", '{ repeat = "2d" }', "--out", str(out)]) == 0
    )
    assert "shaped: scale = 0.2" in capsys.readouterr().out
    assert run(["trace", "convert", str(out), "--out", str(tmp_path / "c.csv"), "--counts", "1h", "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["requests"] > 5000
    assert run(["trace", "make", "--set", "rate=2", "--set", 'span="1h"', "--out", str(tmp_path / "m.jsonl")]) == 0
    capsys.readouterr()
    for arguments, sentence in (
        (["trace", "inspect", str(tmp_path / "no.log")], "there is no such file"),
        (["trace", "convert", log, "--out", str(tmp_path / "x.txt")], "found the ending '.txt'"),
        (["trace", "make", "--set", "rat=2", "--out", str(out)], "unknown key 'rat'; did you mean 'rate'"),
        (["trace", "make", "--set", "rate=fast", "--out", str(out)], "rate: found 'fast'; allowed: a number"),
        (["trace", "make", "--set", "rate=[1", "--out", str(out)], "allowed: TOML such as"),
        (["trace", "shape", log, "--step", "{ scal = 2 }", "--out", str(out)], "allowed: a table with one of the keys"),
        (["trace", "inspect", log, "--set", "latency_unt=1"], "unknown key 'latency_unt'; did you mean 'latency_unit'"),
        (["trace", "peek", log], "no such command 'peek'"),
    ):
        assert run(arguments) == 2
        captured = capsys.readouterr()
        assert sentence in captured.err
        assert captured.err.count("\n") == 1


def _days_of(n: int, **values: object) -> Trace:
    """A request every minute for n days from Thursday 5 June 2031, 00:00 UTC."""
    return trace_at(
        np.arange(0, n * 86400, 60).astype(float).tolist(), cpu=1, span_s=n * 86400, start="2031-06-05T00:00", **values
    )


def _hourly(trace: Trace, hours: int) -> np.ndarray:
    return np.bincount((trace.at_s // 3600).astype(int), minlength=hours)


def test_a_campaign_on_some_days_and_with_a_plateau() -> None:
    """Ten times the load from 12:00 to 13:00, up and down at once; on the first day, on every day, on Fridays."""
    step = {"campaign": "12:00", "height": 10, "rise": 0, "lasts": "1h", "fall": 0.001}
    once, daily, fridays = (
        _hourly(_shape(_days_of(3), {**step, **more}), 72) for more in ({}, {"daily": True}, {"days": ["fri"]})
    )
    for counts, days in ((once, {0}), (daily, {0, 1, 2}), (fridays, {1})):
        for day in range(3):
            noon = counts[24 * day + 12]
            assert 520 < noon < 680 if day in days else noon < 120
        assert (np.delete(counts, [12, 36, 60]) < 130).all()
    notes = _shape(_days_of(3), step).source.notes
    assert any("the campaign is on Thu 05 Jun only, of the 3 days that have a 12:00" in note for note in notes)
    assert not any("only, of the" in note for note in _shape(_days_of(3), {**step, "daily": True}).source.notes)
    with pytest.raises(TraceError, match="campaign: the trace has no sun at 12:00"):
        _shape(_days_of(3), {**step, "days": ["sun"]})


def test_scale_in_a_window_of_every_day() -> None:
    """Twice from 23:00 to 01:00, over midnight; the other hours keep their sixty, or nearly so at the edges."""
    counts = _hourly(_shape(_days_of(2), {"scale": 2, "between": ["23:00", "01:00"]}), 48)
    for hour, count in enumerate(counts.tolist()):
        assert (110 <= count <= 125) if hour % 24 in {23, 0} else (58 <= count <= 66), hour
    half = _shape(_days_of(1), {"between": ["6h", "12h"], "scale": 0.5})
    assert 150 < np.count_nonzero((half.at_s >= 6 * 3600) & (half.at_s < 12 * 3600)) < 210


def test_a_peak_instead_of_a_mean() -> None:
    trace = make_trace(span="1d", peak=5, profile="daily", seed=1)
    assert 4.9 < _hourly(trace, 24).max() / 3600 < 5.1
    with pytest.raises(TraceError, match="rate or peak, not both"):
        make_trace(rate=1, peak=2)


def test_bare_words_are_text(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    out = str(tmp_path / "m.csv")
    assert run(["trace", "make", "--set", "span=1h", "--set", "profile=daily", "--set", "peak=2", "--out", out]) == 0
    assert run(["trace", "inspect", out, "--set", "demand=given"]) == 0
    capsys.readouterr()


def test_a_made_trace_may_begin_on_a_day(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """A bare day is a date of TOML, and begins at midnight."""
    out = str(tmp_path / "m.csv")
    assert run(["trace", "make", "--set", "span=1h", "--set", "start=2031-06-02", "--out", out]) == 0
    capsys.readouterr()
    assert run(["trace", "inspect", out, "--set", "demand=given"]) == 0
    assert "Mon 02 Jun 2031 00:00" in capsys.readouterr().out


def test_steps_can_be_tables_as_in_a_study() -> None:
    trace = trace_at([0, 1, 2, 3], route=["/a", "/b", "/a", "/b"], span_s=4)
    table = TraceTable(files="x", shape=[{"jitter": "2s"}])
    assert shaped(trace, [{"jitter": "2s"}], seed=3).at_s.tolist() == shaped(trace, table.shape, seed=3).at_s.tolist()
    with pytest.raises(StudyError, match=r"shape\[2\]: found .*; allowed: a table with one of the keys scale, grow"):
        shaped(trace, [{"scale": 2}, {"onyl": ["/a"]}])
    with pytest.raises(StudyError, match=r"shape\[1\]\] unknown key 'form'; allowed: scale, between"):
        shaped(trace, [{"scale": 2, "form": "1h"}])


def test_a_greater_scale_has_all_requests_of_a_smaller_one() -> None:
    """At the same times, with the same work: so a plan that fails at some load is not saved by chance at a greater."""
    rng = np.random.default_rng(4)
    trace = Trace.from_arrays(
        at_s=np.cumsum(rng.exponential(1, 500)), cpu_s=rng.exponential(1, 500), wait_s=rng.exponential(1, 500)
    )
    before: set[tuple[float, float, float]] = set()
    for scale in (0.3, 0.9, 1.0, 1.01, 1.7, 2.0, 2.4, 5.5):
        load = trace if scale == 1 else shaped(trace, [{"scale": scale}])
        now = set(zip(load.at_s.tolist(), load.cpu_s.tolist(), load.wait_s.tolist(), strict=True))
        assert before <= now
        assert len(now) == len(load)
        before = now


def test_visitors_and_areas_of_two_traces_stay_apart() -> None:
    """Where only one of them knows, the other's are nobody, and of an unknown area."""
    told = trace_at([0.0, 4.0], cpu=1, visitor=["v", "w"], area=["north", "south"])
    other = trace_at([1.0, 2.0], cpu=1, visitor=["v", "w"])
    nobody = trace_at([3.0], cpu=1)
    both = mixed(mixed(told, other), nobody)
    assert both.at_s.tolist() == [0, 1, 2, 3, 4]
    assert both.visitor is not None
    assert both.visitor.tolist() == [0, 2, 3, -1, 1]
    assert both.area is not None
    assert [both.areas[code] for code in both.area] == ["north", "unknown", "unknown", "unknown", "south"]
    assert mixed(nobody, other).visitor.tolist() == [0, 1, -1]  # type: ignore[union-attr]
    assert mixed(nobody, nobody).visitor is None
