"""The one error family of Libramen: everything here is a mistake that its user can mend."""

from __future__ import annotations


def printable(text: str) -> str:
    """The text with what a terminal would obey, not show (escapes, line ends, changes of direction), written out."""
    if text.isprintable():
        return text
    return "".join(c if c.isprintable() else c.encode("unicode_escape").decode() for c in text)


class LibramenError(Exception):
    """Base of every error that Libramen raises on purpose; its text is one clear sentence, on one line."""

    def __init__(self, sentence: str) -> None:
        # What was found may have line ends and worse in it.
        super().__init__(printable(" ".join(sentence.splitlines())))


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
