"""Compiles the replay engine ahead, in a process of its own, where it is not compiled yet.

The compiler keeps its code on disk and needs about half a minute to make it. That is done once after an installation:
while the log is read, or beforehand by `libramen prepare`. Nothing heavy is imported here.
"""

from __future__ import annotations

import hashlib
import os
import subprocess
import sys
from importlib.metadata import version
from pathlib import Path
from typing import TYPE_CHECKING, Final, Self

from libramen.files import cache_directory

if TYPE_CHECKING:
    from collections.abc import Callable

_KERNEL: Final = Path(__file__).with_name("kernel")
_CODE: Final = "from libramen.engine.compiling import compile_now; compile_now()"


def _mark() -> Path:
    """A file that is there once this very code has been compiled, by this compiler, for this Python and place."""
    digest = hashlib.blake2b(digest_size=12)
    for text in (sys.version, str(_KERNEL), version("numba"), version("numpy"), os.environ.get("NUMBA_CACHE_DIR", "")):
        digest.update(text.encode("utf-8", "surrogateescape"))
    for path in sorted(_KERNEL.glob("*.py")):
        digest.update(path.read_bytes())
    return cache_directory() / f"engine-{digest.hexdigest()}"


def is_compiled() -> bool:
    """Whether the engine has been compiled before, or need not be."""
    return bool(os.environ.get("NUMBA_DISABLE_JIT")) or _mark().exists()


def compile_now() -> None:
    """Load the engine, which compiles it where that is needed, and remember that it has been."""
    from libramen.engine.kernel import advance  # noqa: F401

    mark = _mark()
    try:
        mark.parent.mkdir(parents=True, exist_ok=True)
        mark.touch()
    except OSError:  # then it is looked after again the next time
        return


class Compilation:
    """The engine being compiled beside what else there is to do.

    Args:
        tell: called with a sentence where it takes a while.
    """

    def __init__(self, tell: Callable[[str], None]) -> None:
        self._process: subprocess.Popen[bytes] | None = None
        if is_compiled():
            return
        tell("Compiling the replay engine, once after an installation: about half a minute, while other work goes on.")
        try:
            self._process = subprocess.Popen(  # noqa: S603  (our own code, by our own interpreter)
                [sys.executable, "-c", _CODE], stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
            )  # fmt: skip
        except OSError:  # then it is compiled here, when it is first used
            return

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        if self._process is not None and self._process.poll() is None:
            self._process.kill()

    def wait(self) -> None:
        """Until the engine is compiled. If that failed, it is tried once more here, where one sees why."""
        if self._process is not None:
            self._process.wait()
