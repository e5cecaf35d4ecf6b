"""Large and broken input: memory that is bounded, sentences instead of tracebacks, processes that end."""

from __future__ import annotations

import contextlib
import gzip
import json
import os
import random
import signal
import subprocess
import sys
import time
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from pyarrow import feather, parquet

import libramen
from builders import demo_in, make_case, make_plan, make_tier, make_trace
from libramen import (
    LibramenError,
    Objectives,
    Plan,
    Service,
    StudyError,
    Trace,
    TraceError,
    backtest,
    headroom,
    load_study,
    make_trace as make,
    read_trace,
    replay,
    search,
    summarise,
    write_trace,
)  # fmt: skip
from libramen.base.errors import shortened
from libramen.base.fields import Table
from libramen.cli import run
from libramen.questions.limits import STEP, rooms_of
from libramen.runs.cases import Case, LocalProcesses
from libramen.runs.entries import key_of
from libramen.runs.memory import bytes_of, machine_bytes
from libramen.runs.pool import Pool, Whole
from libramen.trace import lines
from libramen.trace.formats import spans
from libramen.trace.growing import Growing, blocks, counted, first_back, is_ascending
from libramen.trace.lines import LONGEST_LINE

# -- block by block ------------------------------------------------------------------------------------


def test_what_grows_is_what_was_added() -> None:
    rng = np.random.default_rng(1)
    parts = [rng.random(n) for n in (0, 1, 70_000, 3, 200_000, 0, 17)]
    growing = Growing(np.float64)
    for part in parts:
        growing.add(part)
    growing.add_same(2.5, 5)
    found = growing.take()
    np.testing.assert_array_equal(found, np.concatenate([*parts, np.full(5, 2.5)]))
    assert found.base is None
    assert len(growing.take()) == 0


def test_helpers_over_blocks_are_those_of_whole_arrays(monkeypatch: pytest.MonkeyPatch) -> None:
    from libramen.trace import growing

    monkeypatch.setattr(growing, "BLOCK", 7)
    monkeypatch.setattr(growing.blocks, "__defaults__", (7,))
    rng = np.random.default_rng(2)
    for _ in range(200):
        at = np.sort(rng.uniform(0, 50, int(rng.integers(1, 60))))
        np.testing.assert_array_equal(counted(at, 3.0), np.bincount((at // 3.0).astype(int)))
        np.testing.assert_array_equal(counted(at, 3.0, 9), np.bincount((at // 3.0).astype(int), minlength=9)[:9])
        assert is_ascending(at)
        at[rng.integers(len(at))] += 10
        back = np.flatnonzero(np.diff(at) < 0)
        assert first_back(at) == (int(back[0]) + 1 if len(back) else None)
    assert [rows.stop for rows in blocks(15)] == [7, 14, 15]


@pytest.mark.parametrize("suffix", [".csv", ".jsonl", ".parquet", ".arrow"])
def test_blocks_do_not_show(tmp_path: Path, suffix: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """Read and written in blocks of a few rows, or in one: the same, with quotes, empty cells and line ends in cells."""
    from libramen.trace import growing, lines, write
    from libramen.trace.formats import arrow_table, parquet as parquet_table

    rng = np.random.default_rng(3)
    n = 300
    routes = ["/a", 'say "hello"', "with,comma", "two\nlines", "ünicode"]
    trace = Trace.from_arrays(
        np.cumsum(rng.exponential(0.7, n)), rng.exponential(0.1, n), route=np.array(routes)[rng.integers(0, 5, n)],
        bytes_out=rng.integers(0, 9999, n), latency_s=rng.exponential(0.2, n), status=np.full(n, 200),
        in_s={"db": rng.exponential(0.1, n)}, start="2031-06-05T10:00:00", time_zone="Europe/Lisbon",
    )  # fmt: skip
    whole = tmp_path / f"whole{suffix}"
    write_trace(trace, str(whole))  # a path as text will do
    wanted = read_trace(whole)
    for module in (write, arrow_table, parquet_table):
        monkeypatch.setattr(module, "_ROWS", 7)
    monkeypatch.setattr(lines, "_BLOCK_SIZE", 256)
    monkeypatch.setattr(growing.blocks, "__defaults__", (11,))
    pieces = tmp_path / f"pieces{suffix}"
    write_trace(trace, pieces)
    for path in (whole, pieces):
        found = read_trace(path)
        assert found.content_key == wanted.content_key
        assert found.source.notes == wanted.source.notes
        assert summarise(found).to_dict() == summarise(wanted).to_dict() | {"first_skipped": []}
    assert wanted.routes == tuple(sorted(routes))


@pytest.mark.thorough
def test_making_a_trace_needs_no_more_than_the_trace(tmp_path: Path) -> None:
    """Made, written, read, looked at and kept: what is needed for each million requests more is the trace and little."""
    script = """
import resource, sys
from pathlib import Path
from libramen import make_trace, read_trace, summarise, write_trace
from libramen.load.cache import keep
n, path, what = int(sys.argv[1]), Path(sys.argv[2]), sys.argv[3]
if what == "make":
    routes = {"a": {"share": 0.7}, "b": {"share": 0.3, "mean": "200ms"}}
    write_trace(make_trace(span="10d", rate=n / 864000, routes=routes, bytes_out=500, start="2031-06-02"), path)
else:
    trace = read_trace(path)
    summarise(trace)
    if what == "keep":
        trace = keep("n" * 40, trace)
print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024)
"""
    peaks: dict[str, list[int]] = {"make": [], "read": [], "keep": []}
    for n in (300_000, 1_000_000):
        for what, found in peaks.items():
            command = [sys.executable, "-c", script, str(n), str(tmp_path / f"{n}.parquet"), what]
            done = subprocess.run(command, capture_output=True, text=True, check=True)
            found.append(int(done.stdout))
    trace_bytes = 8 + 8 + 8 + 4 + 8  # at_s, cpu_s, wait_s, route, bytes_out
    for what, (few, many) in peaks.items():
        more = (many - few) / 700_000
        # It was eight times as much. While it is kept the file is in memory, too, as pages that may be taken back.
        assert more < 2.2 * trace_bytes, (what, more)


# -- a bound on memory --------------------------------------------------------------------------------


def _case(**plan: Any) -> tuple[Case, Trace]:
    rng = np.random.default_rng(4)
    trace = Trace.from_arrays(np.cumsum(rng.exponential(1.0, 400)), rng.exponential(0.3, 400), span_s=500)
    made = make_plan(make_tier(), **{"replicas": 2, "name": "p"} | plan)
    return make_case({"service": Service(slots=8, timeout=10)}, made, Objectives(p95=3, availability=0.95)), trace


def test_headroom_goes_on_without_memory_where_it_can(monkeypatch: pytest.MonkeyPatch) -> None:
    case, trace = _case()
    (wanted,) = rooms_of([case], Pool(trace))
    assert wanted.holds_to is not None
    assert wanted.looked_to is None
    enough = int(bytes_of(trace) * wanted.holds_to * 10)
    (found,) = rooms_of([case], Pool(trace, memory=enough))
    assert found.holds_to == wanted.holds_to
    little = int(bytes_of(trace) * 1.5)
    made = Case.load
    with monkeypatch.context() as patch:
        patch.setattr(Case, "load", lambda self, trace: made(self, trace) if self.scale <= 1.5 else pytest.fail("made"))
        (counted,) = rooms_of([case], Pool(trace, memory=little))  # made as it goes, percentiles within 0.5 %
    assert key_of(case, "trace") != key_of(replace(case, keeps=False), "trace")
    assert counted.holds_to == pytest.approx(wanted.holds_to, rel=0.03)
    assert counted.looked_to is None
    assert counted.counted_from is not None
    assert counted.counted_from > 1.5
    ahead, _ = _case(faults=[{"kind": "crash", "at": "peak"}])  # needs the whole trace, and two replays
    (short,) = rooms_of([ahead], Pool(trace, memory=int(bytes_of(trace, 2) * 1.5)))
    assert short.breaks is None
    assert short.counted_from is None
    assert short.holds_to == short.looked_to
    assert short.looked_to is not None
    assert 1.5 / STEP < short.looked_to <= 1.5
    assert max(point.factor for point in short.points) <= 1.5


@pytest.mark.thorough
def test_headroom_without_memory_says_so(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    file = demo_in(tmp_path / "landing", "landing")
    assert run(["headroom", str(file), "--plan", "two_zones", "--memory", "1 kB", "--no-store"]) == 0
    assert "percentiles are within 0.5 %" in " ".join(capsys.readouterr().out.split())
    assert run(["headroom", str(file), "--memory", "lots"]) == 2
    assert "--memory: found 'lots'; allowed: a size" in capsys.readouterr().err
    assert machine_bytes() > 10**8


@pytest.mark.parametrize("seed", range(6))
def test_a_limit_is_what_its_points_say(seed: int) -> None:
    """Of all and of each objective: the last that was replayed before the first failure, and both were replayed."""
    rng = np.random.default_rng(seed)
    case, _ = _case(balancer="random", replicas=int(rng.integers(1, 4)))
    trace = Trace.from_arrays(np.cumsum(rng.exponential(0.9, 150)), rng.exponential(0.4, 150), span_s=200)
    (room,) = rooms_of([case], Pool(trace))
    factors = [point.factor for point in room.points]
    for name in (None, *room.limits):
        bad = [point.factor for point in room.points if (point.missed if name is None else name in point.missed)]
        limit = room.holds_to if name is None else room.limits[name]
        if not bad:
            assert limit is None or name is None
            continue
        assert limit is not None
        assert limit == pytest.approx(min(bad) / STEP)
        assert any(factor == pytest.approx(limit) for factor in factors)
    missed: set[str] = set()
    bent = False
    for point in room.points:
        bent |= bool(missed - set(point.missed))
        missed |= set(point.missed)
    assert room.monotone == (not bent)


def test_a_load_is_made_once_for_all_plans_and_as_far_as_there_is_room(monkeypatch: pytest.MonkeyPatch) -> None:
    case, trace = _case()
    other, _ = _case(replicas=3, name="q")
    made: list[float] = []
    load = Case.load

    def counting(self: Case, one: Trace) -> Trace:
        if self.scale != 1.0:
            made.append(self.scale)
        return load(self, one)

    monkeypatch.setattr(Case, "load", counting)
    rooms = rooms_of([case, other], Pool(trace))
    factors = {point.factor for room in rooms for point in room.points}
    both = {p.factor for p in rooms[0].points} & {p.factor for p in rooms[1].points}
    assert len(both) > 3
    assert len(made) < sum(len(room.points) for room in rooms) + 2
    assert len(set(made)) <= len(factors)

    sent: list[int] = []
    with LocalProcesses(2) as processes, Pool(trace, processes, memory=int(bytes_of(trace) * 3.1)) as pool:
        from dataclasses import replace as changed

        begin = pool.send

        def send(packed: bytes) -> Any:
            under_way = sum(batch.bytes for batch in pool._sent if batch.future is not None and not batch.future.done())
            sent.append(under_way)
            return begin(packed)

        monkeypatch.setattr(pool, "send", send)
        tickets = pool.hand_in_all([(changed(case, scale=scale), Whole()) for scale in (1.5, 2.0, 2.5, 3.0, 1.7)])
        results = [ticket.result for ticket in tickets]
    assert results == [changed(case, scale=scale).figures(trace) for scale in (1.5, 2.0, 2.5, 3.0, 1.7)]
    assert all(under_way <= bytes_of(trace) * 3.1 for under_way in sent)


def test_results_come_plan_by_plan() -> None:
    case, trace = _case()
    other, _ = _case(replicas=1, name="q")
    looked: list[str] = []
    found: list[str] = []
    rooms_of(
        [case, other],
        Pool(trace),
        report=lambda what, _share: looked.append(what),
        found=lambda r: found.append(r.plan),
    )
    assert sorted(found) == ["p", "q"]
    assert any("p at " in what for what in looked) or len(looked) > 3


# -- fleets, and outcomes of several services ----------------------------------------------------------


def test_a_fleet_of_a_million_is_refused() -> None:
    with pytest.raises(StudyError, match=r"replicas: found 1000000; allowed: a number .*at most 100000"):
        make_plan(make_tier(replicas={"least": 0}), replicas=10**6)


def test_several_services_have_use_and_no_scaling_of_all(tmp_path: Path) -> None:
    study = load_study(demo_in(tmp_path / "cabins", "cabins"))
    found = replay(study.trace(), study.services, study.plans["pooled"], study.objectives)
    assert found.scaling is None
    assert {used.service for used in found.usage} == set(study.services)
    for name, one in found.services.items():
        assert [used.item for used in found.usage if used.service == name] == [used.item for used in one.usage]
    assert "pooled" in found._repr_html_()


def test_an_outcome_of_chunks_can_be_shown() -> None:
    chunks = [make_trace([0.0, 1.0, 2.0], cpu=0.1), make_trace([3.0, 4.0], cpu=0.1)]
    found = replay(iter(chunks), Service(slots=2), make_plan())
    assert "plan" in found._repr_html_()
    with pytest.raises(LibramenError, match="not kept"):
        found.stretch(0, 1)


def test_a_backtest_of_several_services_says_their_fleets(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    path = demo_in(tmp_path / "cabins", "cabins")
    study = load_study(path)
    outcome = replay(study.trace(), study.services, study.plans["pooled"])
    n = 6000
    assert outcome.run.results is not None
    rows = "".join(
        f"{at:.6f},{took:.6f},{route}\n"
        for at, took, route in zip(
            outcome.trace.at_s[:n],
            outcome.run.results.latency_s[:n],
            np.array(outcome.trace.routes)[outcome.trace.route_codes[:n]],
            strict=True,
        )
    )
    (path.parent / "log.csv").write_text("at_s,latency_s,route\n" + rows)
    text = path.read_text()
    head, _, tail = text.partition("[trace]")
    rest = tail[tail.index("\n[") :]
    path.write_text(f'{head}[trace]\nfiles = "log.csv"\nrecorded_on = "pooled"\ncpu_share = 0.4\n{rest}')
    assert run(["backtest", str(path), "--no-cache"]) == 0
    assert "Replicas ready in the replay: web" in capsys.readouterr().out
    assert set(backtest(load_study(path)).replicas) == set(study.services)


# -- readers ------------------------------------------------------------------------------------------


def _span(**more: Any) -> dict[str, Any]:
    return {
        "traceId": "t", "spanId": "a", "kind": 2, "name": "GET", "startTimeUnixNano": "1000000000",
        "endTimeUnixNano": "1100000000",
    } | more  # fmt: skip


def _spans(*some: Any) -> str:
    return json.dumps({"resourceSpans": [{"scopeSpans": [{"spans": list(some)}]}]})


@pytest.mark.parametrize(
    "odd",
    [
        {"attributes": 5}, {"attributes": "x"}, {"attributes": [5, None, {"key": [], "value": 3}]}, {"status": {"code": {}}},
        {"status": {"code": []}}, {"status": 3}, {"kind": {}}, {"traceState": {}}, {"traceState": "ot=th:zz"}, {"name": []},
        {"parentSpanId": {}}, {"startTimeUnixNano": {}}, {"endTimeUnixNano": 1e400}, {"spanId": None},
    ],
)  # fmt: skip
def test_odd_spans(tmp_path: Path, odd: dict[str, Any]) -> None:
    path = tmp_path / "s.json"
    path.write_text(_spans(_span(), _span(**odd), _span(**{"kind": 3, "parentSpanId": "a", "spanId": "b"} | odd)))
    with contextlib.suppress(LibramenError):
        assert len(read_trace(path)) >= 1


@pytest.mark.parametrize("cell", ["NaN", "Infinity", "-Infinity", "-1", "1e300"])
def test_latencies_that_are_none(tmp_path: Path, cell: str) -> None:
    (tmp_path / "t.csv").write_text(f"time,latency_s\n2031-06-05T10:00:00Z,0.1\n2031-06-05T10:00:01Z,{cell}\n")
    (tmp_path / "t.jsonl").write_text(
        f'{{"time": "2031-06-05T10:00:00Z", "latency_s": 0.1}}\n{{"time": "2031-06-05T10:00:01Z", "latency_s": {cell}}}\n'
    )
    for name in ("t.csv", "t.jsonl"):
        for stamp in ("answer", "arrival"):
            with pytest.raises(TraceError, match="latency_s"):
                read_trace(tmp_path / name, stamp=stamp)


def test_lines_that_are_too_long(tmp_path: Path) -> None:
    """Three megabytes without a line end are one line that cannot be read, as in a log."""
    long = "x" * (3 * LONGEST_LINE)
    rows = "".join(f"{k},0.1\n" for k in range(50))
    (tmp_path / "t.csv").write_text(f"at_s,cpu_s\n{rows}{long}\n50,0.1\n")
    lines = "".join(json.dumps({"at_s": k, "cpu_s": 0.1}) + "\n" for k in range(50))
    (tmp_path / "t.jsonl").write_text(f'{lines}{{"at_s": 3, "x": "{long}"}}\n')
    for name, n in (("t.csv", 51), ("t.jsonl", 50)):
        trace = read_trace(tmp_path / name)
        assert (len(trace), trace.source.skipped) == (n, 1)
        assert "the line is longer than 1,048,576 bytes" in dict(trace.source.reasons)


@pytest.mark.parametrize("name", ["t.csv", "t.jsonl"])
def test_a_line_without_an_end_is_no_log(tmp_path: Path, name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """A packed file of a few bytes may unpack to a line without an end, and a pipe give one for ever."""
    monkeypatch.setattr(lines, "_NO_LOG", 20 << 20)
    head = {"t.csv": "at_s,cpu_s\n1,0.1\n", "t.jsonl": '{"at_s": 1, "cpu_s": 0.1}\n'}[name]
    with gzip.open(tmp_path / f"{name}.gz", "wb", 1) as packed:
        packed.write(head.encode() + b"x" * (30 << 20))
    with pytest.raises(TraceError, match=r"line [23] has not ended after"):
        read_trace(tmp_path / f"{name}.gz")


def test_spans_are_one_document_or_lines_of_bounded_length(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "s.json"
    path.write_text(_spans(*(_span(spanId=str(k), startTimeUnixNano=str(10**9 + k)) for k in range(500))))
    assert len(read_trace(path)) == 500
    monkeypatch.setattr(spans, "MOST_BYTES", 1000)
    assert len(read_trace(path)) == 500  # one line is not too long
    path.write_text(
        _spans(_span()) + "\n" + '{"x": "' + "y" * (2 * LONGEST_LINE) + '"}\n' + _spans(_span(spanId="z")) + "\n"
    )
    trace = read_trace(path)
    assert (len(trace), trace.source.skipped) == (2, 1)


def test_devices_and_garbage_are_refused(tmp_path: Path) -> None:
    for device in ("/dev/random", "/dev/zero"):
        with pytest.raises(TraceError, match="found a device; allowed: a file or a pipe"):
            read_trace(device)
    (tmp_path / "g.log").write_text("h - - rubbish\n" * 250_000)
    with pytest.raises(TraceError, match=r"none of its first [\d,]+ lines can be read"):
        read_trace(tmp_path / "g.log", format="combined", line_format='%h %l %u %t "%r" %>s %b %D')


@pytest.mark.parametrize("suffix", [".csv", ".jsonl", ".parquet"])
def test_times_without_an_offset_are_local(tmp_path: Path, suffix: str) -> None:
    """Of the zone of the study; a time that a change of clocks skips is the next, one that it repeats the first."""
    times = ["2031-03-30T00:30:00", "2031-03-30T01:30:00", "2031-03-30T02:30:00"]  # 01:00 is 02:00 in Lisbon
    path = tmp_path / f"t{suffix}"
    if suffix == ".csv":
        path.write_text("time,cpu_s\n" + "".join(f"{time},0.1\n" for time in times))
    elif suffix == ".jsonl":
        path.write_text("".join(json.dumps({"time": time, "cpu_s": 0.1}) + "\n" for time in times))
    else:
        stamps = pa.array(np.array(times, "datetime64[us]"))
        parquet.write_table(pa.table({"time": stamps, "cpu_s": [0.1] * 3}), path)
    trace = read_trace(path, time_zone="Europe/Lisbon")
    local = [trace.local_time(float(at)) for at in trace.at_s]
    assert [f"{time:%H:%M}" for time in local if time] == ["00:30", "02:00", "02:30"]
    assert any("3 times of " in note and "local times of Europe/Lisbon" in note for note in trace.source.notes)
    assert str(read_trace(path).start) == "2031-03-30 00:30:00+00:00"


# -- mutations ----------------------------------------------------------------------------------------


def _examples() -> dict[str, bytes]:
    rng = np.random.default_rng(7)
    n = 40
    frame = {
        "time": [f"2031-06-05T10:00:{k:02}Z" for k in range(n)],
        "latency_s": rng.exponential(0.2, n).tolist(),
        "route": [f"/r{k % 3}" for k in range(n)],
        "status": [200] * n,
    }
    rows = [dict(zip(frame, values, strict=True)) for values in zip(*frame.values(), strict=True)]
    table = pa.table(frame)
    found = {
        "csv": ("\n".join([",".join(frame), *(",".join(map(str, row.values())) for row in rows)]) + "\n").encode(),
        "jsonl": "".join(json.dumps(row) + "\n" for row in rows).encode(),
        "json": _spans(
            *(
                _span(spanId=f"{k}", attributes=[{"key": "http.route", "value": {"stringValue": "/a"}}])
                for k in range(8)
            )
        ).encode(),
    }
    sink = pa.BufferOutputStream()
    parquet.write_table(table, sink)
    found["parquet"] = sink.getvalue().to_pybytes()
    sink = pa.BufferOutputStream()
    with pa.ipc.new_file(sink, table.schema) as writer:
        writer.write_table(table)
    found["arrow"] = sink.getvalue().to_pybytes()
    return found


_ODD = [b"", b"0", b"-1", b"1e308", b"nan", b"NaN", b"Infinity", b"null", b"{}", b"[]", b'"', b"\n", b"\x00", b"\xff\xfe",
        b"=1+1", b"../../x", b"x" * 3000, b"[[[[", b"100y", b"\x1b[2J", b'{"a":', b","]  # fmt: skip


def _mutated(data: bytes, luck: random.Random) -> bytes:
    raw = bytearray(data)
    for _ in range(luck.randint(1, 4)):
        at, kind = luck.randrange(max(1, len(raw))), luck.randrange(5)
        length = luck.randrange(1, 30)
        if kind == 0 and raw:
            raw[at] ^= 1 << luck.randrange(8)
        elif kind == 1:
            raw[at : at + length] = luck.choice(_ODD)
        elif kind == 2:
            del raw[at : at + length]
        elif kind == 3:
            raw[at:at] = raw[luck.randrange(max(1, len(raw))) :][:length]
        else:
            raw = raw[:at] if luck.random() < 0.2 else raw
    return bytes(raw)


@pytest.mark.parametrize("suffix", ["parquet", "arrow"])
def test_names_that_are_no_text(tmp_path: Path, suffix: str) -> None:
    path = tmp_path / f"t.{suffix}"
    table = pa.table({"at_s": [1.0, 2.0], "quay_s": [0.1, 0.2]})
    parquet.write_table(table, path) if suffix == "parquet" else feather.write_feather(table, path)
    path.write_bytes(path.read_bytes().replace(b"quay_s", b"qu\x94y_s"))
    with pytest.raises(TraceError, match="not a whole"):
        read_trace(path)


@pytest.mark.parametrize("suffix", ["csv", "jsonl", "json", "parquet", "arrow"])
def test_mutated_files_give_a_trace_or_a_sentence(suffix: str, tmp_path: Path, request: pytest.FixtureRequest) -> None:
    """With --thorough ten thousand of each; whatever they say, they are small, and so is what reading them needs."""
    n, data = 10_000 if request.config.getoption("--thorough") else 400, _examples()[suffix]
    luck, path = random.Random(11), tmp_path / f"m.{suffix}"
    before = _memory()
    good = 0
    for number in range(n):
        path.write_bytes(_mutated(data, luck))
        said = ""
        try:
            good += len(read_trace(path, stamp=luck.choice([None, "answer"]), demand="observed")) > 0
        except LibramenError as error:
            said = str(error)
        assert "\n" not in said, number
    assert 0 < good < n
    assert _memory() - before < 400 * 2**20


def _memory() -> int:
    pa.default_memory_pool().release_unused()
    return (
        int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE")
        if sys.platform == "linux"
        else 0
    )


# -- processes and messages -----------------------------------------------------------------------------


@pytest.mark.skipif(sys.platform != "linux", reason="looks into /proc")
def test_workers_end_with_a_command_that_is_killed(hour_study: Path) -> None:
    script = """
import time
from dataclasses import replace
from libramen.runs.cases import LocalProcesses
with LocalProcesses(2) as processes:
    found = [processes.submit(__import__("os").getpid) for _ in range(8)]
    print(*sorted({one.result() for one in found}), flush=True)
    time.sleep(60)
"""
    process = subprocess.Popen([sys.executable, "-c", script], stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    workers = [int(word) for word in process.stdout.readline().split()]
    assert workers
    process.send_signal(signal.SIGKILL)
    process.wait()
    process.stdout.close()
    deadline = time.monotonic() + 20
    while any(_runs(pid) for pid in workers) and time.monotonic() < deadline:
        time.sleep(0.1)
    assert not any(_runs(pid) for pid in workers)


def _runs(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


def test_a_search_over_tables_gets_a_sentence(tmp_path: Path, hour_study: Path) -> None:
    study = load_study(hour_study)
    with pytest.raises(StudyError, match=r"vary: unknown key 'scaling'"):
        search(study, "brisk", scaling=[{"rule": "fixed"}, {"rule": "fixed"}])
    found = search(study, "steady", zones=[["east"], ["east", "west"], ["east"]], front=True)
    assert found.counts.combinations == 2


def test_long_names_are_shortened(hour_study: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert run(["replay", str(hour_study), "--plan", "x" * 10_000]) == 2
    assert len(capsys.readouterr().err) < 1500
    assert shortened("a" * 400) == "a" * 400
    assert len(shortened("a" * 5000)) < 400
    assert len(shortened("a b" * 5000)) < 4200
    with pytest.raises(StudyError) as error:
        Service(**{"slots": 1, "y" * 10_000: 2})
    assert len(str(error.value)) < 1500


def test_a_share_of_forty_gets_a_plain_sentence(tmp_path: Path) -> None:
    with pytest.raises(TraceError) as error:
        read_trace(tmp_path / "t.csv", cpu_share=40)
    assert str(error.value) == 'cpu_share: found 40; allowed: a share such as "60%" or 0.6, at most 100%'
    with pytest.raises(TraceError, match=r"\[cpu_share\] a: found 40; allowed: a share .*100%$"):
        read_trace(tmp_path / "t.csv", cpu_share={"a": 40})


def _tables(kind: type[Table]) -> list[type[Table]]:
    return [kind, *(one for below in kind.__subclasses__() for one in _tables(below))]


_WRONG: list[Any] = [
    None,
    True,
    -1,
    1e309,
    float("nan"),
    "",
    "x",
    "\n",
    [],
    [[]],
    {},
    {"a": 1},
    object(),
    b"x",
    "9" * 5000,
    [1, "x"],
]


@pytest.mark.parametrize("kind", _tables(Table)[1:], ids=lambda kind: kind.__name__)
def test_no_text_of_another_package_reaches_a_user(kind: type[Table]) -> None:
    """Every key of every table, given everything that it may not be."""
    said: dict[str, str] = {}
    for key in [*kind.model_fields, "unknown"]:
        for value in _WRONG:
            # Classes that others are made from cannot be made at all.
            with contextlib.suppress(TypeError):
                try:
                    kind(**{key: value})
                except LibramenError as error:
                    said[f"{key} {value!r}"] = str(error)
    foreign = ("pydantic", "Input should", "function-", "validation error", "tagged-union", "lax-or-strict")
    assert not {what: text for what, text in said.items() if any(word in text for word in foreign)}


def test_names_that_are_public_are_told_of() -> None:
    assert Plan is libramen.Plan
    assert callable(headroom)
    assert len(make(span="10m", rate=1.0)) > 100
