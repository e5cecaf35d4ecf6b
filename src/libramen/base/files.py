"""Writing files: whole or not at all."""

from __future__ import annotations

import os
import re
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any, Final

from libramen.base.errors import OutputError

FORMULA: Final = (r"^([=+\-@\t\r\n])", r"'\1")
"""What a spreadsheet would run in a cell, and how it is kept from that: with a quote before it, which we read again."""


def spreadsheet_safe(value: Any) -> Any:
    """A value for a cell of CSV: text that a spreadsheet would run has a quote before it."""
    return re.sub(*FORMULA, value) if isinstance(value, str) else value


def cache_directory() -> Path:
    """Where what can be made again is kept: a folder in the user's cache directory, perhaps not there yet.

    `LIBRAMEN_CACHE` names another one.
    """
    told = os.environ.get("LIBRAMEN_CACHE")
    if told:
        return Path(told)
    from platformdirs import user_cache_path

    return user_cache_path("libramen", appauthor=False)


def check_output(path: Path, suffixes: tuple[str, ...]) -> None:
    """Refuse a place that cannot be written, before any work is done for it.

    Raises:
        OutputError: the ending is not allowed, or the folder is not there or cannot be written.
    """
    if path.suffix.lower() not in suffixes:
        raise OutputError(f"{path}: found the ending {path.suffix!r}; allowed: {' or '.join(suffixes)}")
    if path.is_dir():
        raise OutputError(f"{path}: found a directory; allowed: a file to write")
    if not path.parent.is_dir():
        raise OutputError(f"{path}: there is no directory {path.parent}")
    if not os.access(path.parent, os.W_OK):
        raise OutputError(f"{path}: the directory {path.parent} cannot be written")


def write_whole(path: Path, write: Callable[[Path], object]) -> None:
    """Let `write` fill a temporary file beside `path`, then put it in its place.

    Raises:
        OutputError: it cannot be written. What was there before is then still there.
    """
    try:
        handle, name = tempfile.mkstemp(dir=path.parent, prefix=f".{path.stem}-", suffix=path.suffix)
        os.close(handle)
    except OSError as error:
        raise OutputError(f"{path}: cannot be written: {error.strerror}") from None
    temporary = Path(name)
    try:
        write(temporary)
        umask = os.umask(0)
        os.umask(umask)
        temporary.chmod(0o666 & ~umask)
        temporary.replace(path)
    except OSError as error:
        raise OutputError(f"{path}: cannot be written: {error.strerror or error}") from None
    finally:
        temporary.unlink(missing_ok=True)
