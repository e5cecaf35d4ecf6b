"""Reading: logs and tables, good lines and bad ones, stamps, routes."""

from __future__ import annotations

import gzip
import re
from datetime import datetime
from typing import TYPE_CHECKING
from zoneinfo import ZoneInfo

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, strategies as st
from pyarrow import parquet

from libramen import Trace, TraceError, read_trace
from libramen.trace.routes import REST, fold_path, gather
from libramen.trace.stamps import offset_seconds, spread_within_second, stamp_seconds

if TYPE_CHECKING:
    from pathlib import Path

GOOD = b'v-1 - - [05/Jun/2031:09:30:07 +0100] "GET /fares/12?to=sands HTTP/1.1" 200 5120 "-" "agent" 0.250\n'


def _log(tmp_path: Path, *lines: bytes, name: str = "a.log") -> Path:
    path = tmp_path / name
    path.write_bytes(b"".join(lines))
    return path


def _line(stamp: str = "05/Jun/2031:09:30:07 +0100", took: str = "0.250", **parts: str) -> bytes:
    request, status, size = (
        parts.get("request", "GET /a HTTP/1.1"),
        parts.get("status", "200"),
        parts.get("size", "10"),
    )
    return f'v-1 - - [{stamp}] "{request}" {status} {size} "-" "agent" {took}\n'.encode()


def test_a_combined_line(tmp_path: Path) -> None:
    """Answered at 09:30:07.x, it came 0.25 s earlier; time 0 is 09:30, and the trace goes to the end of that minute."""
    trace = read_trace(_log(tmp_path, GOOD), time_zone="Europe/Lisbon")
    assert len(trace) == 1
    assert 6.75 <= trace.at_s[0] < 7.75
    assert trace.span_s == 60
    assert trace.routes == ("/fares/{id}",)
    assert trace.bytes_out.tolist() == [5120]
    assert trace.status.tolist() == [200]
    assert trace.latency_s.tolist() == [0.25]
    assert trace.start == datetime(2031, 6, 5, 9, 30, tzinfo=ZoneInfo("Europe/Lisbon"))
    assert str(trace.start.tzinfo) == "Europe/Lisbon"
    assert trace.source.lines == 1
    assert trace.source.skipped == 0


def test_arrival_is_the_stamp_less_the_latency(tmp_path: Path) -> None:
    """The second line was answered 3 s later but took 5 s: it came first, 2 s (give or take the seconds' parts) earlier."""
    trace = read_trace(_log(tmp_path, _line(), _line("05/Jun/2031:09:30:10 +0100", "5.250")))
    assert trace.latency_s.tolist() == [5.25, 0.25]
    assert 1 < np.diff(trace.at_s)[0] < 3


def test_offsets_of_two_lines_differ(tmp_path: Path) -> None:
    """09:30:07 at +0100 and 08:30:09 at +0000 are two seconds apart."""
    trace = read_trace(_log(tmp_path, _line(), _line("05/Jun/2031:08:30:09 +0000")))
    assert 1 < np.diff(trace.at_s)[0] < 3


def test_bad_lines_are_counted_with_their_reasons(tmp_path: Path) -> None:
    lines = [
        GOOD,
        b"\n",
        b"what is this\n",
        _line("31/Feb/2031:09:30:07 +0100"),
        _line("05/Jun/2031:24:30:07 +0100"),
        GOOD,
        _line(took="-"),
        GOOD.replace(b" 0.250", b""),
        _line("05/Jun/2031:09:30:07 +0160"),
        GOOD[:40],
    ]
    trace = read_trace(_log(tmp_path, *lines))
    assert len(trace) == 2
    assert trace.source.skipped == 8
    assert trace.source.lines == 10
    assert dict(trace.source.reasons) == {
        "the line is empty": 1,
        "not of this log's format": 2,
        "... is not a time stamp": 3,
        "the request time is ..., not a number": 1,
        "no request time behind the line": 1,
    }
    assert [(skipped.line, skipped.reason) for skipped in trace.source.first_skipped] == [
        (2, "the line is empty"),
        (3, "not of this log's format (3 pieces for 9)"),
        (4, "'31/Feb/2031:09:30:07 +0100' is not a time stamp"),
        (5, "'05/Jun/2031:24:30:07 +0100' is not a time stamp"),
        (7, "the request time is '-', not a number"),
    ]


def test_escapes_crlf_junk_and_no_last_line_end(tmp_path: Path) -> None:
    quoted = GOOD.replace(b'"agent"', rb'"an \"odd\" agent"')
    junk = _line(request="\x16\x03\x01").replace(b"agent", b"\xff\xfe")
    trace = read_trace(_log(tmp_path, quoted, GOOD.replace(b"\n", b"\r\n"), junk, _line(size="-"), GOOD.rstrip()))
    assert len(trace) == 5
    assert trace.source.skipped == 0
    assert trace.routes == ("/a", "/fares/{id}", "no request line")
    assert sorted(trace.bytes_out.tolist()) == [0, 10, 5120, 5120, 5120]


def test_gzip_by_content_and_several_files(tmp_path: Path) -> None:
    one = _log(tmp_path, gzip.compress(GOOD), name="one.log")
    two = _log(tmp_path, _line("05/Jun/2031:09:29:00 +0100"), name="two.log")
    trace = read_trace([one, two])
    assert len(trace) == 2
    assert trace.source.files == (str(one), str(two))
    assert trace.routes[trace.route_codes[0]] == "/a"


def test_a_gzip_that_breaks_off_is_read_as_far_as_it_goes(tmp_path: Path) -> None:
    packed = gzip.compress(b"".join(_line(took=f"0.{k:03}") for k in range(1000)), compresslevel=0)
    trace = read_trace(_log(tmp_path, packed[:50_000]))
    assert 100 < len(trace) < 1000
    assert any("breaks off" in skipped.reason for skipped in trace.source.first_skipped)


def test_backslashes_escape_within_quotes_only(tmp_path: Path) -> None:
    """Found by fuzzing: a request time with a backslash is no number."""
    lines = [GOOD, GOOD.replace(b" 0.250", rb" \.250"), GOOD.replace(b"/fares/12", rb"/f\"x")]
    trace = read_trace(_log(tmp_path, *lines))
    assert len(trace) == 2
    assert trace.source.first_skipped[0].line == 2
    assert trace.routes == ('/f"x', "/fares/{id}")


@given(
    st.lists(st.tuples(st.integers(0, len(GOOD) - 2), st.binary(max_size=2)), min_size=1, max_size=12),
    st.data(),
)
def test_fast_and_careful_paths_agree_on_mutated_lines(
    tmp_path_factory: pytest.TempPathFactory, changes: list[tuple[int, bytes]], data: st.DataObject
) -> None:
    """Each line is read on its own by a plain regular expression, and must come out the same from the block."""
    lines = [GOOD[:-1]] * 3
    for at, new in changes:
        which = data.draw(st.integers(0, 2))
        lines[which] = (lines[which][:at] + new.replace(b"\n", b"") + lines[which][at + len(new) :]).replace(b"\r", b"")
    path = tmp_path_factory.mktemp("log") / "a.log"
    path.write_bytes(GOOD * 9 + b"".join(line + b"\n" for line in lines))
    trace = read_trace(path, format="combined")
    pattern = re.compile(
        rb'[^\s"]\S* [^\s"]\S* [^\s"]\S* \[(\d\d/[A-Z][a-z]{2}/\d{4}:[^\]\s]+) ([^\]\s]+)\] "(?:[^"\\]|\\.)*" \d{3} (?:\d+|-) '
        rb'"(?:[^"\\]|\\.)*" "(?:[^"\\]|\\.)*" (\d+\.?\d*|\.\d+)'
    )
    readable = [match for match in map(pattern.fullmatch, lines) if match and _is_time(match[1], match[2])]
    assert len(trace) == 9 + len(readable)
    assert trace.source.skipped == 3 - len(readable)
    assert sorted(trace.latency_s) == sorted([0.25] * 9 + [*(float(match[3]) for match in readable)])


def _is_time(stamp: bytes, offset: bytes) -> bool:
    try:
        datetime.strptime(f"{stamp.decode()} {offset.decode()}", "%d/%b/%Y:%H:%M:%S %z")
    except ValueError:
        return False
    ahead = re.fullmatch(rb"[+-](\d\d)([0-5]\d)", offset)
    return len(stamp) == 20 and stamp.isascii() and ahead is not None and int(ahead[1]) <= 14


@pytest.mark.parametrize("stamp", ["05/Jun/2031:09:30:07", "29/Feb/2032:23:59:59", "01/Jan/1970:00:00:00"])
def test_stamps_are_read_as_datetime_reads_them(stamp: str) -> None:
    text = np.frombuffer(stamp.encode(), np.uint8).reshape(1, -1)
    assert stamp_seconds(text)[0] == datetime.strptime(stamp + " +0000", "%d/%b/%Y:%H:%M:%S %z").timestamp()


@pytest.mark.parametrize(
    "stamp", ["29/Feb/2031:00:00:00", "05/jun/2031:00:00:00", "05/Jun/2031:00:00:60", "05/Jun/2031 00:00:00"]
)
def test_what_is_no_stamp(stamp: str) -> None:
    assert stamp_seconds(np.frombuffer(stamp.encode(), np.uint8).reshape(1, -1))[0] == -1


def test_offsets() -> None:
    assert offset_seconds(b"+0530") == 19800
    assert offset_seconds(b"-0300") == -10800
    assert [offset_seconds(bad) for bad in (b"+1500", b"0100", b"+0160", b"+01:00")] == [None] * 4


def test_fractions_keep_the_order_of_the_log_within_each_second() -> None:
    second = np.array([7, 7, 8, 7, 8, 7])
    fraction = spread_within_second(second, seed=0)
    assert ((fraction >= 0) & (fraction < 1)).all()
    for value in (7, 8):
        assert (np.diff(fraction[second == value]) > 0).all()
    assert (spread_within_second(second, seed=0) == fraction).all()
    assert (spread_within_second(second, seed=1) != fraction).any()


def test_routes_are_folded_and_the_rare_ones_gathered() -> None:
    assert fold_path("/a/12/b/7?x=1") == "/a/{id}/b/{id}"
    paths = [f"/p{k}" for k in range(300)]
    codes, routes = gather(np.repeat(np.arange(300), np.arange(300, 0, -1)), paths)
    assert len(routes) == 200
    assert REST in routes
    assert np.count_nonzero(codes == routes.index(REST)) == sum(range(1, 102))


def _frame() -> dict[str, list[object]]:
    return {"at_s": [0, 1.5, 1.5], "cpu_s": [0.1, 0.2, 0.0], "wait_s": [0, 0, 0.5], "route": ["a", "b", "a"]}


@pytest.mark.parametrize("kind", ["csv", "csv.gz", "parquet"])
def test_tables(tmp_path: Path, kind: str) -> None:
    path = tmp_path / f"t.{kind}"
    text = b"at_s,cpu_s,wait_s,route\n0,0.1,0,a\n1.5,0.2,0,b\n1.5,0,0.5,a\n"
    if kind == "parquet":
        parquet.write_table(pa.table(_frame()), path)
    else:
        path.write_bytes(gzip.compress(text) if kind == "csv.gz" else text)
    trace = read_trace(path)
    assert trace.at_s.tolist() == [0, 1.5, 1.5]
    assert trace.cpu_s.tolist() == [0.1, 0.2, 0]
    assert trace.wait_s.tolist() == [0, 0, 0.5]
    assert trace.routes == ("a", "b")
    assert trace.demand.kind == "given"
    assert trace.span_s == 1.5


def test_a_table_with_iso_times(tmp_path: Path) -> None:
    path = tmp_path / "t.csv"
    path.write_text("time,cpu_s\n2031-06-05T09:30:00.250+01:00,1\n2031-06-05T08:30:01.500Z,1\n")
    trace = read_trace(path, time_zone="Europe/Lisbon")
    assert trace.at_s.tolist() == [0.25, 1.5]
    assert trace.start.isoformat() == "2031-06-05T09:30:00+01:00"
    assert trace.span_s == 60


def test_whole_second_times_are_spread(tmp_path: Path) -> None:
    path = tmp_path / "t.csv"
    path.write_text("time,cpu_s\n" + "2031-06-05T09:30:00Z,1\n" * 5)
    at_s = read_trace(path).at_s
    assert (np.diff(at_s) > 0).all()
    assert at_s[-1] < 1


def test_rows_of_another_length_are_skipped_and_other_columns_named(tmp_path: Path) -> None:
    path = tmp_path / "t.csv"
    path.write_text("at_s,cpu_s,cpu\n0,1,x\n1,1\n2,1,x\n")
    trace = read_trace(path)
    assert trace.at_s.tolist() == [0, 2]
    assert trace.source.skipped == 1
    assert trace.source.first_skipped[0].line == 3
    assert "column 'cpu' of t.csv is not used; did you mean 'cpu_s'?" in trace.source.notes


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("at_s,cpu_s\n0,1\n2,1\n1,1\n", r"at_s must not go back: row 3 has 1 s after 2 s \(1 such row\)"),
        (
            "at_s,cpu_s\n0,nan\n",
            r"cpu_s: row 1 has no number \(1 such row\); allowed: numbers from 0 to 1e\+06",
        ),
        ("at_s,cpu_s\n0,\n", r"cpu_s: row 1 has no number"),
        ("at_s,cpu_s\n0,1\n1,-2\n", r"cpu_s: row 2 has -2 "),
        ("at_s,cpu_s\n0,1\n1,much\n", r"line 3, column cpu_s: found 'much'; allowed: a number"),
        ("at_s\n0\n1\n", r"needs observed latencies"),
        ("cpu_s,wait_s\n0,1\n", r"there is no column at_s or time"),
        ("at_s,cpu_s\n", r"the table has no rows"),
        ("time,cpu_s\nnoon,1\n", r"line 2, column time: found 'noon'; allowed: an ISO 8601 time"),
        ("", r"the file is empty"),
        ("hello\nworld\n", r"neither a web server's log"),
    ],
)
def test_tables_that_cannot_be_used(tmp_path: Path, text: str, message: str) -> None:
    path = tmp_path / "t.csv"
    path.write_text(text)
    with pytest.raises(TraceError, match=message) as caught:
        read_trace(path)
    assert str(path) in str(caught.value) or "demand" in str(caught.value)


def test_files_that_cannot_be_read(tmp_path: Path) -> None:
    binary = tmp_path / "b.bin"
    binary.write_bytes(bytes(range(256)) * 20)
    for path, message in (
        (tmp_path / "no.log", "no such file"),
        (tmp_path, "directory"),
        (binary, "binary data"),
    ):
        with pytest.raises(TraceError, match=message):
            read_trace(path)


def test_a_log_without_request_times_says_so(tmp_path: Path) -> None:
    with pytest.raises(TraceError, match="needs observed latencies"):
        read_trace(_log(tmp_path, *[GOOD.replace(b" 0.250", b"")] * 2))


@pytest.mark.parametrize(
    ("values", "message"),
    [
        ({"at_s": []}, "there is no request"),
        ({"cpu_s": [1]}, "cpu_s: found 1 values; allowed: as many as at_s, 2"),
        ({"cpu_s": ["a", "b"]}, "not numbers"),
        ({"wait_s": [0, np.inf]}, "wait_s: row 2 has inf"),
        ({"span_s": 0.5}, "not before the last arrival"),
        ({"at_s": [0, 0]}, "span_s: found 0 s"),
        ({"start": "noon"}, "an ISO time"),
        ({"start": "2031-06-05", "time_zone": "Sands"}, "a time zone such as"),
    ],
)
def test_arrays_that_cannot_be_used(values: dict[str, object], message: str) -> None:
    with pytest.raises(TraceError, match=message):
        Trace.from_arrays(**{"at_s": [0, 1], "cpu_s": [1, 1], **values})


def test_a_trace_as_a_frame() -> None:
    frame = Trace.from_arrays(at_s=[0, 1], cpu_s=[1, 2], route=["x", "y"], bytes_out=[5, 6]).to_frame()
    assert list(frame.columns) == ["at_s", "cpu_s", "wait_s", "route", "bytes_out"]
    assert list(frame["route"]) == ["x", "y"]
