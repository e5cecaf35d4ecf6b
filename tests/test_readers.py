"""Every format that people have, each with its traps."""

from __future__ import annotations

import bz2
import gzip
import json
import lzma
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings, strategies as st
from pyarrow import csv as pa_csv, parquet as pq

from libramen import LibramenError, StudyError, Trace, TraceError, make_trace, read_trace, write_trace
from libramen.study.trace_table import TraceTable
from libramen.trace.formats import json_lines
from libramen.trace.formats.called import meant_by
from libramen.trace.options import FORMATS

FRONT = 'v-{who} - - [05/Jun/2031:09:{minute:02}:{second:02} +0100] "GET /a HTTP/1.1" 200 10'


def _lines(tails: list[str], *, combined: bool = True, step: int = 1) -> str:
    middle = ' "-" "agent"' if combined else ""
    front = [FRONT.format(who=k, minute=k * step // 60, second=k * step % 60) for k in range(len(tails))]
    return "".join(f"{one}{middle}{' ' + tail if tail else ''}\n" for one, tail in zip(front, tails, strict=True))


def _file(tmp_path: Path, text: str | bytes, name: str = "a.log") -> Path:
    path = tmp_path / name
    path.write_bytes(text.encode() if isinstance(text, str) else text)
    return path


def _latencies(tmp_path: Path, tails: list[str], **options: Any) -> list[float]:
    trace = read_trace(_file(tmp_path, _lines(tails)), **options)
    assert trace.source.skipped == 0
    return np.round(trace.latency_s[np.argsort(trace.latency_s)], 9).tolist()


# -- request times ---------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("tails", "latencies"),
    [
        (["0.250", "0.5", "1"], [0.25, 0.5, 1]),  # a decimal point: seconds
        (["250", "500", "43"], [0.043, 0.25, 0.5]),  # whole numbers: milliseconds
        (["250000", "500000", "43000"], [0.043, 0.25, 0.5]),  # large ones: microseconds
        (["0.300 0.250", "0.9 0.5", "2 0.043"], [0.043, 0.25, 0.5]),  # the second never exceeds the first: upstream
        (["0.250 0.300", "0.5 0.9", "0.043 2"], [0.043, 0.25, 0.5]),
        (["rt=0.3 uct=0.250", "rt=0.9 uct=0.5", "rt=2 uct=0.043"], [0.043, 0.25, 0.5]),  # upstream by its key
        (["0.3 0.250", "0.9 0.5", "0.043 -"], [0.043, 0.25, 0.5]),  # no upstream: the whole time
        (['"x" 0.250', '"x y" 0.5', '"" 0.043'], [0.043, 0.25, 0.5]),  # in any position
    ],
)
def test_request_times_are_found(tmp_path: Path, tails: list[str], latencies: list[float]) -> None:
    assert _latencies(tmp_path, tails) == latencies


def test_a_choice_is_told_and_can_be_made(tmp_path: Path) -> None:
    tails = ["0.3 0.250", "0.9 0.5"]
    trace = read_trace(_file(tmp_path, _lines(tails)))
    assert (
        "piece '11' of each line, in s ('10' could be too; latency_field and latency_unit choose)"
        in trace.source.notes[0]
    )
    assert _latencies(tmp_path, ["300", "900"], latency_unit="us") == [0.0003, 0.0009]
    assert _latencies(tmp_path, tails, latency_field=10) == [0.3, 0.9]
    with pytest.raises(TraceError, match="latency_field: found 12; allowed: 10, 11"):
        read_trace(tmp_path / "a.log", latency_field=12)


def test_common_logs(tmp_path: Path) -> None:
    """Without referer and agent; with a time behind it, and without."""
    trace = read_trace(_file(tmp_path, _lines(["0.25", "0.5"], combined=False)))
    assert trace.latency_s.tolist() == [0.25, 0.5]
    with pytest.raises(TraceError, match="needs observed latencies"):
        read_trace(_file(tmp_path, _lines(["", ""], combined=False)))


@pytest.mark.parametrize(
    ("description", "line"),
    [
        ('%h %l %u %t "%r" %>s %b %D', 'v - - [05/Jun/2031:09:30:07 +0100] "GET /a/7?x HTTP/1.1" 200 10 250000'),
        ("%t %T %s", "[05/Jun/2031:09:30:07 +0100] 0.250 200"),
        ("%{msec}t %U %{ms}T %B", "1938414607500 /a/7 250 10"),
        ('at %t "%{User-Agent}i" %{ms}T %U', 'at [05/Jun/2031:09:30:07 +0100] "an agent" 250 /a/7'),
    ],
)
def test_formats_described_by_directives(tmp_path: Path, description: str, line: str) -> None:
    trace = read_trace(_file(tmp_path, line + "\n" + "junk\n"), line_format=description)
    assert trace.latency_s.tolist() == [0.25]
    assert trace.routes in {("/a/{id}",), ("no request line",)}
    assert trace.source.skipped == 1
    assert 1938414606 < trace.start.timestamp() + trace.at_s[0] < 1938414609


def test_a_description_without_a_time_is_refused(tmp_path: Path) -> None:
    with pytest.raises(TraceError, match="has no time; allowed: %t"):
        read_trace(_file(tmp_path, "x\n"), line_format="%h %D")


# -- W3C extended logs -----------------------------------------------------------------------------

W3C = """#Version: 1.0
#Fields: date time cs-method cs-uri-stem sc-status time-taken
2031-06-05 08:30:07 GET /a/7 200 250
2031-06-05 08:30:08.500 GET /b 500 1000
#Fields: date time time-taken sc-bytes cs-uri-stem
2031-06-05 08:30:09 500 77 /a/8
nonsense
"""


def test_w3c_fields_may_change(tmp_path: Path) -> None:
    trace = read_trace(_file(tmp_path, W3C), within_second="none")
    assert trace.source.format == "w3c"
    assert trace.latency_s.tolist() == [0.25, 1.0, 0.5]
    assert trace.routes == ("/a/{id}", "/b")
    # Answers at 7, 8.5 and 9 s, so arrivals at 6.75, 7.5 and 8.5.
    assert np.round(trace.at_s, 6).tolist() == [6.75, 7.5, 8.5]
    assert trace.start.isoformat() == "2031-06-05T08:30:00+00:00"
    assert [(s.line, s.reason) for s in trace.source.first_skipped] == [
        (7, "not of this log's format (1 pieces for 5)")
    ]


def test_w3c_time_taken_in_seconds(tmp_path: Path) -> None:
    """The standard says seconds with a decimal point."""
    text = W3C.replace(" 250\n", " 0.25\n").replace(" 1000\n", " 1.0\n").replace(" 500 77", " 0.5 77")
    assert read_trace(_file(tmp_path, text)).latency_s.tolist() == [0.25, 1.0, 0.5]


# -- spans -----------------------------------------------------------------------------------------


def _span(span_id: str, start: float, end: float, **more: Any) -> dict[str, Any]:
    t0 = 1_938_414_600
    nano = {"startTimeUnixNano": str(int((t0 + start) * 1e9)), "endTimeUnixNano": int((t0 + end) * 1e9)}
    return {"traceId": "t", "spanId": span_id, "name": "op", "kind": 2, **nano, **more}


def _export(*spans: dict[str, Any]) -> str:
    return json.dumps({"resourceSpans": [{"scopeSpans": [{"spans": list(spans)}]}]})


def test_spans(tmp_path: Path) -> None:
    """A server span of 1 s with client spans over 0.2..0.5 and 0.4..0.6 (together 0.4 s): of the other 0.6 s, 50 % is CPU
    work, so it waits 0.4 + 0.3. An internal span is no request; a root span without a kind is."""
    route = {
        "attributes": [
            {"key": "http.route", "value": {"stringValue": "/a/{id}"}},
            {"key": "http.response.status_code", "value": {"intValue": "503"}},
        ]
    }
    lines = [
        _export(
            _span("a", 0, 1, parentSpanId="far", **route),
            _span("b", 0.2, 0.5, parentSpanId="a", kind="SPAN_KIND_CLIENT"),
            _span("c", 0.4, 0.6, parentSpanId="a", kind=3),
            _span("d", 0.1, 0.9, parentSpanId="a", kind=1),
        ),
        "not json",
        _export(_span("e", 2, 2.5, kind=0), _span("f", 3, 2)),
    ]
    trace = read_trace(_file(tmp_path, "\n".join(lines)), cpu_share=0.5, demand="observed")
    assert trace.source.format == "spans"
    assert np.round(trace.at_s, 6).tolist() == [0, 2]
    np.testing.assert_allclose(trace.cpu_s, [0.3, 0.25])
    np.testing.assert_allclose(trace.wait_s, [0.7, 0.25])
    assert trace.routes == ("/a/{id}", "op")
    assert trace.status.tolist() == [503, 200]
    assert trace.source.skipped == 2
    whole = read_trace(_file(tmp_path, json.dumps(json.loads(lines[0]), indent=1)), demand="observed")
    assert len(whole) == 1


def test_sampled_spans_are_multiplied_back(tmp_path: Path) -> None:
    """A threshold of 8 says that half of the traces were kept."""
    spans = [_span(str(k), k * 0.1, k * 0.1 + 0.05, traceState="ot=th:8") for k in range(1000)]
    trace = read_trace(_file(tmp_path, _export(*spans)), demand="observed")
    assert 1800 < len(trace) < 2200
    assert "the log shows 0.5 of the load" in trace.source.notes[-1]


# -- tables and counts -----------------------------------------------------------------------------


@pytest.mark.parametrize("suffix", [".csv", ".jsonl", ".parquet", ".arrow"])
@pytest.mark.parametrize("start", [None, "2031-06-05T09:00"])
def test_what_is_written_reads_back(tmp_path: Path, suffix: str, start: str | None) -> None:
    """Times as ISO 8601 have microseconds."""
    made = make_trace(span="10m", rate=3, start=start, bytes_out=100, routes={"/a": {}, "/b": {"share": 2}}, seed=3)
    write_trace(made, tmp_path / f"t{suffix}")
    back = read_trace(tmp_path / f"t{suffix}")
    np.testing.assert_allclose(back.at_s, made.at_s, atol=0 if start is None else 2e-6)
    assert back.span_s == made.span_s
    assert back.start == made.start
    np.testing.assert_array_equal(back.cpu_s, made.cpu_s)
    np.testing.assert_array_equal(back.wait_s, made.wait_s)
    assert back.routes == made.routes
    assert (back.route_codes == made.route_codes).all()


def test_columns_can_be_mapped(tmp_path: Path) -> None:
    path = _file(tmp_path, "when,duration,name\n0,0.5,/a\n1,0.25,/b\n", "t.csv")
    trace = read_trace(
        path, format="csv", columns={"at_s": "when", "latency_s": "duration", "route": "name"}, demand="observed"
    )
    assert trace.latency_s.tolist() == [0.5, 0.25]
    assert trace.routes == ("/a", "/b")
    with pytest.raises(TraceError, match="there is no column 'lenght'"):
        read_trace(path, format="csv", columns={"at_s": "when", "latency_s": "lenght"})
    with pytest.raises(TraceError, match="columns: found 'latency'; did you mean 'latency_s'"):
        read_trace(path, format="csv", columns={"latency": "duration"})


def test_objects_about_something_else_are_skipped_where_others_are_requests(tmp_path: Path) -> None:
    """The service has started, and somebody hung up: no request, and one without a latency."""
    told = {"time": "2031-06-05T09:30:00Z", "latency_s": 0.5}
    rows: list[dict[str, Any]] = [{"said": "started"}, told, {"time": told["time"]}, {}, told | {"time": "soon"}]
    path = _file(tmp_path, "".join(f"{json.dumps(row)}\n" for row in rows[:-1]))
    trace = read_trace(path, demand="observed")
    assert trace.latency_s.tolist() == [0.5]
    assert trace.source.skipped == 3
    with pytest.raises(TraceError, match="line 5, column time: found 'soon'"):
        read_trace(_file(tmp_path, "".join(f"{json.dumps(row)}\n" for row in rows)))
    with pytest.raises(TraceError, match="there is no column at_s or time; found: said"):
        read_trace(_file(tmp_path, f"{json.dumps(rows[0])}\n"))
    with pytest.raises(TraceError, match=r"this trace has none; column 'latency' of a\.log is not used; did you mean"):
        read_trace(_file(tmp_path, f"{json.dumps({'time': told['time'], 'latency': 1})}\n"))


_CELLS: dict[str, st.SearchStrategy[Any]] = {
    "latency_s": st.one_of(st.floats(0, 9), st.integers(0, 9), st.none(), st.just("0.25"), st.booleans()),
    "cpu_s": st.one_of(st.floats(0, 9), st.none()),
    "route": st.one_of(st.text(max_size=3), st.integers(-(2**70), 2**70), st.none(), st.floats(0, 9)),
    "visitor": st.one_of(st.integers(0, 9), st.sampled_from(["a", "2031-06-05 10:00:00"])),
    "status": st.sampled_from([200, 504, None, "200"]),
    "in_é_s": st.floats(0, 9),
    "said": st.recursive(st.one_of(st.none(), st.text(max_size=2)), lambda of: st.lists(of, max_size=2), max_leaves=3),
}
_ROWS = st.one_of(
    *(
        st.lists(st.fixed_dictionaries({key: _CELLS[key] for key in keys}), max_size=6)
        for keys in (("cpu_s", "route"), ("latency_s", "route", "said"), ("cpu_s", "visitor", "status", "said"))
    ),
    *(
        st.lists(st.fixed_dictionaries({"cpu_s": st.floats(0, 9), "area": of_one_kind}), min_size=1, max_size=6)
        for of_one_kind in (st.text(max_size=3), st.floats(0, 9), st.integers(0, 2**70), st.booleans())
    ),
    st.lists(st.fixed_dictionaries({}, optional=_CELLS), max_size=4),
)
_ODD = ["", "[1]", '{"at_s": 1}{"at_s": 2}', '{"at_s":\n3}', '{"at_s": 1, "at_s": 2}', '{"said": "no time"}']


@settings(max_examples=max(200, settings().max_examples))
@given(_ROWS, st.lists(st.sampled_from(_ODD), max_size=1), st.booleans())
def test_rows_that_are_read_at_once_are_those_that_are_read_one_by_one(
    rows: list[dict[str, Any]], odd: list[str], ascii_only: bool
) -> None:
    """Each block is read at once where nothing is odd in it; whatever is odd, the requests, or what is refused, are the same."""
    lines = [json.dumps({"at_s": k / 2} | row, ensure_ascii=ascii_only) for k, row in enumerate(rows)]
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.jsonl"
        path.write_bytes("".join(f"{line}\n" for line in lines + odd).encode("utf-8", "surrogatepass"))
        found = []
        for how in ("at once", "one by one"):
            with pytest.MonkeyPatch.context() as patch:
                if how == "one by one":
                    patch.setattr(json_lines, "_at_once", lambda *_: None)
                try:
                    found.append(read_trace(path, format="json_lines", visitors=True).to_frame().to_csv())
                except TraceError as error:
                    found.append(str(error))
        assert found[0] == found[1]


@pytest.mark.parametrize(("unit", "per_s"), [("s", 1), ("ms", 10**3), ("us", 10**6), ("ns", 10**9)])
@pytest.mark.parametrize("suffix", [".jsonl", ".csv", ".parquet"])
def test_times_since_1970_are_of_the_unit_that_they_can_be_of(
    tmp_path: Path, unit: str, per_s: int, suffix: str
) -> None:
    """A day apart, from 5 June 2031, 9:30 on; durations in the unit that their column names."""
    stamps = [1938418200 * per_s, (1938418200 + 86400) * per_s]
    table = pa.table({"ts": stamps, f"took_{unit}": [per_s // 2 or 0.5, 2 * per_s]})
    path = tmp_path / f"a{suffix}"
    if suffix == ".parquet":
        pq.write_table(table, path)
    elif suffix == ".csv":
        pa_csv.write_csv(table, path)
    else:
        path.write_text("".join(f"{json.dumps(row)}\n" for row in table.to_pylist()))
    trace = read_trace(
        path, columns={"time": "ts", "latency_s": f"took_{unit}"}, within_second="none", demand="observed"
    )
    assert trace.start is not None
    assert trace.start.isoformat() == "2031-06-05T09:30:00+00:00"
    assert np.diff(trace.at_s).round(3).tolist() == [86400]
    assert trace.latency_s.tolist() == pytest.approx([0.5, 2.0])
    assert "times are numbers since 1970, in UTC" in trace.source.notes
    assert (f"latency_s is column 'took_{unit}', in {unit}" in trace.source.notes) is (unit != "s")


def test_columns_that_are_called_otherwise(tmp_path: Path) -> None:
    """What they may be is said where it is needed; a unit is told, or that of a name; of a number that is no time the line."""
    rows = [{"Timestamp": "2031-06-05T09:30:00Z", "responseTime": 120, "url": "/a", "status_code": 200}]
    path = _file(tmp_path, "".join(f"{json.dumps(row)}\n" for row in rows), "a.jsonl")
    named = 'time = "Timestamp", latency_s = "responseTime", route = "url", status = "status_code"'
    with pytest.raises(TraceError, match=f"allowed: a mapping such as columns = {{ {named} }}"):
        read_trace(path)
    columns = {"time": "Timestamp", "latency_s": "responseTime"}
    assert read_trace(path, columns=columns, demand="observed").latency_s.tolist() == [120]
    assert read_trace(path, columns=columns, latency_unit="ms", demand="observed").latency_s.tolist() == [0.12]
    with pytest.raises(TraceError, match=r"latency_unit has no effect: .* has no column latency_s"):
        read_trace(_file(tmp_path, "at_s,cpu_s\n0,1\n9,1\n", "d.csv"), latency_unit="ms")
    camel = _file(tmp_path, '{"time": "2031-06-05T09:30:00Z", "latencyMs": 120}\n', "c.jsonl")
    assert read_trace(camel, columns={"latency_s": "latencyMs"}, demand="observed").latency_s.tolist() == [0.12]
    for name, ours in (
        ("duration_ms", "latency_s"),
        ("took", "latency_s"),
        ("ts", "time"),
        ("items", None),
        ("ms", None),
    ):
        assert meant_by(name) == ours
    with pytest.raises(
        TraceError, match=r"line 2, column time: found .12.; allowed: an ISO 8601 time .* or one since 1970"
    ):
        read_trace(_file(tmp_path, "time,latency_s\n12,1\n", "a.csv"))
    path = _file(tmp_path, '"Timestamp",Elapsed (ms),Page\n2031-06-05T09:30:00Z,120,/a\n', "b.csv")
    with pytest.raises(
        TraceError, match=r'such as columns = { time = "Timestamp", latency_s = "Elapsed \(ms\)", route = "Page" }'
    ):
        read_trace(path)
    columns = {"time": "Timestamp", "latency_s": "Elapsed (ms)"}
    assert read_trace(path, columns=columns, demand="observed").latency_s.tolist() == [0.12]
    counts = "time,requests,p95_ms\n2031-06-05T09:00:00Z,300,250\n2031-06-05T09:01:00Z,300,250\n"
    told = read_trace(_file(tmp_path, counts, "c.csv"), columns={"p95_s": "p95_ms"}, demand="observed")
    assert set(told.latency_s.tolist()) == {0.25}


def test_marks_of_other_countries_between_columns(tmp_path: Path) -> None:
    for mark in ";\t":
        text = "time,latency_s,route\n2031-06-05T09:30:00Z,0.5,/a\n2031-06-05T09:30:01Z,0.25,'/b,c'\n".replace(
            ",", mark
        )
        trace = read_trace(_file(tmp_path, text.replace(f"b{mark}c", "b,c"), "a.csv"), demand="observed")
        assert trace.latency_s.tolist() == [0.5, 0.25]
        assert trace.routes == ("'/b,c'", "/a")


def test_a_list_of_objects(tmp_path: Path) -> None:
    """As one document; what is wrong in it has the number of its object."""
    rows = [{"at_s": k, "latency_s": 0.5, "route": "/é"} for k in range(3)]
    trace = read_trace(_file(tmp_path, json.dumps(rows, indent=1), "a.json"), demand="observed")
    assert trace.at_s.tolist() == [0, 1, 2]
    assert trace.routes == ("/é",)
    for text, said in (
        (json.dumps(rows)[:-1], "this is not JSON"),
        (json.dumps([*rows, {"at_s": "x", "latency_s": 1}]), "line 4, column at_s: found 'x'"),
        (json.dumps(rows) + " " * (32 << 20), "found a list of more than 32 MiB; allowed: an object a line"),
    ):
        with pytest.raises(TraceError, match=said):
            read_trace(_file(tmp_path, text, "b.json"))


@pytest.mark.parametrize("odd", ["", '{"said": "stopped"}\n'])  # read at once, or line by line
def test_what_stands_within_others_and_routes_that_are_paths(tmp_path: Path, odd: str) -> None:
    rows = [{"ts": 1938418200 + k, "took": 0.5, "asked": {"path": f"/fares/{k}?q=1", "by": "a"}} for k in range(3)]
    path = _file(tmp_path, "".join(f"{json.dumps(row)}\n" for row in rows) + odd, "a.jsonl")
    named = 'time = "ts", latency_s = "took", route = "asked.path"'
    with pytest.raises(
        TraceError, match=r"found: ts, took, asked\.path, asked\.by.*; allowed: .*" + named.replace(".", r"\.")
    ):
        read_trace(path)
    columns = {"time": "ts", "latency_s": "took", "route": "asked.path"}
    trace = read_trace(path, columns=columns, demand="observed")
    assert trace.routes == ("/fares/{id}",)
    assert trace.source.skipped == len(odd.splitlines())
    assert "routes are the paths in 'asked.path', with {id} for numbers and the like" in trace.source.notes
    with pytest.raises(TraceError, match=r"there is no column 'asked\.page'"):
        read_trace(path, columns=columns | {"route": "asked.page"})
    rows = [row | {"asked.path": "/by/name", "a": {"b": {"c": 200}, "d": 1}} for row in rows]
    path.write_text("".join(f"{json.dumps(row)}\n" for row in rows) + odd)
    deep = read_trace(path, columns=columns | {"status": "a.b.c", "bytes_out": "a.d"}, demand="observed")
    assert deep.routes == ("/by/name",)
    assert deep.status.tolist() == [200] * 3
    assert deep.bytes_out.tolist() == [1] * 3


def test_counts_become_requests(tmp_path: Path) -> None:
    """Two minutes of 300 and 600 requests, median 100 ms and p95 400 ms: log-normal in between."""
    path = _file(
        tmp_path,
        "time,requests,p50_s,p95_s\n2031-06-05T09:00Z,300,0.1,0.4\n2031-06-05T09:01Z,600,0.1,0.4\n".replace(
            "00Z", "00:00Z"
        ).replace("01Z", "01:00Z"),
        "c.csv",
    )
    trace = read_trace(path, demand="observed")
    assert trace.source.format == "counts"
    assert len(trace) == 900
    assert 280 < np.count_nonzero(trace.at_s < 60) < 320
    assert np.median(trace.latency_s) == pytest.approx(0.1, rel=0.1)
    assert np.quantile(trace.latency_s, 0.95) == pytest.approx(0.4, rel=0.15)
    even = read_trace(path, counts="even", demand="observed")
    assert np.diff(even.at_s[:300]) == pytest.approx(0.2)
    with pytest.raises(TraceError, match="at least two different times"):
        read_trace(_file(tmp_path, "at_s,requests\n0,5\n", "d.csv"))


def test_a_trace_to_counts_and_back(tmp_path: Path) -> None:
    made = make_trace(span="1h", rate=2, seed=1)
    write_trace(made, tmp_path / "c.csv", counts_every=300.0)
    assert read_requests_count(tmp_path / "c.csv") == len(made)


def read_requests_count(path: Path) -> int:
    from libramen.trace.options import ReadOptions
    from libramen.trace.read import read_requests

    return len(read_requests(path, ReadOptions())[0])


# -- files -----------------------------------------------------------------------------------------


@pytest.mark.parametrize("packing", ["gzip", "bzip2", "xz", "zstandard"])
def test_packed_files_are_known_by_content(tmp_path: Path, packing: str) -> None:
    text = _lines(["0.250"] * 3).encode()
    packed = {
        "gzip": gzip.compress,
        "bzip2": bz2.compress,
        "xz": lzma.compress,
        "zstandard": lambda data: pa.Codec("zstd").compress(data, asbytes=True),
    }[packing](text)
    assert len(read_trace(_file(tmp_path, packed, "a.dat"))) == 3


def test_patterns_standard_input_and_files_that_overlap(tmp_path: Path) -> None:
    """Two rotations share two lines; equal lines within one file are real."""
    lines = _lines(["0.250"] * 6).splitlines(keepends=True)
    _file(tmp_path, "".join([*lines[:4], lines[3]]), "a.log.1")
    _file(tmp_path, "".join(lines[2:]), "a.log.2")
    trace = read_trace(tmp_path / "a.log.*")
    assert len(trace) == 7
    assert "2 lines stand in two files, and count once" in trace.source.notes
    with pytest.raises(TraceError, match="no file matches this pattern"):
        read_trace(tmp_path / "b*")
    code = "from libramen import read_trace; print(len(read_trace('-')))"
    done = subprocess.run(
        [sys.executable, "-c", code], input="".join(lines), capture_output=True, text=True, check=True
    )
    assert done.stdout == "6\n"


def test_leaving_out_counting_and_multiplying_back(tmp_path: Path) -> None:
    text = "".join(
        f'v - - [05/Jun/2031:09:{k % 60:02}:00 +0100] "GET {path} HTTP/1.1" {status} 10 "-" "{agent}" {took}\n'
        for k, (path, status, agent, took) in enumerate(
            [("/a", 200, "x", 0.1)] * 40 + [("/health", 200, "x", 0.1)] * 5 + [("/a", 499, "x", 0.1)] * 4
            + [("/a", 200, "A-Bot/1", 0.1)] * 3 + [("/a", 200, "x", 90.0)] * 2
        )
    )  # fmt: skip
    left = [{"route": "/health*"}, {"status": "4??"}, {"agent": "*bot*"}, {"longer": "60s"}]
    from libramen.trace.leave_out import LeaveOut

    path = _file(tmp_path, text)
    trace = read_trace(path, leave_out=[LeaveOut(**kind) for kind in left], demand="observed")
    assert len(trace) == 40
    assert [note for note in trace.source.notes if "left out" in note] == [
        "5 requests are left out: route '/health*'; their answers were 9.2 % of all bytes sent, which no bill will have as egress",
        "4 requests are left out: status '4??'; their answers were 8.1 % of all bytes sent, which no bill will have as egress",
        "3 requests are left out: agent '*bot*'; their answers were 6.6 % of all bytes sent, which no bill will have as egress",
        "2 requests are left out: longer 60.0; their answers were 4.7 % of all bytes sent, which no bill will have as egress",
    ]
    assert any("sorted by time" in note for note in trace.source.notes) is False
    more = read_trace(path, sampled=0.5, servers=(2, 5), demand="observed")
    assert len(more) == 270
    assert "the log shows 0.2 of the load: its requests are multiplied by 5" in more.source.notes


def test_an_hour_without_a_line_is_reported(tmp_path: Path) -> None:
    at = [k * 60 for k in range(240) if not 60 <= k < 120]
    text = "time,latency_s\n" + "".join(f"2031-06-05T{9 + s // 3600:02}:{s // 60 % 60:02}:00Z,0.1\n" for s in at)
    notes = read_trace(_file(tmp_path, text, "t.csv")).source.notes
    assert any("no line for 1 h 1 min from 2031-06-05 09:59:00, where some 60 would be expected" in n for n in notes)


def test_stamps_and_seconds_can_be_told(tmp_path: Path) -> None:
    path = _file(tmp_path, _lines(["0.250", "0.5"]))
    arrival = read_trace(path, stamp="arrival", within_second="none")
    assert arrival.at_s.tolist() == [0, 1]
    even = read_trace(path, stamp="arrival", within_second="even")
    assert even.at_s.tolist() == [0.5, 1.5]
    order = _file(tmp_path, "".join(reversed(_lines(["0.1"] * 3).splitlines(keepends=True))), "r.log")
    assert "2 lines stand before earlier ones, and the lines are sorted by time" in read_trace(order).source.notes


def test_years_turn_and_clocks_change(tmp_path: Path) -> None:
    """A second before and after New Year, and 01:30 twice in the night to 2031-10-26 in Lisbon: an hour apart."""
    year = (
        _lines(["0.1"] * 2)
        .replace("05/Jun/2031:09:00:00", "31/Dec/2031:23:59:59")
        .replace("05/Jun/2031:09:00:01", "01/Jan/2032:00:00:00")
    )
    assert 0 < np.diff(read_trace(_file(tmp_path, year)).at_s)[0] < 2
    autumn = (
        _lines(["0.1"] * 2)
        .replace("05/Jun/2031:09:00:00 +0100", "26/Oct/2031:01:30:00 +0100")
        .replace("05/Jun/2031:09:00:01 +0100", "26/Oct/2031:01:30:00 +0000")
    )
    assert 3599 < np.diff(read_trace(_file(tmp_path, autumn)).at_s)[0] < 3601
    leap = _lines(["0.1"] * 2).replace(":09:00:01", ":23:59:60")
    assert "is not a time stamp" in read_trace(_file(tmp_path, leap)).source.first_skipped[0].reason


def test_the_demand_of_each_route_is_reported(tmp_path: Path) -> None:
    trace = read_trace(_file(tmp_path, _lines(["0.1"] * 50)))
    (route,) = trace.demand.routes
    assert (route.route, route.requests, route.samples, route.minutes) == ("/a", 50, 50, "a quarter")
    assert trace.demand.to_frame()["observed_over_work"].tolist() == [1.0]


def test_routes_can_be_told(tmp_path: Path) -> None:
    text = _lines(["0.1"] * 2).replace("/a ", "/tickets/7/x ", 1)
    assert read_trace(_file(tmp_path, text), routes=[("/tickets/*", "tickets")]).routes == ("/a", "tickets")


@pytest.mark.parametrize(
    ("options", "message"),
    [
        ({"fromat": "csv"}, "unknown option 'fromat'; did you mean 'format'"),
        ({"format": "xml"}, "format: found 'xml'; allowed: 'common', 'combined'"),
        ({"sampled": 0}, r"\[sampled\] share: found 0"),
        ({"servers": (5, 2)}, "servers: found"),
        ({"cpu_share": {"/b": 0.5}}, "cpu_share: there is no route '/b'"),
        ({"latency_unit": "min"}, "latency_unit: found 'min'"),
        ({"demand": "guessed"}, "demand: found 'guessed'"),
        ({"time_zone": "Sands"}, "time_zone: found 'Sands'"),
    ],
)
def test_options_that_are_not_allowed(tmp_path: Path, options: dict[str, Any], message: str) -> None:
    with pytest.raises(TraceError, match=message):
        read_trace(_file(tmp_path, _lines(["0.1"] * 3)), **options)


SEEDS = [
    _lines(["0.250", "0.5"]).encode(),
    W3C.encode(),
    _export(_span("a", 0, 1), _span("b", 1, 2)).encode(),
    b"at_s,cpu_s,route\n0,1,a\n1,2,b\n",
    b"time,requests,p50_s\n2031-06-05T09:00:00Z,3,0.1\n2031-06-05T09:01:00Z,3,0.1\n",
    b'{"at_s": 0, "cpu_s": 1}\n{"at_s": 1, "cpu_s": 2}\n',
    gzip.compress(_lines(["0.250", "0.5"]).encode()),
]


@given(
    st.sampled_from(SEEDS),
    st.lists(st.tuples(st.floats(0, 1), st.integers(0, 4), st.binary(max_size=4)), max_size=6),
    st.sampled_from([None, *FORMATS]),
)
def test_whatever_comes_is_a_trace_or_one_sentence(
    tmp_path_factory: pytest.TempPathFactory, seed: bytes, edits: list[tuple[float, int, bytes]], kind: str | None
) -> None:
    data = seed
    for where, drop, new in edits:
        at = int(where * len(data))
        data = data[:at] + new + data[at + drop :]
    path = tmp_path_factory.mktemp("fuzz") / "f"
    path.write_bytes(data)
    found = _read_or_sentence(path, kind)
    if isinstance(found, str):
        assert found
        assert "\n" not in found
    else:
        assert (np.diff(found.at_s) >= 0).all()


def _read_or_sentence(path: Path, kind: str | None) -> Trace | str:
    try:
        return read_trace(path, format=kind)
    except LibramenError as error:
        return str(error)


def test_a_megabyte_line_a_nul_and_mixed_encodings(tmp_path: Path) -> None:
    good = _lines(["0.250"] * 3).encode()
    nasty = b"x" * 3_000_000 + b"\n" + good.replace(b"agent", b"a\0gent\xff\xfe", 1) + "ü".encode("latin-1") + b"\n"
    trace = read_trace(_file(tmp_path, good + nasty))
    assert len(trace) == 6
    assert trace.source.skipped == 2


def test_blocks_and_their_borders_change_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Read in blocks of 100 bytes and at once: the same requests, and the same line numbers for what is skipped."""
    from libramen.trace import lines

    text = (
        _lines([f"0.{k:03}" for k in range(1, 400)])
        .replace("v-77 -", "junk", 1)
        .replace('"agent" 0.200', '"a \\"b" 0.200')
    )
    whole = read_trace(_file(tmp_path, text))
    monkeypatch.setattr(lines, "_BLOCK_SIZE", 100)
    pieces = read_trace(tmp_path / "a.log")
    assert whole.at_s.tobytes() == pieces.at_s.tobytes()
    assert whole.latency_s.tobytes() == pieces.latency_s.tobytes()
    assert len(whole) == 398
    assert whole.source.first_skipped == pieces.source.first_skipped
    assert [skipped.line for skipped in whole.source.first_skipped] == [78]


def test_progress_of_reading(tmp_path: Path) -> None:
    shares: list[float] = []
    read_trace(_file(tmp_path, _lines(["0.1"] * 500)), progress=shares.append)
    assert shares == sorted(shares)
    assert shares[-1] == 1


def test_cpu_share_by_route(tmp_path: Path) -> None:
    text = "at_s,latency_s,route\n0,1,/a\n1,1,/b\n2,1,/c\n"
    trace = read_trace(
        _file(tmp_path, text, "t.csv"), demand="observed", cpu_share={"/a": 1.0, "*": 0.25}, recorded_speed=2
    )
    assert trace.cpu_s.tolist() == [2, 0.5, 0.5]
    assert trace.wait_s.tolist() == [0, 0.75, 0.75]


def test_a_demo_is_the_same_bytes_every_time(tmp_path: Path) -> None:
    from libramen.demo.write import write_demo

    one, other = (write_demo(tmp_path / name, study="landing").parent for name in ("one", "other"))
    names = sorted(path.name for path in one.iterdir())
    assert names == sorted(path.name for path in other.iterdir())
    assert len(names) > 1
    for name in names:
        assert (one / name).read_bytes() == (other / name).read_bytes()


@given(st.lists(st.tuples(st.integers(-5, 25), st.integers(0, 12)), max_size=8))
def test_waiting_in_spans_is_what_their_clients_cover_together(intervals: list[tuple[int, int]]) -> None:
    from libramen.trace.formats.spans import _covered

    clients = [(begin, begin + length) for begin, length in intervals]
    covered = sum(any(begin <= t < end for begin, end in clients) for t in range(20))
    assert _covered(clients, 0, 20) == covered


@given(st.lists(st.tuples(st.integers(0, 2), st.integers(0, 5)), min_size=1, max_size=40))
def test_doubled_lines_are_as_many_as_one_file_has(rows: list[tuple[int, int]]) -> None:
    """Of equal lines as many stay as the file has that has most of them."""
    from libramen.trace.doubles import without_doubles
    from libramen.trace.lines import SkippedLines
    from libramen.trace.raw_requests import RawRequests

    file, at = np.array([row[0] for row in rows], np.int16), np.array([float(row[1]) for row in rows])
    found = RawRequests("combined", ("a", "b", "c"), at, 0, "answer", True, SkippedLines(), len(rows), file=file)
    kept = without_doubles(found)
    for value in range(6):
        most = max(np.count_nonzero((at == value) & (file == k)) for k in range(3))
        assert np.count_nonzero(kept.at_s == value) == most


@given(st.lists(st.floats(0, 30), min_size=2, max_size=20), st.booleans(), st.integers(0, 99))
def test_counts_conserve_requests_and_intervals(requests: list[float], evenly: bool, seed: int) -> None:
    from pathlib import Path

    from libramen.trace.counts import spread

    starts = np.arange(len(requests)) * 60.0
    at_s, row, length_s = spread(Path("x"), starts, np.array(requests), evenly=evenly, seed=seed)
    assert length_s == 60
    counts = np.bincount(row, minlength=len(requests))
    assert (np.abs(counts - requests) < 1).all()
    assert ((at_s >= starts[row]) & (at_s < starts[row] + 60)).all()


@pytest.mark.parametrize("text", [b"a\rb,at_s\n1,2\n", b'"at_s","x\ny"\n1,2\n2,1\n1,1\n', b'"at\ns",cpu_s\n1,1\n'])
def test_odd_headers_get_one_line(tmp_path: Path, text: bytes) -> None:
    """Found by fuzzing: line ends within a header."""
    with pytest.raises(TraceError) as caught:
        read_trace(_file(tmp_path, text, "t.csv"), format="csv")
    assert "\n" not in str(caught.value)


def test_logs_without_request_times_are_told_their_work(tmp_path: Path) -> None:
    """All that is known is when requests came."""
    path = _file(tmp_path, _lines([""] * 3000))
    with pytest.raises(TraceError, match="and this trace has none; allowed: work, such as"):
        read_trace(path)
    trace = read_trace(path, work={"p50": "80ms", "p95": "400ms"})
    work = trace.cpu_s + trace.wait_s
    assert np.median(work) == pytest.approx(0.08, rel=0.1)
    np.testing.assert_allclose(trace.cpu_s, 0.4 * work)
    assert trace.latency_s is None
    assert "work is drawn for each request: 80 ms (p95 400 ms)" in trace.source.notes
    assert read_trace(_file(tmp_path, "at_s\n0\n1\n", "a.csv"), work="1s").cpu_s.tolist() == [0.4, 0.4]
    for known, why in (
        ("at_s,cpu_s\n0,1\n9,1\n", "has work of its own"),
        ("at_s,latency_s\n0,1\n9,1\n", "has latencies of its own"),
    ):
        with pytest.raises(TraceError, match=f"work has no effect: .* {why}"):
            read_trace(_file(tmp_path, known, "b.csv"), work="1s")
    for key in ("recorded_on", "cpu_use"):
        with pytest.raises(StudyError, match=f"work and {key} are both there; allowed: one of them"):
            TraceTable(files="a.log", work="1s", **{key: "x"})


def test_counts_without_latencies_are_told_their_work(tmp_path: Path) -> None:
    """Half of the requests take 80 ms, one in twenty 400 ms; 40 % of that is CPU work unless told."""
    rows = "".join(f"2031-06-05T09:{minute:02}:00Z,400\n" for minute in range(30))
    path = _file(tmp_path, "time,requests\n" + rows, "c.csv")
    trace = read_trace(path, work={"p50": "80ms", "p95": "400ms"}, cpu_share=0.25)
    work = trace.cpu_s + trace.wait_s
    assert np.median(work) == pytest.approx(0.08, rel=0.05)
    assert np.quantile(work, 0.95) == pytest.approx(0.4, rel=0.05)
    np.testing.assert_allclose(trace.cpu_s, 0.25 * work)
    assert (trace.latency_s, trace.demand.kind, trace.span_s) == (None, "given", 1800)
    with pytest.raises(TraceError, match="demand = 'quiet' has no effect beside work"):
        read_trace(path, work="1s", demand="quiet")
    told = _file(tmp_path, "time,requests,p50_s\n2031-06-05T09:00:00Z,3,0.1\n2031-06-05T09:01:00Z,3,0.1\n", "d.csv")
    with pytest.raises(TraceError, match=r"work has no effect: .* has latencies of its own"):
        read_trace(told, work="1s")
    assert any("p50_s only: every request takes just that" in note for note in read_trace(told).source.notes)


def test_counts_begin_and_end_with_their_intervals(tmp_path: Path) -> None:
    """Nobody came in the first two minutes and the last: the trace covers them all the same."""
    rows = "".join(f"2031-06-05T09:{minute:02}:00Z,{9 * (2 <= minute < 5)},0.1\n" for minute in range(6))
    trace = read_trace(_file(tmp_path, "time,requests,p50_s\n" + rows, "c.csv"), demand="observed")
    assert (trace.span_s, f"{trace.start:%H:%M:%S}") == (360, "09:00:00")
    assert trace.at_s[0] >= 120


def test_health_checks_and_robots_are_pointed_out(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    from libramen.cli import run

    odd = {0: ("/healthz", "probe"), 1: ("/a", "Harbour-Bot/1.0")}
    lines = [
        FRONT.format(who=k, minute=k // 60, second=k % 60).replace("/a", odd.get(k % 5, ("/a", ""))[0])
        + f' "-" "{odd.get(k % 5, ("", "x"))[1]}" 0.1\n'
        for k in range(100)
    ]
    path = _file(tmp_path, "".join(lines))
    assert run(["trace", "inspect", str(path)]) == 0
    said = capsys.readouterr().out
    assert "20 requests (20.0 %) ask for '/healthz': health checks?" in said
    assert 'leave_out = [{ route = "/healthz" }]' in said
    assert 'leave_out = [{ agent = "*bot*" }, { agent = "*probe*" }]' in said
    assert (
        run(["trace", "inspect", str(path), "--set", 'leave_out = [{ route = "/healthz" }, { agent = "*bot*" }]']) == 0
    )
    assert "60 requests over 2 min" in capsys.readouterr().out
