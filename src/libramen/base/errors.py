"""The one error family of Libramen: everything here is a mistake that its user can mend."""

from __future__ import annotations

import re
from typing import Final


def printable(text: str) -> str:
    """The text with what a terminal would obey, not show (escapes, line ends, changes of direction), written out."""
    if text.isprintable():
        return text
    return "".join(c if c.isprintable() else c.encode("unicode_escape").decode() for c in text)


_LONGEST: Final = 400
"""Characters without a space between them that a sentence may have; paths may be that long, names should not."""
_MOST: Final = 4000


def shortened(text: str) -> str:
    """The text with the middle left out of words that nobody would read, and of itself where it is still too long."""
    short = re.sub(rf"\S{{{_LONGEST + 1},}}", lambda word: _without_middle(word.group(), _LONGEST), text)
    return _without_middle(short, _MOST)


def _without_middle(text: str, most: int) -> str:
    if len(text) <= most:
        return text
    kept = most // 4
    return f"{text[:kept]}...({len(text) - 2 * kept:,} characters more)...{text[-kept:]}"


class LibramenError(Exception):
    """Base of every error that Libramen raises on purpose; its text is one clear sentence, on one line."""

    def __init__(self, sentence: str) -> None:
        # What was found may have line ends and worse in it.
        super().__init__(shortened(printable(" ".join(sentence.splitlines()))))


class UnitError(LibramenError, ValueError):
    """A duration, size, share or amount of money that cannot be read.

    `allowed` says in words what would have been read.
    """

    def __init__(self, found: object, allowed: str) -> None:
        super().__init__(f"found {found!r}; allowed: {allowed}")
        self.found, self.allowed = found, allowed

    def __reduce__(self) -> tuple[type[UnitError], tuple[object, str]]:
        return type(self), (self.found, self.allowed)


class TraceError(LibramenError, ValueError):
    """A trace, or a log to be read as one, that cannot be used."""


class StudyError(LibramenError, ValueError):
    """A study, or a part of one, that cannot be used."""


class ReplayError(LibramenError, ValueError):
    """A replay that cannot be run as asked."""


class OutputError(LibramenError, OSError):
    """A file that cannot be written."""
