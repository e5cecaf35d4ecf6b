"""Input that nobody means well: damaged files, absurd settings, terminals and spreadsheets to be tricked."""

from __future__ import annotations

import contextlib
import gzip
import io
import json
import os
import re
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import example, given, settings, strategies as st
from pyarrow import parquet

from builders import assert_agree, make_plan, make_tier, make_trace
from libramen import (
    LibramenError,
    Objectives,
    Plan,
    ReplayError,
    Service,
    Size,
    Target,
    Tier,
    Trace,
    TraceError,
    check,
    load_study,
    make_trace as make,
    read_trace,
    replay,
    summarise,
    write_trace,
)  # fmt: skip
from libramen.cli import run
from libramen.trace.lines import LONGEST_LINE
from libramen.trace.options import FORMATS

LINE = 'v - - [{stamp} +0100] "GET {path} HTTP/1.1" {status} 10 "-" "{agent}" 0.250\n'


def _line(stamp: str = "05/Jun/2031:09:30:07", path: str = "/a", status: int = 200, agent: str = "x") -> str:
    return LINE.format(stamp=stamp, path=path, status=status, agent=agent)


def _file(folder: Path, content: str | bytes, name: str = "a.log") -> Path:
    path = folder / name
    path.write_bytes(content.encode() if isinstance(content, str) else content)
    return path


def _study(folder: Path, **changes: str) -> Path:
    """A small study; a change replaces the line of its key, or adds one to [service]."""
    (folder / "t.csv").write_text("at_s,cpu_s\n0,0.1\n1,0.1\n30,0.1\n")
    text = """
[trace]
files = "t.csv"
[service]
slots = 2
start = 1
[objectives]
p95 = "1s"
[tiers.tidal]
autoscaling = true
replicas = { least = 1, most = 8 }
billing = "per_second"
[tiers.tidal.sizes.small]
cores = 1
per_hour = 0.03
[plans.own]
tier = "tidal"
size = "small"
replicas = 1
[plans.own.scaling]
rule = "target"
measure = "cpu"
target = 0.5
every = "10s"
"""
    lines = text.splitlines()
    for key, value in changes.items():
        at = [k for k, line in enumerate(lines) if line.startswith(f"{key} =")]
        lines[at[0] if at else lines.index("slots = 2")] = f"{key} = {value}" + ("" if at else "\nslots = 2")
    path = folder / "study.toml"
    path.write_text("\n".join(lines))
    return path


# -- what a log may have in it ---------------------------------------------------------------------


def test_stamps_far_from_the_others_are_lines_that_cannot_be_read(tmp_path: Path) -> None:
    """A clock that was not set yet, and one far ahead: one trace of a minute, not one of eight thousand years."""
    wrong = ["01/Jan/1970:00:00:05", "01/Jan/9999:00:00:05", "05/Jun/2021:09:30:07"]
    trace = read_trace(_file(tmp_path, _line() * 60 + "".join(_line(stamp) for stamp in wrong)))
    assert (len(trace), trace.span_s, trace.source.skipped) == (60, 60, 3)
    assert dict(trace.source.reasons) == {
        "... is not a time stamp": 1,
        "its time stamp ... is over a year away from the others": 2,
    }
    assert "'2021-06-05 08:30:07 UTC'" in " ".join(skipped.reason for skipped in trace.source.first_skipped)
    with pytest.raises(TraceError, match="no time stamp is between 1970 and 2200"):
        read_trace(_file(tmp_path, _line("01/Jan/9999:00:00:05") * 3))


def test_an_outage_and_what_failed_in_the_log_are_told(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """20 minutes without a line within hours of a line every 3 s; failures of the log are not those of a replay."""
    stamps = [f"05/Jun/2031:{9 + s // 3600:02}:{s // 60 % 60:02}:{s % 60:02}" for s in range(0, 10800, 3)]
    lines = [
        _line(stamp, status={7: 499, 41: 429}.get(k, 500 if 40 < k < 90 else 200)) for k, stamp in enumerate(stamps)
    ]
    text = "".join(line for k, line in enumerate(lines) if not 1200 <= k < 1600)
    notes = " ".join(read_trace(_file(tmp_path, text)).source.notes)
    gap = re.search(r"no line for 20 min( \d s)? from 2031-06-05 08:59:5\d, where some (\d+) would be expected", notes)
    assert gap is not None, notes
    assert 380 <= int(gap[2]) <= 410
    assert "49 requests failed (a status of 500 or more, or 429) and in 1 the client gave up" in notes
    assert "in 2 minutes, from 2031-06-05 08:02 on, more than half of the requests in the log failed" in notes
    study = _study(tmp_path, files='"a.log"')
    assert run(["replay", str(study), "--plan", "own"]) == 0
    assert "requests were answered, also the 50 that failed when the log was written." in capsys.readouterr().out


def test_a_line_of_any_length_is_read_or_skipped_in_linear_time(tmp_path: Path) -> None:
    long = _line(path="/" + "a" * (3 * LONGEST_LINE))
    trace = read_trace(_file(tmp_path, _line() + long + _line() + "x" * (5 * LONGEST_LINE)))
    assert (len(trace), trace.source.skipped) == (2, 2)
    assert "longer than 1,048,576 bytes" in trace.source.first_skipped[0].reason
    assert [skipped.line for skipped in trace.source.first_skipped] == [2, 4]


@pytest.mark.parametrize("packed", [False, True])
def test_a_pipe_is_read_once_and_whole(tmp_path: Path, packed: bool) -> None:
    data = "".join(_line(f"05/Jun/2031:09:30:{k % 60:02}") for k in range(4000)).encode()
    fifo = tmp_path / "pipe"
    os.mkfifo(fifo)
    code = f"import sys, shutil; shutil.copyfileobj(open({str(tmp_path / 'data')!r}, 'rb'), open({str(fifo)!r}, 'wb'))"
    for content in (data, data[:500]):
        _file(tmp_path, gzip.compress(content) if packed else content, "data")
        with subprocess.Popen([sys.executable, "-c", code]):
            trace = read_trace(fifo)
        assert trace.source.lines == content.count(b"\n") + (not content.endswith(b"\n"))


@pytest.mark.parametrize(
    ("cell", "found"),
    [("1_000", "1_000"), ("1٣", "1٣"), ("0x10", "0x10"), ("1 000", "1 000"), ("--1", "--1")],
)
def test_numbers_of_a_table_are_plain_numbers(tmp_path: Path, cell: str, found: str) -> None:
    """Spaces around them do not matter."""
    path = _file(tmp_path, f"at_s, cpu_s\n0, 1 \n 1, {cell}\n", "t.csv")
    with pytest.raises(TraceError, match=f"line 3, column cpu_s: found '{found}'; allowed: a number"):
        read_trace(path)
    assert read_trace(_file(tmp_path, "at_s, cpu_s\n0, 1 \n 1, 1e-3\n", "t.csv")).cpu_s.tolist() == [1, 0.001]


@pytest.mark.parametrize(
    ("column", "value"), [("cpu_s", 2e6), ("wait_s", 1e300), ("latency_s", 1e7), ("status", 70000), ("bytes_out", 1e30)]
)
def test_absurd_values_are_refused(column: str, value: float) -> None:
    with pytest.raises(TraceError, match=rf"{column}: row 2 has"):
        Trace.from_arrays(**{"at_s": [0, 1], "cpu_s": [1, 1]} | {column: [1, value]})
    with pytest.raises(TraceError, match=r"at_s: row 2 has 1e\+09 .*allowed: numbers from 0 to ten years"):
        Trace.from_arrays(at_s=[0, 1e9], cpu_s=[1, 1])


def test_arrays_are_our_own_and_numbers(tmp_path: Path) -> None:
    at = np.array([0.0, 1.0])
    trace = Trace.from_arrays(at_s=at, cpu_s=[1, 1])
    at[1] = 5
    assert trace.at_s.tolist() == [0, 1]
    for odd in ([1j, 2], np.array(["2031-06-05", "2031-06-06"], "M8[s]"), ["1", "2"], [[1], [2]]):
        with pytest.raises(TraceError, match="at_s: found"):
            Trace.from_arrays(at_s=odd, cpu_s=[1, 1])
    for start in (5, object()):
        with pytest.raises(TraceError, match="start: found"):
            Trace.from_arrays(at_s=[1.0], cpu_s=[1], start=start)
    for seed in (-1, 1.5, "x", None, True):
        with pytest.raises(ReplayError, match=r"seed: found .*; allowed: a whole number of 0 or more"):
            replay(trace, Service(slots=1), make_plan(balancer="random"), seed=seed)


def test_a_damaged_arrow_file_is_not_followed(tmp_path: Path) -> None:
    """Offsets of text beyond the data: they would be read wherever they lead."""
    write_trace(make_trace([0.0, 1.0], cpu=1.0, route=["ab", "cd"]), tmp_path / "d.arrow")
    data = (tmp_path / "d.arrow").read_bytes()
    good, bad = (np.array(offsets, np.int32).tobytes() for offsets in ([0, 2, 4], [0, 2, 2**30]))
    assert good in data
    _file(tmp_path, data.replace(good, bad), "d.arrow")
    with pytest.raises(TraceError, match="not a whole Arrow file"):
        read_trace(tmp_path / "d.arrow")


@pytest.mark.parametrize(
    "more",
    [
        '"a": ' + "[" * 100_000 + "]" * 100_000, '"a": ' + '{"b":' * 50_000 + "1" + "}" * 50_000,
        '"\\ud800": 1', '"a": 1, "a": 2', '"": 1', '"route": {"a": 1}', '"route": 12345678901234567890123', '"latency_s": [1]',
    ],
)  # fmt: skip
def test_odd_objects_among_json_lines(tmp_path: Path, more: str) -> None:
    """In the first line, which says what there is, and in a later one; at worst it is a line that is skipped."""
    told = '{"at_s": 1, "latency_s": 1, "route": "/a"}\n'
    odd = f'{{"at_s": 1, {more}}}\n' if "latency_s" in more else f'{{"at_s": 1, "latency_s": 1, {more}}}\n'
    for text in (told + odd, odd + told):
        with contextlib.suppress(TraceError):
            assert len(read_trace(_file(tmp_path, text, "x.jsonl"))) in {1, 2}


def test_each_line_with_names_of_its_own(tmp_path: Path) -> None:
    """Tables of as many columns as lines would be of a thousand million cells."""
    text = "".join(f'{{"at_s": {k}, "latency_s": 1, "only {k}": 1}}\n' for k in range(20_000))
    assert len(read_trace(_file(tmp_path, text, "x.jsonl"))) == 20_000
    assert (
        len(
            read_trace(
                _file(
                    tmp_path,
                    "[]\n" + text,
                    "x.jsonl",
                ),
                format="json_lines",
            )
        )
        == 20_000
    )


def test_nested_brackets_and_odd_spans(tmp_path: Path) -> None:
    for text in ("{" + '"a":[' * 100_000, '{"resourceSpans":' + "[" * 100_000):
        with pytest.raises(TraceError):
            read_trace(_file(tmp_path, text, "x.json"))
    times = {"startTimeUnixNano": "1938414600000000000", "endTimeUnixNano": "1938414601000000000"}
    odd = [
        {"traceId": {}, "spanId": [], "kind": 2}, {"kind": {}, "traceId": 1}, {"kind": "x"}, {"parentSpanId": [1], "kind": 2},
        {"kind": 2, "traceState": "ot=th:-8"}, {"kind": 2, "attributes": [{"key": "http.status_code", "value": {"v": 1e999}}]},
    ]  # fmt: skip
    spans = [{**times, **span} for span in odd] + [{**times, "kind": 2, "spanId": "fine"}]
    document = json.dumps({"resourceSpans": [{"scopeSpans": [{"spans": spans}]}]})
    trace = read_trace(_file(tmp_path, document, "s.json"), demand="observed")
    assert len(trace) + trace.source.skipped == len(spans)


def test_two_lines_across_an_hour_can_be_inspected(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    path = _file(tmp_path, _line("05/Jun/2031:09:59:59") + _line("05/Jun/2031:10:00:01"))
    assert run(["trace", "inspect", str(path), "--plot", str(tmp_path / "p.png")]) == 0
    assert "2 requests over 2 min from Thu 05 Jun 2031 08:59" in capsys.readouterr().out


# -- terminals, spreadsheets, pictures -------------------------------------------------------------


def test_escapes_of_a_route_do_not_reach_the_terminal(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    path = _file(tmp_path, "at_s,cpu_s,route\n0,1,\x1b[31mred\n1,1,a\u202eb$x^{$\n", "t.csv")
    assert run(["trace", "inspect", str(path), "--plot", str(tmp_path / "p.png")]) == 0
    assert run(["trace", "inspect", str(path), "--set", "columns={route='no\x1b[2J'}"]) == 2
    captured = capsys.readouterr()
    assert "\x1b" not in captured.out + captured.err
    assert "\u202e" not in captured.out
    assert "\\x1b[31mred" in captured.out
    study = _study(tmp_path)
    assert run(["replay", str(study), "--plan", "own", "--plot", str(tmp_path / "p.png")]) == 0
    assert run(["compare", str(study), "--plot", str(tmp_path / "p.png")]) == 0


def test_formulas_of_a_route_do_not_reach_a_spreadsheet(tmp_path: Path) -> None:
    routes = ["=cmd()", "+1", "-1", "@x", "/a", "'quoted"]
    trace = make_trace([float(k) for k in range(6)], cpu=1.0, route=routes)
    write_trace(trace, tmp_path / "t.csv")
    cells = [line.split(",")[3] for line in (tmp_path / "t.csv").read_text().splitlines()[2:]]
    assert cells == ['"\'=cmd()"', '"\'+1"', '"\'-1"', '"\'@x"', '"/a"', '"\'quoted"']
    assert sorted(read_trace(tmp_path / "t.csv").routes) == sorted(routes)


# -- tables that say how they were made ------------------------------------------------------------


@pytest.mark.parametrize("suffix", [".csv", ".jsonl", ".parquet", ".arrow"])
def test_an_estimate_is_not_taken_for_a_measurement(tmp_path: Path, suffix: str) -> None:
    """Converted, then read by the same keys: the same work, and not a share of the share that was CPU work."""
    rng = np.random.default_rng(2)
    stamps = np.sort(rng.integers(0, 3600, 900))
    log = _file(tmp_path, "".join(_line(f"05/Jun/2031:09:{s // 60:02}:{s % 60:02}") for s in stamps.tolist()))
    said = {"demand": "quiet", "cpu_share": 0.25}
    direct = read_trace(log, **said)
    write_trace(direct, tmp_path / f"t{suffix}")
    again = read_trace(tmp_path / f"t{suffix}", **said)
    np.testing.assert_allclose(again.cpu_s, direct.cpu_s)
    np.testing.assert_allclose(again.wait_s, direct.wait_s)
    assert again.demand.kind == "quiet"
    as_it_is = read_trace(tmp_path / f"t{suffix}")
    assert as_it_is.demand_in_words == "given (quiet)"
    with pytest.raises(TraceError, match="cpu_share has no effect"):
        read_trace(tmp_path / f"t{suffix}", cpu_share=0.25)
    with pytest.raises(TraceError, match=r"latency_unit has no effect: .* in seconds"):
        read_trace(tmp_path / f"t{suffix}", latency_unit="ms")


def test_what_a_table_says_of_itself_is_checked(tmp_path: Path) -> None:
    for said in ('{"demand": "guessed"}', '{"span_s": "x"}', "[1]", "nonsense", '{"other": 1}'):
        with pytest.raises(TraceError, match="what it says of how it was made cannot be understood"):
            read_trace(_file(tmp_path, f"# libramen: {said}\nat_s,cpu_s\n1,1\n", "t.csv"))


# -- studies that ask too much ---------------------------------------------------------------------


@pytest.mark.parametrize(
    ("changes", "message"),
    [
        ({"p95": "300"}, 'p95: found 300; allowed: a time with its unit, such as "300ms"'),
        (
            {"target": "50"},
            'target: found 50; allowed: a share of the cores in use of at most 100%.*did you mean "50%"',
        ),
        ({"warm_up_factor": "1e9"}, "warm_up_factor: found .*; allowed: a number at most"),
        ({"start": "1e308"}, "start: found .*at most ten years"),
        ({"per_hour": "1e30"}, "per_hour: found .*at most 1,000,000,000,000"),
        ({"cores": "18446744073709551616"}, "cores: found .*; allowed: a number at most"),
        ({"replicas": "1e9"}, "replicas"),
        ({"slots": "10000000000"}, "slots: found .*; allowed: a number at most"),
        ({"memory_base": '"9999999999999 GB"'}, "memory_base: found .*at most"),
        ({"start": '"٣s"'}, "start: found"),
        ({"files": '"t.csv"\ncpu_share = 0.5'}, "cpu_share has no effect"),
        ({"files": '"t.csv"\nshape = [{ scale = 1e9 }]'}, "scale: found"),
        ({"files": '"t.csv"\nshape = [{ repeat = "9y" }]'}, "repeat: found '9y'"),
        ({"files": '"t.csv"\nshape = [{ scale = 1e6 }]'}, "multiplied by 1e.06; allowed: up to 100,000"),
        ({"files": '"t.csv"\nshape = [{ scale = 1e4 }, { scale = 1e4 }]'}, "requests after shaping; allowed: up to"),
        ({"every": '"1us"'}, "every = 1 µs are 30,000,000 decisions in 30 s; allowed: up to 20,000,000"),
    ],
)
def test_absurd_settings_get_a_sentence(tmp_path: Path, changes: dict[str, str], message: str) -> None:
    def use(path: Path) -> None:
        study = load_study(path)
        replay(study.trace(cache=False), study.service, study.plans["own"])

    with pytest.raises(LibramenError, match=message):
        use(_study(tmp_path, **changes))


def test_slots_that_are_allowed_and_never_used_cost_nothing(tmp_path: Path) -> None:
    """A thousand million slots on a hundred replicas: what is kept grows with what is in progress."""
    trace = make_trace(np.linspace(0, 9, 3000).tolist(), cpu=0.5, wait=1.0, span_s=10)
    service, plan = Service(slots=10**9), make_plan(make_tier(replicas={"least": 0, "most": 1000}), replicas=100)
    outcome = replay(trace, service, plan)
    assert outcome.endings["ok"] == 3000
    assert_agree(outcome, replay(trace, service.replace(slots=4000), plan))


def test_check_says_what_a_replay_would_cost(tmp_path: Path) -> None:
    study = load_study(_study(tmp_path, every='"10us"'))
    (plan,) = check(study).plans
    assert "it decides 3,000,000 times, every 10 µs over 30 s: a replay takes some 1 min and 0.45 GB" in " ".join(
        problem.text for problem in plan.problems
    )


@pytest.mark.parametrize("data_plane", ["compiled", "plain"])
def test_instants_far_from_the_start_are_told_apart_as_well_as_can_be(data_plane: Any) -> None:
    """At 3e8 s two float64 are 6e-8 s apart: an event due there is due, and the next is not lost."""
    at = [3e8, 3e8, 3e8 + 1, 3.1e8]
    trace = make_trace(at, cpu=[1e6, 0.5, 0.5, 1e6], wait=[0.0, 1e6, 0.1, 0.0], span_s=3.1e8)
    tier = make_tier(speed=0.01, overhead=0.01)
    outcome = replay(
        trace, Service(slots=2, timeout=1e8, retries=1), make_plan(tier), data_plane=data_plane, window_s=1e6
    )
    assert sum(outcome.endings.values()) == 4
    assert outcome.endings["ok"] > 0


extremes = st.fixed_dictionaries(
    {
        "slots": st.sampled_from([1, 3, 10**9]), "threads": st.sampled_from([None, 1, 10**9]),
        "backlog": st.sampled_from([None, 0, 10**9]), "start": st.sampled_from([0, 1e-9, 1e3, 3e8]),
        "warm_up": st.sampled_from([0, 1e-9, 3e8]), "warm_up_factor": st.sampled_from([1, 1e6]),
        "memory_per_request": st.sampled_from([0, 1, 10**18]), "drain": st.sampled_from([None, 0, 3e8]),
        "timeout": st.sampled_from([None, 1e-9, 1.0, 3e8]), "on_timeout": st.sampled_from(["finish", "drop"]),
        "retries": st.sampled_from([0, 2, 100]), "retry_after": st.sampled_from([0, 1e-9, 3e8]),
    }
)  # fmt: skip
sizes = st.fixed_dictionaries(
    {
        "cores": st.sampled_from([1e-6, 0.5, 1e6]), "speed": st.sampled_from([1e-6, 1, 1e6]),
        "memory": st.sampled_from([None, 1, 10**18]), "lent": st.sampled_from([None, (1e-6, 0), (1e-6, 1e12), (1e6, 5)]),
    }
)  # fmt: skip
times = st.lists(st.sampled_from([0.0, 1.0, 1.0 + 1e-9, 8e6, 1e8, 3.1e8]), min_size=1, max_size=8).map(sorted)
work = st.sampled_from([0.0, 1e-12, 1e-9, 0.5, 1e6])


def _extreme(at: list[float], cpu: list[float], service: dict[str, Any], size: dict[str, Any], **plan: Any) -> None:
    """Both planes give the same, or the same sentence."""
    lent, rule = size.pop("lent"), {"rule": "on_arrival", "idle": 1.0}
    if lent is not None:
        size |= {"steady_cores": lent[0], "bank": lent[1]}
    tier = make_tier(
        sizes={"s": size | {"per_hour": 1}}, holds_requests=plan.pop("holds"), provision=plan.pop("provision")
    )
    scaling = rule if plan["replicas"] == 0 else {"rule": "fixed"}
    trace = make_trace(at, cpu=cpu, wait=cpu[::-1], span_s=max(at[-1], 1.0))
    outcomes = [
        replay(trace, Service(**service), make_plan(tier, scaling=scaling, **plan), data_plane=plane, window_s=1e7)
        for plane in ("compiled", "plain")
    ]
    for outcome in outcomes:
        assert sum(outcome.endings.values()) == len(at)
        json.dumps(outcome.to_dict(), allow_nan=False)
    one, other = (outcome.run.results for outcome in outcomes)
    if (
        max(one.latency_s.max(), other.latency_s.max()) < 1e10
    ):  # beyond some centuries float64 cannot tell who was first
        assert one.ending.tolist() == other.ending.tolist()
        np.testing.assert_allclose(one.latency_s, other.latency_s, rtol=1e-9, atol=1e-6)


@given(
    times, st.lists(work, min_size=8, max_size=8), extremes, sizes, st.sampled_from([0, 1, 3]), st.booleans(),
    st.sampled_from([0, 1e-9, 3e8]), st.sampled_from(["least_busy", "round_robin", "shared_queue", "two_choices"]),
)  # fmt: skip
def _on_both_planes(
    at: list[float], cpu: list[float], service: dict[str, Any], size: dict[str, Any], replicas: int, holds: bool,
    provision: float, balancer: str,
) -> None:  # fmt: skip
    cpu = cpu[: len(at)]
    _extreme(at, cpu, service, size, replicas=replicas, holds=holds, provision=provision, balancer=balancer)


def test_extreme_settings_on_both_planes() -> None:
    settings(max_examples=max(12, settings.default.max_examples // 4))(_on_both_planes)()


def test_extreme_settings_uncompiled_with_every_index_checked() -> None:
    """The kernel as plain Python: an index or address beyond an array raises instead of reading what lies there."""
    code = (
        "import hypothesis\n"
        "few = hypothesis.settings(max_examples=3, derandomize=True, deadline=None,"
        " suppress_health_check=list(hypothesis.HealthCheck))\n"
        "import test_hostile\n"
        "few(test_hostile._on_both_planes)()\n"
    )
    done = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, check=False,
        cwd=Path(__file__).parent, env=os.environ | {"NUMBA_DISABLE_JIT": "1"},
    )  # fmt: skip
    assert done.returncode == 0, done.stderr[-2000:]


BOTH_PLANES = sorted(
    path.name
    for path in Path(__file__).parent.glob("test_*.py")
    if path.name != Path(__file__).name and re.search(r'\bboth\(|assert_agree\(|"plain"|PlainState', path.read_text())
)


@pytest.mark.thorough
@pytest.mark.parametrize("file", BOTH_PLANES)
def test_the_planes_agree_uncompiled_with_every_index_checked(file: str) -> None:
    """Every test of the files in which both planes meet: see `conftest.CHECKED_S`."""
    done = subprocess.run(
        [sys.executable, "-m", "pytest", "-q", "-x", file], capture_output=True, text=True, check=False,
        cwd=Path(__file__).parent, env=os.environ | {"NUMBA_DISABLE_JIT": "1"},
    )  # fmt: skip
    assert done.returncode == 0, done.stdout[-2000:]


# -- processes and their streams -------------------------------------------------------------------


def _libramen(*arguments: object, **how: Any) -> subprocess.CompletedProcess[bytes]:
    return subprocess.run([sys.executable, "-m", "libramen", *map(str, arguments)], check=False, **how)


def test_output_that_goes_nowhere(hour_study: Path) -> None:
    with Path("/dev/full").open("wb") as full:
        done = _libramen("check", hour_study, "--json", stdout=full, stderr=subprocess.PIPE)
    assert (done.returncode, done.stderr) == (2, b"libramen: the output cannot be written: No space left on device\n")
    piped = subprocess.run(
        f"{sys.executable} -m libramen schema | head -1; exit ${{PIPESTATUS[0]}}",
        shell=True, executable="/bin/bash", capture_output=True, check=False,
    )  # fmt: skip
    assert (piped.returncode, piped.stderr) == (0, b"")
    closed = subprocess.run(f"{sys.executable} -m libramen schema >&-", shell=True, capture_output=True, check=False)
    assert (closed.returncode, closed.stderr) == (0, b"")


def test_a_process_that_is_told_to_end_leaves_nothing(tmp_path: Path) -> None:
    """It is writing its output when it is told so."""
    code = (
        "import sys, time\nfrom pathlib import Path\nimport libramen.cli as cli, libramen.base.files as files\n"
        "def slow(path):\n    path.write_text('half'); print('now', flush=True); time.sleep(30)\n"
        "cli.run = lambda _: files.write_whole(Path('out.csv'), slow) or 0\n"
        "cli.main([])\n"
    )
    with subprocess.Popen([sys.executable, "-c", code], cwd=tmp_path, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None
        assert process.stdout.readline() == "now\n"
        begun = time.monotonic()
        process.send_signal(signal.SIGTERM)
        assert process.wait() == 128 + signal.SIGTERM
        assert time.monotonic() - begun < 20
    assert list(tmp_path.iterdir()) == []


# -- fuzzing ---------------------------------------------------------------------------------------


def _packed_tables() -> list[bytes]:
    table = pa.table({"at_s": [0.0, 1.0, 2.0], "cpu_s": [0.1] * 3, "route": ["a", "b", "a"]})
    one, other = io.BytesIO(), io.BytesIO()
    parquet.write_table(table, one)
    with pa.ipc.new_file(other, table.schema) as writer:
        writer.write_table(table)
    return [one.getvalue(), other.getvalue()]


SEEDS = [
    (_line() * 2 + _line("05/Jun/2031:10:30:07", status=503)).encode(),
    b"#Fields: date time cs-uri-stem sc-status time-taken\n2031-06-05 08:30:07 /a 200 250\n2031-06-05 08:31:07 /b 200 9\n",
    (
        b'{"resourceSpans":[{"scopeSpans":[{"spans":[{"traceId":"t","spanId":"a","name":"op","kind":2,"startTimeUnixNano":'
        b'"1938414600000000000","endTimeUnixNano":"1938414601000000000","traceState":"ot=th:8"}]}]}]}'
    ),
    b"at_s,cpu_s,route\n0,1,a\n1,2,b\n",
    b'# libramen: {"demand": "quiet", "span_s": 60}\nat_s,cpu_s,latency_s\n0,1,2\n1,2,3\n',
    b"time,requests,p50_s\n2031-06-05T09:00:00Z,3,0.1\n2031-06-05T09:01:00Z,3,0.1\n",
    b'{"at_s": 0, "cpu_s": 1}\n{"at_s": 1, "cpu_s": 2}\n',
    *_packed_tables(),
]
edits = st.lists(
    st.tuples(st.floats(0, 1), st.integers(0, 6), st.binary(max_size=4) | st.sampled_from([
        b"1e308", b"-1", b"9" * 20, b"nan", b"inf", b"\xff\xfe", b"[" * 40, b",", b"\n", b'"', b"1970", b"9999", b"\0",
    ])), max_size=6,
)  # fmt: skip


def _is_a_sentence(error: LibramenError) -> None:
    assert str(error).isprintable()


def _edited(data: bytes, changes: list[tuple[float, int, bytes]]) -> bytes:
    for where, drop, new in changes:
        at = int(where * len(data))
        data = data[:at] + new + data[at + drop :]
    return data


@given(st.sampled_from(SEEDS), edits, st.sampled_from([None, *FORMATS]), st.sampled_from([None, "quiet", "observed"]))
@settings(max_examples=2 * settings.default.max_examples)  # 4,000 of them in the thorough profile
@example(SEEDS[3], [(0.6, 1, b"1e308")], None, None)
@example(SEEDS[0], [(0.0, 3, b""), (0.453125, 0, b'"')], None, None)  # a quote within a stamp
def test_readers_give_a_trace_or_a_sentence(
    tmp_path_factory: pytest.TempPathFactory, seed: bytes, changes: list[tuple[float, int, bytes]], kind: str | None,
    demand: str | None,
) -> None:  # fmt: skip
    path = _file(tmp_path_factory.mktemp("fuzz"), _edited(seed, changes), "f")
    try:
        trace = read_trace(path, format=kind, demand=demand)
    except LibramenError as error:
        _is_a_sentence(error)
        return
    assert 0 < len(trace) <= 10**6
    json.dumps(summarise(trace).to_dict(), allow_nan=False)
    write_trace(trace, path.with_suffix(".csv"))


odd_values = st.sampled_from([
    None, True, 0, -1, 1, 1.5, 1e9, 1e308, 2**64, float("nan"), float("inf"), "", "x", "50%", "9s", "1e9s", "٣", "12:00",
    "quietest 1m", [], [1], {}, {"p50": 1, "p95": 2}, {"p50": "1ns", "p95": "9d"}, [{"above": 0.5, "add": 1}], "least_busy",
])  # fmt: skip
tables = {
    Service: {"slots": 2}, Size: {"cores": 1, "per_hour": 1}, Tier: {"billing": "per_hour", "sizes": {"s": {"cores": 1, "per_hour": 1}}},
    Plan: {"tier": make_tier(), "size": "s"}, Objectives: {}, Target: {"measure": "cpu", "target": 0.5, "ceiling": 5},
}  # fmt: skip


@given(st.data())
@settings(max_examples=2 * settings.default.max_examples)
def test_tables_give_a_study_or_a_sentence(data: st.DataObject) -> None:
    """Any value of any key of any table; what is taken must also be replayed, or refused in a sentence."""
    kind = data.draw(st.sampled_from(list(tables)))
    keys = sorted(set(kind.model_fields) - {"name", "tier", "function", "folder", "trusted"})
    values = tables[kind] | data.draw(st.dictionaries(st.sampled_from(keys), odd_values, min_size=1, max_size=3))
    try:
        table = kind(**values)
        plan = {
            Plan: lambda: table,
            Tier: lambda: make_plan(table, size=next(iter(table.sizes))),
            Target: lambda: make_plan(scaling=table),
        }
        size = {
            Size: lambda: make_plan(
                make_tier(sizes={"s": table}, billing="per_month" if table.per_hour is None else "per_hour")
            )
        }
        chosen = (plan | size).get(kind, make_plan)()
        service = table if kind is Service else Service(slots=2)
        objectives = table if kind is Objectives else None
        trace = make_trace([0.0, 1.0, 50.0], cpu=0.1, span_s=60, start="2031-06-05T11:59:30")
        replay(trace, service, chosen, objectives).to_dict()
    except LibramenError as error:
        _is_a_sentence(error)


@given(
    st.dictionaries(
        st.sampled_from([
            "span", "rate", "peak", "profile", "arrivals", "burst", "burst_length", "crowd_at", "crowd", "crowd_fades",
            "clients", "think", "work", "mean", "spread", "table", "cpu_share", "routes", "bytes_out", "start", "time_zone", "seed",
        ]), odd_values, min_size=1, max_size=3,
    )
)  # fmt: skip
@settings(max_examples=60)
def test_making_a_trace_gives_one_or_a_sentence(values: dict[str, Any]) -> None:
    values = {"span": "1m", "rate": 1.0} | values
    if values.get("peak") is not None:
        values["rate"] = None
    try:
        assert len(make(**values)) > 0
    except LibramenError as error:
        _is_a_sentence(error)
