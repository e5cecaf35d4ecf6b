"""What was read is kept: found again by content and keys, never trusted blindly, bounded."""

from __future__ import annotations

import os
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from pathlib import Path

import numpy as np
import pytest

from builders import make_plan
from libramen import Service, Trace, load_study, replay
from libramen.cli import run
from libramen.engine import compiling
from libramen.load import cache
from libramen.load.load import Load
from libramen.study.trace_table import TraceTable

LINE = 'v - - [05/Jun/2031:09:{minute:02}:{second:02} +0100] "GET /{path} HTTP/1.1" 200 {n} "-" "x" 0.{n}\n'


@pytest.fixture
def folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A cache of this test's own, and a log."""
    monkeypatch.setenv("LIBRAMEN_CACHE", str(tmp_path / "cache"))
    lines = [LINE.format(minute=k // 20, second=3 * k % 60, path="ab"[k % 2], n=100 + k) for k in range(400)]
    (tmp_path / "a.log").write_text("".join(lines) + "not a line\n")
    return tmp_path


def _read(folder: Path, **values: object) -> Trace:
    return Load(TraceTable(files="a.log", **values), folder).trace()


def _same(one: Trace, other: Trace) -> bool:
    return all(
        np.array_equal(getattr(one, name), getattr(other, name))
        for name in ("at_s", "cpu_s", "wait_s", "bytes_out", "latency_s", "status", "route_codes")
    ) and (one.routes, one.span_s, one.start) == (other.routes, other.span_s, other.start)


def test_what_was_read_is_found_again_with_all_that_was_noted(folder: Path) -> None:
    first, second = (_read(folder, shape=[{"scale": 2}]) for _ in range(2))
    assert (first.source.from_cache, second.source.from_cache) == (False, True)
    assert _same(first, second)
    told = [{**vars(trace.source), "from_cache": None} for trace in (first, second)]
    assert told[0] == told[1]
    # Its arrays are mapped from the file, not to be written; a replay does not mind.
    assert not second.at_s.flags.writeable
    one, other = (replay(trace, Service(slots=1), make_plan()) for trace in (first, second))
    assert one.run.results.records.tobytes() == other.run.results.records.tobytes()
    assert not Load(TraceTable(files="a.log", shape=[{"scale": 2}]), folder).trace(cache=False).source.from_cache


def test_other_content_or_other_keys_are_another_entry(folder: Path) -> None:
    _read(folder)
    for values in (
        {"cpu_share": 0.5},
        {"demand": "observed"},
        {"shape": [{"scale": 2}]},
        {"time_zone": "Europe/Lisbon"},
    ):
        assert not _read(folder, **values).source.from_cache
    assert not Load(TraceTable(files="a.log"), folder, 1).trace().source.from_cache
    (folder / "a.log").write_text((folder / "a.log").read_text() + LINE.format(minute=30, second=1, path="a", n=1))
    assert not _read(folder).source.from_cache
    assert len(_read(folder)) == 401


def test_a_mixed_trace_counts_by_its_content(folder: Path) -> None:
    for n in (1, 2):
        (folder / "m.csv").write_text("at_s,cpu_s\n" + "5,1\n" * n)
        trace = _read(folder, shape=[{"mix": "m.csv"}])
        assert (len(trace), trace.source.from_cache) == (400 + n, False)


def test_measured_cpu_use_counts_by_its_content(folder: Path) -> None:
    """Half as many cores in use is half as much CPU work."""
    start = _read(folder).start
    assert start is not None
    shares = []
    for cores in (0.4, 0.4, 0.2):
        rows = [f"{(start + timedelta(minutes=k)).isoformat()},{cores + 0.05 * cores * (k % 3)}" for k in range(20)]
        (folder / "cpu.csv").write_text("time,cores\n" + "\n".join(rows) + "\n")
        found = _read(folder, cpu_use="cpu.csv", demand="observed")
        shares.append((found.source.from_cache, round(float(found.cpu_s.sum()), 6)))
    assert [cached for cached, _ in shares] == [False, True, False]
    assert shares[2][1] < shares[1][1]


@pytest.mark.parametrize("damage", ["cut", "flip", "told", "empty"])
def test_a_damaged_entry_is_set_aside(folder: Path, damage: str) -> None:
    _read(folder)
    first = Load(TraceTable(files="a.log"), folder).trace(cache=False)  # what was kept is mapped from the file
    (arrow,) = (folder / "cache").glob("*.arrow")
    data = bytearray(arrow.read_bytes())
    if damage == "told":
        arrow.with_suffix(".json").write_text("{")
    else:
        data[len(data) // 2] ^= 1
        arrow.write_bytes({"cut": bytes(data[:-100]), "flip": bytes(data), "empty": b""}[damage])
    again = _read(folder)
    assert not again.source.from_cache
    assert _same(first, again)
    assert (folder / "cache" / "damaged.arrow").exists()
    assert _read(folder).source.from_cache


def test_two_who_read_at_once_do_not_disturb_each_other(folder: Path) -> None:
    with ThreadPoolExecutor(4) as pool:
        traces = list(pool.map(lambda _: _read(folder), range(8)))
    assert all(_same(traces[0], trace) for trace in traces)
    assert sorted(path.suffix for path in (folder / "cache").iterdir()) == [".arrow", ".json"]


def test_the_cache_is_bounded_and_keeps_what_was_used_last(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    keys = []
    for seed in range(4):
        Load(TraceTable(files="a.log"), folder, seed).trace()
        new = {path.name for path in (folder / "cache").glob("*.arrow")} - set(keys)
        keys += new
        for age, name in enumerate(reversed(keys)):
            os.utime(folder / "cache" / name, (1e9 - age, 1e9 - age))
    size = (folder / "cache" / keys[0]).stat().st_size
    monkeypatch.setattr(cache, "_MOST_BYTES", int(2.5 * size))
    Load(TraceTable(files="a.log"), folder, 0).trace()  # is used, so it is not among those used longest ago
    Load(TraceTable(files="a.log"), folder, 9).trace()
    left = {path.name for path in (folder / "cache").glob("*.arrow")}
    assert len(left) == 2
    assert keys[0] in left


def test_a_cache_that_cannot_be_written_is_no_mistake(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (folder / "file").write_text("")
    monkeypatch.setenv("LIBRAMEN_CACHE", str(folder / "file" / "below"))
    assert len(_read(folder)) == len(_read(folder)) == 400


def test_the_commands_say_it_in_one_line(folder: Path, capsys: pytest.CaptureFixture[str]) -> None:
    said = []
    for more in ([], [], ["--no-cache"]):
        assert run(["trace", "inspect", str(folder / "a.log"), *more]) == 0
        said.append("(read from cache; --no-cache reads the files again)" in capsys.readouterr().out)
    assert said == [False, True, False]


def test_a_pipe_is_not_kept(folder: Path) -> None:
    code = "from libramen.load.load import Load; from libramen.study.trace_table import TraceTable; from pathlib import Path; print(len(Load(TraceTable(files='-'), Path()).trace()))"
    with (folder / "a.log").open("rb") as log:
        done = subprocess.run([sys.executable, "-c", code], stdin=log, capture_output=True, text=True, check=True)
    assert done.stdout == "400\n"
    assert not (folder / "cache").exists()


# -- compiling ahead -------------------------------------------------------------------------------


def test_the_engine_is_compiled_beside_other_work_and_once(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, demo_study: Path
) -> None:
    """Nothing is known of it at first: one sentence, one process, and a mark that stays."""
    monkeypatch.setenv("LIBRAMEN_CACHE", str(tmp_path))
    monkeypatch.delenv("NUMBA_DISABLE_JIT", raising=False)
    told: list[str] = []
    with compiling.Compilation(told.append) as compilation:
        compilation.wait()
    assert len(told) == 1
    assert compiling.is_compiled()
    with compiling.Compilation(told.append):
        pass
    assert len(told) == 1
    assert run(["prepare"]) == 0
    assert load_study(demo_study).plans


def test_an_engine_that_is_gone_from_where_the_compiler_kept_it_is_not_called_compiled(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """As with an environment that is removed and made anew in the same place."""
    monkeypatch.setenv("LIBRAMEN_CACHE", str(tmp_path))
    monkeypatch.delenv("NUMBA_DISABLE_JIT", raising=False)
    assert compiling.compile_now(lean=True)
    assert compiling.is_compiled(lean=True)
    (mark,) = tmp_path.iterdir()
    kept = Path(mark.read_text(encoding="utf-8"))
    assert kept.is_file()
    mark.write_text(str(kept.with_name("gone.nbi")), encoding="utf-8")
    assert not compiling.is_compiled(lean=True)
    mark.write_text("", encoding="utf-8")
    assert not compiling.is_compiled(lean=True)


def test_prepare_says_so_where_nothing_can_be_kept(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    def no_process(*_: object, **__: object) -> None:
        raise OSError

    monkeypatch.setenv("LIBRAMEN_CACHE", str(tmp_path))
    monkeypatch.delenv("NUMBA_DISABLE_JIT", raising=False)
    monkeypatch.setattr(compiling, "_kept_in", lambda _: None)
    monkeypatch.setattr(compiling.subprocess, "Popen", no_process)
    assert run(["prepare"]) == 1
    assert "is not kept: NUMBA_CACHE_DIR may name a folder for it" in capsys.readouterr().out
    assert not list(tmp_path.iterdir())
