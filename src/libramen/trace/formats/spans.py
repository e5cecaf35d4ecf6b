"""OpenTelemetry spans as OTLP JSON: one export request a line, or one document.

Root and server spans become requests. What their child client spans cover is waiting; the rest of
the span is work, of which `cpu_share` is CPU work.
"""

from __future__ import annotations

import json
from array import array
from collections.abc import Iterator, Mapping
from typing import Any, ClassVar, Final

import numpy as np

from libramen.base.errors import TraceError
from libramen.base.fields import nearest
from libramen.trace.formats.reader import Head, Reading
from libramen.trace.lines import MOST_BYTES, SkippedLines, blocks_of, refuse_garbage
from libramen.trace.raw_requests import RawRequests
from libramen.trace.sources import Opened

_SERVER, _CLIENT = 2, 3
_KINDS: Final = {"SPAN_KIND_SERVER": _SERVER, "SPAN_KIND_CLIENT": _CLIENT}
_THRESHOLD_BITS: Final = 56
_CALLEES: Final = ("peer.service", "db.system.name", "db.system", "server.address", "net.peer.name")
"""Attributes of a client span that say what it called, the first that is there counts (OpenTelemetry semantic
conventions)."""


class Spans:
    """What is kept of the spans of a file: of a request a row, of a call its caller, its times and what it called.

    Spans themselves would take several times the memory.
    """

    def __init__(self) -> None:
        self._rows: dict[str, array[Any]] = {
            name: array(code)
            for name, code in (("start_ns", "q"), ("end_ns", "q"), ("status", "i"), ("bytes_out", "d"),
                               ("probability", "d"), ("route", "i"))
        }  # fmt: skip
        self._keys: list[str] = []
        self._routes: dict[str, int] = {}
        self._calls: dict[str, list[tuple[int, int, str]]] = {}  # by the key of the caller

    def __len__(self) -> int:
        return len(self._keys)

    def add(self, span: dict[str, Any]) -> str:
        """Keep what is needed of a span; returns why it cannot be a request, else nothing."""
        kind, parent, times = _kind(span), span.get("parentSpanId"), _times(span)
        if kind == _CLIENT:
            if parent and times is not None:
                self._calls.setdefault(_key(span, "parentSpanId"), []).append((*times, _callee(_attributes(span))))
            return ""
        if parent and kind != _SERVER:
            return ""
        if times is None:
            return "a span without start and end, or with an end before its start"
        return self._add_request(span, *times)

    def _add_request(self, span: dict[str, Any], start_ns: int, end_ns: int) -> str:
        of = _attributes(span)
        try:
            status = int(of.get("http.response.status_code") or of.get("http.status_code") or 0)
            size = float(of.get("http.response.body.size") or of.get("http.response_content_length") or 0)
            probability = _probability(span)
        except (TypeError, ValueError, OverflowError):
            return "a status, a size or a sampling threshold that is not a number"
        if not (0 <= status <= 999 and 0 <= size <= 1e15 and 1e-6 <= probability <= 1):
            return "a status, a size or a sampling threshold that cannot be"
        failed = isinstance(span.get("status"), dict) and span["status"].get("code") in (2, "STATUS_CODE_ERROR")
        route = str(of.get("http.route") or span.get("name") or "unnamed")
        code = self._routes.setdefault(route, len(self._routes))
        row = (start_ns, end_ns, status or (500 if failed else 200), size, probability, code)
        for column, value in zip(self._rows.values(), row, strict=True):
            column.append(value)
        self._keys.append(_key(span, "spanId"))
        return ""

    def columns(self) -> dict[str, np.ndarray]:
        """The requests in order of start."""
        found = {name: np.array(column) for name, column in self._rows.items()}
        order = np.argsort(found["start_ns"], kind="stable")
        self._keys = [self._keys[at] for at in order.tolist()]
        return {name: column[order] for name, column in found.items()}

    @property
    def routes(self) -> list[str]:
        """The routes, by code."""
        return list(self._routes)

    def waited(self, columns: dict[str, np.ndarray]) -> tuple[np.ndarray, dict[str, np.ndarray]]:
        """For how long the calls of each request cover it, all of them and those of each callee [s]."""
        all_s, in_s = np.zeros(len(self)), dict[str, np.ndarray]()
        for at, key in enumerate(self._keys):
            calls = self._calls.get(key)
            if calls is None:
                continue
            start_ns, end_ns = int(columns["start_ns"][at]), int(columns["end_ns"][at])
            all_s[at] = _covered([call[:2] for call in calls], start_ns, end_ns) / 1e9
            for name in dict.fromkeys(call[2] for call in calls if call[2]):
                mine = [call[:2] for call in calls if call[2] == name]
                in_s.setdefault(name, np.zeros(len(self)))[at] = _covered(mine, start_ns, end_ns) / 1e9
        return all_s, in_s


class OtlpSpans:
    """Exports of spans; see `reader.Reader`."""

    formats: ClassVar[dict[str, tuple[str, ...]]] = {"spans": ("callees",)}
    merges: ClassVar[bool] = False

    def recognise(self, head: Head) -> str | None:
        """Whether the file begins like an export of spans."""
        return "spans" if head.data.lstrip()[:1] == b"{" and b'"resourceSpans"' in head.data else None

    def read(self, kind: str, opened: Opened, head: Head, reading: Reading) -> RawRequests:  # noqa: ARG002
        """Read all export requests of a file."""
        found = read_spans(opened, reading.skipped)
        columns = found.columns()
        wait_s, by_name = found.waited(columns)
        in_s, said = _in_services(by_name, reading.options.callees)
        base = int(columns["start_ns"][0] // 1_000_000_000)
        notes = ["root and server spans are the requests; what their child client spans cover is waiting", *said]
        share = float(1 / np.mean(1 / columns["probability"]))
        return RawRequests(
            format="spans",
            files=(str(opened.path),),
            at_s=(columns["start_ns"] - base * 1_000_000_000) / 1e9,
            base=base,
            stamp="arrival",
            whole_seconds=False,
            skipped=reading.skipped,
            lines=len(found) + reading.skipped.count,
            wait_s=wait_s,
            latency_s=(columns["end_ns"] - columns["start_ns"]) / 1e9,
            status=columns["status"],
            bytes_out=columns["bytes_out"] if columns["bytes_out"].any() else None,
            labels=(columns["route"], found.routes),
            fold=False,
            sampled_share=None if share > 1 - 1e-9 else share,
            in_s=in_s,
            notes=notes,
        )


def read_spans(opened: Opened, skipped: SkippedLines) -> Spans:
    """Read all export requests of a file.

    Raises:
        TraceError: there is no request in it.
    """
    found, n = Spans(), 0
    for line, document in _documents(opened, skipped):
        try:
            spans = list(_spans_of(document))
        except (AttributeError, TypeError) as error:
            skipped.add(str(opened.path), line, f"not an export of spans ({error})")
            continue
        n += len(spans)
        for span in spans:
            if reason := found.add(span):
                skipped.add(str(opened.path), line, reason)
    if not len(found):
        raise TraceError(f"{opened.path}: none of {n} spans is a root or server span with its times")
    return found


def _documents(opened: Opened, skipped: SkippedLines) -> Iterator[tuple[int, dict[str, Any]]]:
    """Each export request: the whole file if it is one document, else a line each."""
    data = opened.head(MOST_BYTES + 1)
    if len(data) <= MOST_BYTES:
        try:
            yield 1, _object(json.loads(data))
        except (ValueError, RecursionError):
            pass
        else:
            return
    del data
    n = 0
    for block in blocks_of(opened, skipped, lambda _at: None):
        for number, line in enumerate(block.data.split(b"\n"), start=block.first_line):
            if not line.strip():
                continue
            try:
                document = _object(json.loads(line))
            except (ValueError, RecursionError) as error:
                skipped.add(str(opened.path), number, f"not JSON: {str(error)[:60]}")
                continue
            n += 1
            yield number, document
        refuse_garbage(str(opened.path), n, skipped)


def _object(document: Any) -> dict[str, Any]:
    if not isinstance(document, dict):
        raise ValueError(f"found {type(document).__name__}, not an object")  # noqa: TRY004  (handled as bad JSON is)
    return document


def _spans_of(document: dict[str, Any]) -> Iterator[dict[str, Any]]:
    for resource in document.get("resourceSpans") or []:
        for scope in resource.get("scopeSpans") or []:
            for span in scope.get("spans") or []:
                if not isinstance(span, dict):
                    raise TypeError("a span is not an object")
                yield span


def _key(span: dict[str, Any], name: str) -> str:
    """By what a span is known: its trace, and an identifier in it."""
    return f"{span.get('traceId', '')} {span.get(name, '')}"


def _kind(span: dict[str, Any]) -> int:
    kind = span.get("kind", 0)
    if isinstance(kind, str):
        return _KINDS.get(kind, 0)
    return kind if isinstance(kind, int) else 0


def _attributes(span: dict[str, Any]) -> dict[str, Any]:
    found: dict[str, Any] = {}
    entries = span.get("attributes")
    for entry in entries if isinstance(entries, list) else []:
        if isinstance(entry, dict) and isinstance(entry.get("value"), dict):
            found[str(entry.get("key"))] = next(iter(entry["value"].values()), None)
    return found


def _callee(attributes: dict[str, Any]) -> str:
    """What a client span says that it called; empty: nothing."""
    return next((str(attributes[key]) for key in _CALLEES if attributes.get(key)), "")


def _in_services(by_name: dict[str, np.ndarray], callees: Mapping[str, str]) -> tuple[dict[str, np.ndarray], list[str]]:
    """How long each request was in what it called, by name of the service; and what is said of it.

    Names that differ and stand for one service are added up.
    """
    in_s: dict[str, np.ndarray] = {}
    for name, spent_s in by_name.items():
        service = callees.get(name, name)
        in_s[service] = in_s.get(service, 0.0) + spent_s
    for name in callees:
        if name not in by_name:
            raise TraceError(f"callees: no client span calls {name!r}; {nearest(name, list(by_name))}")
    if not by_name:
        return {}, []
    shown = ", ".join(f"{callees.get(name, name)} ({name})" if name in callees else name for name in by_name)
    return in_s, [f"client spans call {shown}: how long is in the columns in_NAME_s"]


def _times(span: dict[str, Any]) -> tuple[int, int] | None:
    try:
        start, end = int(span["startTimeUnixNano"]), int(span["endTimeUnixNano"])
    except (KeyError, TypeError, ValueError, OverflowError):
        return None
    return (start, end) if 0 < start <= end < 1 << 63 else None


def _covered(intervals: list[tuple[int, int]], start: int, end: int) -> int:
    """Length of the union of some intervals within one [ns]."""
    total, reached = 0, start
    for a, b in sorted(intervals):
        a, b = max(a, reached), min(b, end)  # noqa: PLW2901  (cut to what is not covered yet)
        if b > a:
            total += b - a
            reached = b
    return total


def _probability(span: dict[str, Any]) -> float:
    """With what chance such a span was kept: the threshold `th` of its trace state (W3C, OpenTelemetry)."""
    for entry in str(span.get("traceState") or "").split(","):
        key, _, value = entry.strip().partition("=")
        if key == "ot":
            for part in value.split(";"):
                name, _, threshold = part.partition(":")
                if name == "th":
                    return 1.0 - int(threshold.ljust(_THRESHOLD_BITS // 4, "0"), 16) / float(2**_THRESHOLD_BITS)
    return 1.0
