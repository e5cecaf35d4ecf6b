"""A digest of code: of a module and of all that it imports, so that what was made by other code is known again.

The compiler's cache, the cache of traces and the store of figures all keep what some code made. Each names one
module here, and is told by its digest when anything that this module rests on has changed.
"""

from __future__ import annotations

import functools
import hashlib
import re
import sys
from importlib.metadata import PackageNotFoundError, version
from pathlib import Path
from typing import Final

_PACKAGE: Final = __name__.partition(".")[0]
_ROOT: Final = Path(__file__).parents[1]
_FOR_TYPES: Final = re.compile(r"^( *)if TYPE_CHECKING:\n(?:\1 +.*\n| *\n)*", re.MULTILINE)
_IMPORT: Final = re.compile(
    r"^ *(?:from (?P<module>[\w.]+) )?import (?P<names>\([^)]*\)|[^\n(#]+)(?: *#[^\n]*)?$", re.MULTILINE
)


@functools.cache
def digest_of(module: str) -> str:
    """The digest of a module's code, of all modules of this package that it imports, and so on.

    Imports within functions count, those for type checkers alone do not. Of other packages the version counts, of
    Python too.

    Args:
        module: its name, such as `"libramen.engine.kernel.advance"`.

    Returns:
        40 hexadecimal digits.
    """
    others: set[str] = set()
    digest = hashlib.blake2b(sys.version.encode(), digest_size=20)
    for name, text in _closure(module, others):
        digest.update(f"\0{name}\0{len(text)}\0".encode() + text)
    for other in sorted(others - sys.stdlib_module_names):
        digest.update(f"\0{other} {_version_of(other)}".encode())
    return digest.hexdigest()


def digest_of_text(*parts: str) -> str:
    """The digest of some text, in parts that are told apart: 40 hexadecimal digits."""
    digest = hashlib.blake2b(digest_size=20)
    for part in parts:
        body = part.encode("utf-8", "surrogateescape")
        digest.update(f"{len(body)}\0".encode() + body)
    return digest.hexdigest()


def number_of(module: str) -> int:
    """The digest of a module's code as a number that the compiler's cache can compare."""
    return int(digest_of(module)[:15], 16)


def modules_of(module: str) -> list[str]:
    """The modules of this package that a module imports, itself and what they import included, sorted."""
    return [name for name, _ in _closure(module, set())]


def _closure(module: str, others: set[str]) -> list[tuple[str, bytes]]:
    """Those modules and their text; other packages that they import are added to `others`."""
    found: dict[str, bytes] = {}
    ahead = [module]
    while ahead:
        name = ahead.pop()
        path = None if name in found else _path_of(name)
        if path is None:
            continue
        found[name] = path.read_bytes()
        for imported in _imports(path):
            if imported.partition(".")[0] == _PACKAGE:
                ahead += _with_parents(imported)
            else:
                others.add(imported.partition(".")[0])
    return sorted(found.items())


def _with_parents(name: str) -> list[str]:
    """A module and the packages that are imported before it."""
    parts = name.split(".")
    return [".".join(parts[:n]) for n in range(1, len(parts) + 1)]


def _path_of(name: str) -> Path | None:
    """The file of a module of this package; None: it is no module, but something within one."""
    place = _ROOT.joinpath(*name.split(".")[1:])
    for path in (place / "__init__.py", place.with_suffix(".py")):
        if path.is_file():
            return path
    return None


@functools.cache
def _imports(path: Path) -> tuple[str, ...]:
    """What a file imports: the modules, and names in them, which may be modules too.

    Read line by line, which takes a tenth of the time of a parser; a test compares the two.
    """
    found: list[str] = []
    for match in _IMPORT.finditer(_FOR_TYPES.sub("", path.read_text(encoding="utf-8"))):
        module, names = match["module"], match["names"]
        told = [
            part.split()[0]
            for line in names.strip("()\n").split("\n")
            for part in line.split("#")[0].split(",")
            if part.strip()
        ]
        found += [module, *(f"{module}.{name}" for name in told)] if module else told
    return tuple(found)


def _version_of(package: str) -> str:
    try:
        return version(package)
    except PackageNotFoundError:  # it is not there, or has another name
        return ""
