"""The common and the combined log format with anything appended, and lines that a user describes."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace
from typing import ClassVar, Final

from libramen.base.errors import TraceError
from libramen.trace.arrow import release_unused
from libramen.trace.formats.latency import choose_latency
from libramen.trace.formats.lineformat import LineFormat, Token
from libramen.trace.formats.reader import Head, Reading
from libramen.trace.formats.weblog import COMBINED, COMMON, COMMON_FRONT, WebLog
from libramen.trace.lines import blocks_of, in_order, refuse_garbage
from libramen.trace.sources import Opened

_PIECE: Final = re.compile(rb'"(?:[^"\\]|\\.)*"|[^\s"]\S*')
_OPTIONS: Final = ("line_format", "latency_field", "latency_unit", "server_field")
_KEYED: Final = re.compile(rb"([A-Za-z_]\w*)=(.*)", re.DOTALL)


class CommonLog:
    """Logs of the common-log family; see `reader.Reader`."""

    formats: ClassVar[dict[str, tuple[str, ...]]] = dict.fromkeys(
        ("common", "combined"), ("line_format", "latency_field", "latency_unit", "server_field", "work")
    )
    merges: ClassVar[bool] = True

    def recognise(self, head: Head) -> str | None:
        """Whether any of the first lines begins like one of the common format."""
        return "combined" if looks_common(head.lines[:200]) else None

    def read(self, kind: str, opened: Opened, head: Head, reading: Reading) -> None:
        """Read the lines, block by block."""
        options = reading.options
        if options.line_format is not None:
            from libramen.trace.formats.directives import described

            log: WebLog = described(options.line_format, options.latency_unit)
        else:
            sample = head.lines[:-1] if len(head.lines) > 2 and not head.data.endswith(b"\n") else head.lines
            if not looks_common(sample):
                raise TraceError(f"{opened.path}: its first lines are not of the {kind} log format")
            log = log_of(sample, options.latency_field, options.latency_unit, options.server_field)
        log = replace(log, who=reading.who)
        blocks = blocks_of(opened, reading.skipped, reading.position)
        for block, (part, reasons) in in_order(lambda block: log.parse(block.data), blocks):
            for at, reason in reasons:
                reading.skipped.add(block.file, block.first_line + at, reason)
            reading.rows.add(part, reading.number)
            refuse_garbage(block.file, reading.rows.n, reading.skipped)
        release_unused()  # what the readers of blocks have used may be much
        reading.notes += log.notes


def looks_common(lines: Sequence[bytes]) -> bool:
    """Whether any of some lines begins like one of the common format."""
    return any(COMMON_FRONT.match(line) for line in lines)


def log_of(
    lines: Sequence[bytes],
    latency_field: int | str | None,
    latency_unit: str | None,
    server_field: int | str | None = None,
) -> WebLog:
    """The format of a common or combined log with anything appended, from some of its lines.

    Raises:
        TraceError: `latency_field` or `server_field` names no piece of the lines.
    """
    tails = [_PIECE.findall(line[match.end() :]) for line in lines if (match := COMMON_FRONT.match(line))]
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
    if server_field is not None:
        chosen = next((name for name, label in labels.items() if label == str(server_field)), None)
        if chosen is None:
            raise TraceError(f"server_field: found {server_field!r}; allowed: {', '.join(labels.values()) or 'none'}")
        at = int(chosen.removeprefix("other ")) - 1 + len(tokens) - len(labels) - (first - 2)
        tokens[at] = tokens[at]._replace(role="server")
        del samples[chosen], labels[chosen]
    latency, notes = choose_latency(samples, labels, latency_field, latency_unit)
    return WebLog(LineFormat(tuple(tokens)), latency, notes)
