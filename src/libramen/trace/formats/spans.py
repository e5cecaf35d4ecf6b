"""OpenTelemetry spans as OTLP JSON: one export request a line, or one document.

Root and server spans become requests. What their child client spans cover is waiting; the rest of
the span is work, of which `cpu_share` is CPU work.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any, ClassVar, Final

import numpy as np

from libramen.base.errors import TraceError
from libramen.base.fields import nearest
from libramen.trace.formats.reader import Head, Reading
from libramen.trace.lines import SkippedLines, blocks_of, refuse_garbage
from libramen.trace.raw_requests import RawRequests
from libramen.trace.sources import Opened

_SERVER, _CLIENT = 2, 3
_KINDS: Final = {"SPAN_KIND_SERVER": _SERVER, "SPAN_KIND_CLIENT": _CLIENT}
_THRESHOLD_BITS: Final = 56
MOST_BYTES: Final = 32 * 2**20
"""Of one document; a longer file has an export request a line, each as long as a line of a log at most."""
_CALLEES: Final = ("peer.service", "db.system.name", "db.system", "server.address", "net.peer.name")
"""Attributes of a client span that say what it called, the first that is there counts (OpenTelemetry semantic
conventions)."""


@dataclass
class Spans:
    """Requests found in spans; lists of one length."""

    start_ns: list[int] = field(default_factory=list)
    latency_s: list[float] = field(default_factory=list)
    wait_s: list[float] = field(default_factory=list)
    route: list[str] = field(default_factory=list)
    status: list[int] = field(default_factory=list)
    bytes_out: list[float] = field(default_factory=list)
    probability: list[float] = field(default_factory=list)
    calls: list[dict[str, float]] = field(default_factory=list)
    """How long each was in what it called, by name [s]."""


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
        columns = arrays(found)
        in_s, said = _calls(found, reading.options.callees)
        base = int(columns["start_ns"][0] // 1_000_000_000)
        routes, codes = np.unique(columns["route"], return_inverse=True)
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
            lines=len(codes) + reading.skipped.count,
            wait_s=columns["wait_s"],
            latency_s=columns["latency_s"],
            status=columns["status"],
            bytes_out=columns["bytes_out"] if columns["bytes_out"].any() else None,
            labels=(codes, [str(route) for route in routes]),
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
    spans: list[dict[str, Any]] = []
    found = Spans()
    for line, document in _documents(opened, skipped):
        try:
            spans += list(_spans_of(document))
        except (AttributeError, TypeError) as error:
            skipped.add(str(opened.path), line, f"not an export of spans ({error})")
    children: dict[tuple[str, str], list[dict[str, Any]]] = {}
    for span in spans:
        if span.get("parentSpanId"):
            children.setdefault(_key(span, "parentSpanId"), []).append(span)
    for number, span in enumerate(spans, start=1):
        kind = _kind(span)
        if kind == _SERVER or (not span.get("parentSpanId") and kind != _CLIENT):
            reason = _add(found, span, children)
            if reason:
                skipped.add(str(opened.path), number, reason)
    if not found.start_ns:
        raise TraceError(f"{opened.path}: none of {len(spans)} spans is a root or server span with its times")
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


def _key(span: dict[str, Any], name: str) -> tuple[str, str]:
    """By what a span is known: its trace, and an identifier in it."""
    return str(span.get("traceId", "")), str(span.get(name, ""))


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


def _add(found: Spans, span: dict[str, Any], children: dict[tuple[str, str], list[dict[str, Any]]]) -> str:
    """Add a request; returns why it cannot be, else nothing."""
    times = _times(span)
    if times is None:
        return "a span without start and end, or with an end before its start"
    start, end = times
    attributes = _attributes(span)
    clients: list[tuple[int, int]] = []
    by_name: dict[str, list[tuple[int, int]]] = {}
    for child in children.get(_key(span, "spanId"), []):
        if _kind(child) == _CLIENT and (inner := _times(child)) is not None:
            clients.append(inner)
            if name := _callee(_attributes(child)):
                by_name.setdefault(name, []).append(inner)
    try:
        status = int(attributes.get("http.response.status_code") or attributes.get("http.status_code") or 0)
        size = float(attributes.get("http.response.body.size") or attributes.get("http.response_content_length") or 0)
        probability = _probability(span)
    except (TypeError, ValueError, OverflowError):
        return "a status, a size or a sampling threshold that is not a number"
    if not (0 <= status <= 999 and 0 <= size <= 1e15 and 1e-6 <= probability <= 1):
        return "a status, a size or a sampling threshold that cannot be"
    failed = isinstance(span.get("status"), dict) and span["status"].get("code") in (2, "STATUS_CODE_ERROR")
    found.start_ns.append(start)
    found.latency_s.append((end - start) / 1e9)
    found.wait_s.append(_covered(clients, start, end) / 1e9)
    found.route.append(str(attributes.get("http.route") or span.get("name") or "unnamed"))
    found.status.append(status or (500 if failed else 200))
    found.bytes_out.append(size)
    found.probability.append(probability)
    found.calls.append({name: _covered(inner, start, end) / 1e9 for name, inner in by_name.items()})
    return ""


def _callee(attributes: dict[str, Any]) -> str:
    """What a client span says that it called; empty: nothing."""
    return next((str(attributes[key]) for key in _CALLEES if attributes.get(key)), "")


def _calls(found: Spans, callees: Mapping[str, str]) -> tuple[dict[str, np.ndarray], list[str]]:
    """How long each request was in what it called, by name of the service, in order of start; and what is said of it.

    Names that differ and stand for one service are added up.
    """
    order = np.argsort(np.array(found.start_ns), kind="stable")
    met = dict.fromkeys(name for calls in found.calls for name in calls)
    in_s: dict[str, np.ndarray] = {}
    for name in met:
        service = callees.get(name, name)
        spent = np.array([calls.get(name, 0.0) for calls in found.calls])[order]
        in_s[service] = in_s.get(service, 0.0) + spent
    for name in callees:
        if name not in met:
            raise TraceError(f"callees: no client span calls {name!r}; {nearest(name, list(met))}")
    if not met:
        return {}, []
    shown = ", ".join(f"{callees.get(name, name)} ({name})" if name in callees else name for name in met)
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


def arrays(found: Spans) -> dict[str, np.ndarray]:
    """The lists as arrays, in order of start."""
    order = np.argsort(np.array(found.start_ns), kind="stable")
    names = ("start_ns", "latency_s", "wait_s", "status", "bytes_out", "probability", "route")
    return {name: np.array(getattr(found, name))[order] for name in names}
