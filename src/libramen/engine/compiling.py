"""Compiles the replay engine ahead, in processes of its own, where it is not compiled yet.

The compiler keeps its code on disk and needs about half a minute for each of the two variants of the engine. That is
done once after an installation, for both at a time: while the log is read, or beforehand by `libramen prepare`.
Nothing heavy is imported here.
"""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Final, Self

from libramen.base.code import digest_of, digest_of_text
from libramen.base.files import cache_directory

_KERNEL: Final = "libramen.engine.kernel.advance"
_CODE: Final = "from libramen.engine.compiling import compile_now; compile_now(lean={lean})"


def _mark(*, lean: bool) -> Path:
    """A file that is there once this very code has been compiled, by this compiler, for this Python and place."""
    place = digest_of_text(str(Path(__file__).parent), os.environ.get("NUMBA_CACHE_DIR", ""), digest_of(_KERNEL))
    return cache_directory() / f"engine-{'lean-' if lean else ''}{place[:24]}"


def is_compiled(*, lean: bool | None = None) -> bool:
    """Whether a variant of the engine has been compiled before, or need not be. Default: both."""
    if os.environ.get("NUMBA_DISABLE_JIT"):
        return True
    return all(_mark(lean=one).exists() for one in ((True, False) if lean is None else (lean,)))


def compile_now(*, lean: bool) -> None:
    """Load a variant of the engine, which compiles it where that is needed, and remember that it has been."""
    from libramen.engine.kernel.advance import advance_of

    advance_of(lean=lean)
    if lean:  # what ended is counted by either; this one takes less time
        from libramen.engine.kernel import counting  # noqa: F401

    mark = _mark(lean=lean)
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
        self._processes: list[subprocess.Popen[bytes]] = []
        if is_compiled():
            return
        tell("Compiling the replay engine, once after an installation: about half a minute, while other work goes on.")
        for lean in (True, False):
            if is_compiled(lean=lean):
                continue
            try:
                process = subprocess.Popen(  # noqa: S603  (our own code, by our own interpreter)
                    [sys.executable, "-c", _CODE.format(lean=lean)],
                    stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
                )  # fmt: skip
            except OSError:  # then it is compiled here, when it is first used
                return
            self._processes.append(process)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        for process in self._processes:
            if process.poll() is None:
                process.kill()

    def wait(self) -> None:
        """Until the engine is compiled. If that failed, it is tried once more here, where one sees why."""
        for process in self._processes:
            process.wait()
