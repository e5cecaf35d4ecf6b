"""Formats of lines described by the directives of the common-log family."""

from __future__ import annotations

import re
from typing import Final

from libramen.base.errors import TraceError
from libramen.trace.formats.latency import UNITS, Latency
from libramen.trace.formats.lineformat import LineFormat, Token
from libramen.trace.formats.weblog import WebLog

_DIRECTIVES: Final = {
    "h": "host", "a": "host", "l": "ident", "u": "user", "r": "request", "s": "status", "b": "bytes", "B": "bytes",
    "O": "bytes", "A": "server", "v": "server", "V": "server", "U": "path", "T": "took s", "D": "took us",
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
