"""Logs of web servers: lines of a `LineFormat`, and what their pieces mean.

The common and the combined format with anything appended, formats described by directives, and W3C
extended logs.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from datetime import date
from typing import TYPE_CHECKING, Final

import numpy as np

from libramen.errors import TraceError
from libramen.trace.arrow import coded, numbers_of
from libramen.trace.lineformat import LineFormat, Token
from libramen.trace.rows import Part
from libramen.trace.stamps import STAMP_LENGTH, offset_seconds, stamp_seconds

if TYPE_CHECKING:
    from collections.abc import Sequence

    import pyarrow as pa

UNITS: Final = {"s": 1.0, "ms": 1e-3, "us": 1e-6}
NO_REQUEST: Final = "no request line"
COMMON: Final = (
    Token("word", "host"),
    Token("word", "ident"),
    Token("word", "user"),
    Token("stamp", "stamp"),
    Token("quoted", "request"),
    Token("status", "status"),
    Token("size", "bytes"),
)
COMBINED: Final = (*COMMON, Token("quoted", "referer"), Token("quoted", "agent"))
_PIECE: Final = re.compile(rb'"(?:[^"\\]|\\.)*"|[^\s"]\S*')
_KEYED: Final = re.compile(rb"([A-Za-z_]\w*)=(.*)", re.DOTALL)
_NUMBER: Final = re.compile(rb"\d+\.?\d*|\.\d+")
_UPSTREAM: Final = re.compile(r"^u|upstream|backend|service")


@dataclass(frozen=True)
class Latency:
    """Where the latency of a request stands in a line: the pieces to be tried in turn."""

    columns: tuple[str, ...]
    unit: str
    prefix: bytes = b""  # of the value, such as `rt=`


@dataclass(frozen=True)
class WebLog:
    """A line format and what its columns mean."""

    lines: LineFormat
    latency: Latency | None
    notes: tuple[str, ...] = field(default=())
    who: bool = False
    """Whether hosts and agents are wanted too, to leave requests out or to know doubled lines again."""

    @property
    def used(self) -> tuple[str, ...]:
        """The columns that are needed."""
        wanted: tuple[str, ...] = ("day", "offset", "date", "time", "epoch", "request", "path", "status", "bytes")
        if self.who:
            wanted += ("agent", "host")
        names = [name for name in wanted if name in self.lines.columns]
        for name in self.latency.columns if self.latency else ():
            if name not in names:
                names.append(name)
        return tuple(names)

    def parse(self, data: bytes) -> tuple[Part, list[tuple[int, str]]]:
        """The rows of a block of lines, and the places of the lines that cannot be read, with reasons."""
        columns, places, bad = self.lines.split(data, self.used)
        reasons = [(at, self._reason(line)) for at, line in bad]
        second, fraction_s = self._instants(columns)
        for i in np.flatnonzero(second < 0).tolist():
            text = b" ".join(
                columns[name][i].as_py() for name in ("day", "offset", "date", "time", "epoch") if name in columns
            )
            text = text.replace(b"[", b"").replace(b"]", b"")
            reasons.append((int(places[i]), f"{text.decode('utf-8', 'replace')[:40]!r} is not a time stamp"))
        keep = second >= 0
        took_s = self._took(columns)
        if took_s is not None:
            for i in np.flatnonzero(keep & np.isnan(took_s)).tolist():
                found = columns[self.latency.columns[0]][i].as_py().decode("utf-8", "replace")[:40]  # type: ignore[union-attr]
                reasons.append((int(places[i]), f"the request time is {found!r}, not a number"))
            keep &= ~np.isnan(took_s)
        for what, values, most in (
            ("status", numbers_of(columns["status"]) if "status" in columns else None, 999.0),
            ("size of the answer", numbers_of(columns["bytes"]) if "bytes" in columns else None, 1e15),
            ("request time", took_s, 1e6),
        ):
            if values is not None:
                beyond = keep & (values > most)
                reasons += [
                    (int(places[i]), f"the {what} is '{values[i]:g}', more than can be") for i in np.flatnonzero(beyond)
                ]
                keep &= ~beyond
        part = Part(
            second=second[keep],
            fraction_s=None if fraction_s is None else fraction_s[keep],
            took_s=None if took_s is None else took_s[keep],
            status=_some(columns, "status", keep),
            bytes_out=_some(columns, "bytes", keep),
            path=self._paths(columns, keep),
            agent=_texts(columns, "agent", keep),
            host=_texts(columns, "host", keep),
        )
        return part, reasons

    def _took(self, columns: dict[str, pa.Array]) -> np.ndarray | None:
        """The latency of each line [s]; of several pieces the first that is a number."""
        if self.latency is None:
            return None
        took_s: np.ndarray | None = None
        for name in self.latency.columns:
            cells = columns[name]
            if self.latency.prefix:
                import pyarrow.compute as pc

                cells = pc.replace_substring_regex(cells, pattern=rb"^[A-Za-z_]\w*=", replacement=b"")
            values = numbers_of(cells) * UNITS[self.latency.unit]
            took_s = values if took_s is None else np.where(np.isnan(took_s), values, took_s)
        return took_s

    def _instants(self, columns: dict[str, pa.Array]) -> tuple[np.ndarray, np.ndarray | None]:
        if "day" in columns:
            return _stamps(columns["day"], columns["offset"]), None
        if "epoch" in columns:
            role = next(token.text for token in self.lines.tokens if token.role == "epoch")
            values = numbers_of(columns["epoch"]) * UNITS[role]
            whole = np.where(np.isnan(values), -1, np.floor(np.nan_to_num(values))).astype(np.int64)
            return whole, None if role == "s" else np.nan_to_num(values) - np.maximum(whole, 0)
        return _date_and_time(columns["date"], columns["time"])

    def _paths(self, columns: dict[str, pa.Array], keep: np.ndarray) -> tuple[np.ndarray, list[str]]:
        if "request" in columns:
            codes, texts = coded(columns["request"])
            return codes[keep], [path_of(text) for text in texts]
        if "path" in columns:
            codes, texts = coded(columns["path"])
            return codes[keep], [text.decode("utf-8", "replace") for text in texts]
        return np.zeros(int(keep.sum()), np.int32), [NO_REQUEST]

    def _reason(self, line: bytes) -> str:
        """Why a line cannot be read, in words."""
        if not line.strip():
            return "the line is empty"
        pieces = len(_PIECE.findall(_without_stamp(line)))
        wanted = len(self.lines.tokens) - (1 if "day" in self.lines.columns else 0)
        if pieces < wanted and self.latency is not None and looks_common([line]):
            return "no request time behind the line"
        return "not of this log's format" + (f" ({pieces} pieces for {wanted})" if pieces != wanted else "")


def _without_stamp(line: bytes) -> bytes:
    return re.sub(rb" \[[^\]]*\]", b"", line, count=1)


def path_of(request: bytes) -> str:
    """The path of a request line such as `GET /timetable HTTP/1.1`."""
    words = request.decode("utf-8", "replace").split(" ")
    return words[1] if len(words) in {2, 3} and words[1].startswith(("/", "http")) else NO_REQUEST


def _some(columns: dict[str, pa.Array], name: str, keep: np.ndarray) -> np.ndarray | None:
    return np.nan_to_num(numbers_of(columns[name])[keep]) if name in columns else None


def _texts(columns: dict[str, pa.Array], name: str, keep: np.ndarray) -> tuple[np.ndarray, list[str]] | None:
    if name not in columns:
        return None
    codes, texts = coded(columns[name])
    return codes[keep], [text.decode("utf-8", "replace") for text in texts]


def _fixed_width(texts: list[bytes], width: int) -> tuple[np.ndarray, np.ndarray]:
    """The texts of that width as a matrix of bytes, and which those are."""
    right = np.array([len(text) == width for text in texts], bool)
    matrix = np.frombuffer(b"".join(text for text in texts if len(text) == width), np.uint8).reshape(-1, width)
    return matrix, right


def _stamps(day: pa.Array, offset: pa.Array) -> np.ndarray:
    """Whole seconds since 1970 of each line, -1: no such stamp. Each distinct text is read once."""
    day_index, days = coded(day)
    offset_index, offsets = coded(offset)
    ahead = [offset_seconds(text.removesuffix(b"]")) for text in offsets]
    ahead_s = np.array([0 if seconds is None else seconds for seconds in ahead], np.int64)
    known = np.array([seconds is not None for seconds in ahead], bool)
    matrix, right = _fixed_width([text.removeprefix(b"[") for text in days], STAMP_LENGTH)
    own_s = np.full(len(days), -1, np.int64)
    own_s[right] = stamp_seconds(matrix)
    own_s = own_s[day_index]
    return np.where((own_s >= 0) & known[offset_index], own_s - ahead_s[offset_index], -1)


_CLOCK: Final = re.compile(rb"([01]\d|2[0-3]):([0-5]\d):([0-5]\d)(\.\d+)?")


def _date_and_time(days: pa.Array, times: pa.Array) -> tuple[np.ndarray, np.ndarray | None]:
    """As `_stamps`, for `2031-06-05` and `09:30:07` in UTC; and the part of a second, where there is one."""
    day_index, day_texts = coded(days)
    time_index, time_texts = coded(times)
    day_s = np.array([_iso_day(text) for text in day_texts], np.int64)
    clock = [_CLOCK.fullmatch(text) for text in time_texts]
    time_s = np.array([-1 if m is None else int(m[1]) * 3600 + int(m[2]) * 60 + int(m[3]) for m in clock], np.int64)
    second = np.where((day_s[day_index] < 0) | (time_s[time_index] < 0), -1, day_s[day_index] + time_s[time_index])
    if not any(m is not None and m[4] for m in clock):
        return second, None
    fraction = np.array([0.0 if m is None or m[4] is None else float(m[4]) for m in clock])
    return second, fraction[time_index]


def _iso_day(text: bytes) -> int:
    try:
        return (date.fromisoformat(text.decode("ascii")).toordinal() - date(1970, 1, 1).toordinal()) * 86400
    except ValueError:
        return -1


# -- recognising -----------------------------------------------------------------------------------

_COMMON_FRONT: Final = re.compile(LineFormat(COMMON).pattern.removesuffix(rb"\r?\n?$"))


def looks_common(lines: Sequence[bytes]) -> bool:
    """Whether any of some lines begins like one of the common format."""
    return any(_COMMON_FRONT.match(line) for line in lines)


def recognise(lines: Sequence[bytes], latency_field: int | str | None, latency_unit: str | None) -> WebLog:
    """The format of a common or combined log with anything appended, from some of its lines.

    Raises:
        TraceError: `latency_field` names no piece of the lines.
    """
    tails = [_PIECE.findall(line[match.end() :]) for line in lines if (match := _COMMON_FRONT.match(line))]
    lengths = [len(tail) for tail in tails]
    usual = max(set(lengths), key=lengths.count)
    tails = [tail for tail in tails if len(tail) == usual]
    tokens = list(COMMON)
    # A few odd lines in the sample must not decide.
    quoting = [tail for tail in tails if usual >= 2 and tail[0].startswith(b'"') and tail[1].startswith(b'"')]
    if 2 * len(quoting) > len(tails):
        tokens = list(COMBINED)
        tails = [tail[2:] for tail in quoting]
    first = len(tokens) + 1
    samples: dict[str, list[bytes]] = {}
    labels: dict[str, str] = {}  # what a user may call a piece: its key, or its number in the line
    for k in range(len(tails[0])):
        quoted = {tail[k].startswith(b'"') for tail in tails}
        values = [tail[k].strip(b'"') for tail in tails]
        keyed = [_KEYED.fullmatch(value) for value in values]
        name = f"other {first + k - 1}"
        tokens.append(Token("either" if len(quoted) > 1 else "quoted" if quoted == {True} else "word", "other"))
        labels[name] = str(first + k)
        if all(keyed):
            labels[name] = keyed[0][1].decode()  # type: ignore[index]
            values = [match[2] for match in keyed if match]
        samples[name] = values
    latency, notes = choose_latency(samples, labels, latency_field, latency_unit)
    return WebLog(LineFormat(tuple(tokens)), latency, notes)


def choose_latency(
    samples: dict[str, list[bytes]],
    labels: dict[str, str],
    latency_field: int | str | None,
    latency_unit: str | None,
) -> tuple[Latency | None, tuple[str, ...]]:
    """Which piece of a line is the request time, in what unit, and what to tell of the choice.

    Upstream time is preferred where it stands beside the whole: a slow client is not work.
    """
    if latency_unit is not None and latency_unit not in UNITS:
        raise TraceError(f"latency_unit: found {latency_unit!r}; allowed: {', '.join(UNITS)}")
    if latency_field is not None:
        chosen = [name for name, label in labels.items() if label == str(latency_field)]
        if not chosen:
            raise TraceError(f"latency_field: found {latency_field!r}; allowed: {', '.join(labels.values()) or 'none'}")
        columns = chosen
    else:
        columns = [name for name, values in samples.items() if _share_of_numbers(values) >= 0.5]
        columns = _upstream_first(columns, samples, labels)
    if not columns:
        return None, ("the log has no request times: its latencies are not known",)
    unit = latency_unit or _unit_of(samples[columns[0]])
    same = tuple(name for name in columns if latency_unit or _unit_of(samples[name]) == unit)
    notes = [f"the request time is piece {labels[same[0]]!r} of each line, in {unit}"]
    if len(columns) > 1:
        others = ", ".join(repr(labels[name]) for name in columns[1:])
        notes[0] += f" ({others} could be too; latency_field and latency_unit choose)"
    elif latency_unit is None and unit != "s":
        notes[0] += " (latency_unit chooses another)"
    prefix = b"=" if not labels[same[0]].isdigit() else b""
    return Latency(same if latency_field is None else same[:1], unit, prefix), tuple(notes)


def _share_of_numbers(values: list[bytes]) -> float:
    return sum(_NUMBER.fullmatch(value) is not None for value in values) / max(1, len(values))


def _numbers(values: list[bytes]) -> list[float]:
    return [float(value) for value in values if _NUMBER.fullmatch(value)]


def _unit_of(values: list[bytes]) -> str:
    """Seconds where there is a decimal point; whole numbers are milliseconds, or microseconds if they are large."""
    numbers = _numbers(values)
    if any(b"." in value for value in values if _NUMBER.fullmatch(value)):
        return "s"
    return "us" if float(np.median(numbers or [0.0])) >= 20_000 else "ms"


def _upstream_first(columns: list[str], samples: dict[str, list[bytes]], labels: dict[str, str]) -> list[str]:
    """The candidates, upstream time first: by its name, or since it never exceeds the other."""
    if len(columns) < 2:
        return columns
    named = [name for name in columns if _UPSTREAM.search(labels[name])]
    if named:
        return named + [name for name in columns if name not in named]
    a, b = columns[0], columns[1]
    pairs = [
        (float(x), float(y))
        for x, y in zip(samples[a], samples[b], strict=True)
        if _NUMBER.fullmatch(x) and _NUMBER.fullmatch(y)
    ]
    # A thousandth more is rounding.
    if pairs and all(y <= x * 1.001 + 0.001 for x, y in pairs) and any(y < x for x, y in pairs):
        return [b, a, *columns[2:]]
    return columns


# -- directives ------------------------------------------------------------------------------------

_DIRECTIVES: Final = {
    "h": "host", "a": "host", "l": "ident", "u": "user", "r": "request", "s": "status", "b": "bytes", "B": "bytes",
    "O": "bytes", "U": "path", "T": "took s", "D": "took us",
}  # fmt: skip
_DIRECTIVE: Final = re.compile(r"%[<>]?(?:\{([^}]*)\})?([A-Za-z])")


def described(description: str, latency_unit: str | None) -> WebLog:
    """The format that a user describes by the directives of the common-log family.

    Raises:
        TraceError: it has no time, or none that can be read.

    Example:
        >>> described('%h %l %u %t "%r" %>s %b %D', None).latency.unit
        'us'
    """
    tokens: list[Token] = []
    latency: Latency | None = None
    unit = "s"
    for number, piece in enumerate(re.findall(r'"[^"]*"|\[[^\]]*\]|\S+', description)):
        match = _DIRECTIVE.fullmatch(piece.strip('"[]'))
        role = "other"
        if match is None:
            inside = _DIRECTIVE.search(piece)
            request = piece.strip('"').startswith("%m %U")
            role = "request" if request else "other"
            literal = inside is None and not piece.startswith('"')
            token = Token("literal", "", piece) if literal else Token("quoted" if piece[0] == '"' else "word", role)
            tokens.append(token)
            continue
        argument, letter = match[1], match[2]
        if letter == "t":
            if argument in {None, ""}:
                tokens.append(Token("stamp", "stamp"))
            elif argument in {"sec", "%s", "msec", "usec"}:
                tokens.append(Token("word", "epoch", {"msec": "ms", "usec": "us"}.get(argument, "s")))
            else:
                raise TraceError(
                    f"line_format: found %{{{argument}}}t; allowed: %t, %{{sec}}t, %{{msec}}t or %{{usec}}t"
                )
            continue
        if letter == "T" and argument in UNITS:
            role, unit = f"took {argument}", argument
        elif letter == "i" and (argument or "").lower() == "user-agent":
            role = "agent"
        elif argument is None or letter == "s":
            role = _DIRECTIVES.get(letter, "other")
        if role.startswith("took") and latency is None:
            unit = latency_unit or role.split()[1]
            latency = Latency((f"other {number}",), unit)
            role = "other"
        kind = "quoted" if piece.startswith('"') else {"status": "status", "bytes": "size"}.get(role, "word")
        tokens.append(Token(kind, role))
    roles = {token.role for token in tokens}
    if not roles & {"stamp", "epoch"}:
        raise TraceError(f"line_format: {description!r} has no time; allowed: %t among its directives")
    notes = () if latency else ("the described format has no request time (%D, %T or %{ms}T)",)
    return WebLog(LineFormat(tuple(tokens)), latency, notes)


# -- W3C extended logs -----------------------------------------------------------------------------

_W3C_ROLES: Final = {
    "date": "date", "time": "time", "c-ip": "host", "cs-uri-stem": "path", "cs-uri": "path", "sc-status": "status",
    "sc-bytes": "bytes", "cs(User-Agent)": "agent",
}  # fmt: skip


def w3c(fields: Sequence[str], unit: str) -> WebLog | None:
    """The format that a `#Fields:` line of a W3C extended log describes; None: it has no times."""
    tokens: list[Token] = []
    latency = None
    for number, name in enumerate(fields):
        role = _W3C_ROLES.get(name, "other")
        if role in {token.role for token in tokens}:
            role = "other"
        if name == "time-taken":
            latency = Latency((f"other {number}",), unit)
        tokens.append(Token("either", role))
    if not {"date", "time"} <= {token.role for token in tokens}:
        return None
    return WebLog(LineFormat(tuple(tokens)), latency)


def w3c_unit(samples: Sequence[bytes]) -> str:
    """The unit of time-taken: seconds, as the standard says, where there is a decimal point, else milliseconds."""
    return "s" if any(b"." in value for value in samples) else "ms"
