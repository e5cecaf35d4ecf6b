"""Compiles the replay engine ahead, in processes of its own, where it is not compiled yet.

The compiler keeps its code on disk and needs about half a minute for each of the two variants of the engine. That is
done once after an installation, for both at a time: while the log is read, or beforehand by `libramen prepare`.
Nothing heavy is imported here.
"""

from __future__ import annotations

import functools
import gc
import os
import platform
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any, Final, Self

from libramen.base.code import digest_of, digest_of_text
from libramen.base.errors import OutputError
from libramen.base.files import cache_directory, write_whole

_KERNEL: Final = "libramen.engine.kernel.advance"
_OF_PROCESSOR: Final = ("model name", "flags", "CPU part", "Features")
_CODE: Final = "from libramen.engine.compiling import compile_now; compile_now(lean={lean})"


def _mark(*, lean: bool) -> Path:
    """A file that is there once this very code has been compiled, for this Python, compiler, place and processor.

    It names the compiler's own file, which may go without it: with the environment that the package was in.
    """
    place = digest_of_text(
        str(Path(__file__).parent), os.environ.get("NUMBA_CACHE_DIR", ""), digest_of(_KERNEL), _processor()
    )
    return cache_directory() / f"engine-{'lean-' if lean else ''}{place[:24]}"


@functools.cache
def _processor() -> str:
    """What machine code is made for, as far as one can tell without the compiler."""
    try:
        told = Path("/proc/cpuinfo").read_text(encoding="utf-8", errors="replace").partition("\n\n")[0]
    except OSError:
        return platform.machine()
    return "\n".join([platform.machine(), *(line for line in told.splitlines() if line.startswith(_OF_PROCESSOR))])


def is_compiled(*, lean: bool | None = None) -> bool:
    """Whether a variant of the engine has been compiled before, and is still there, or need not be. Default: both."""
    if os.environ.get("NUMBA_DISABLE_JIT"):
        return True
    return all(_is_there(_mark(lean=one)) for one in ((True, False) if lean is None else (lean,)))


def _is_there(mark: Path) -> bool:
    try:
        return Path(mark.read_text(encoding="utf-8") or mark / "nowhere").exists()
    except (OSError, ValueError):
        return False


def compile_now(*, lean: bool) -> bool:
    """Load a variant of the engine, which compiles it where that is needed, and remember that it has been.

    Returns:
        Whether the compiler found a place to keep it in.
    """
    is_collecting = gc.isenabled()
    gc.disable()  # the compiler makes many objects that stay: looking for garbage among them is a twentieth of its time
    try:
        from libramen.engine.kernel.advance import advance_of

        advance = advance_of(lean=lean)
        if lean:  # what ended is counted by either; this one takes less time
            from libramen.engine.kernel import counting  # noqa: F401
    finally:
        if is_collecting:
            gc.enable()
    kept = _kept_in(advance)
    if kept is None:
        return False
    mark = _mark(lean=lean)
    try:
        mark.parent.mkdir(parents=True, exist_ok=True)
        write_whole(mark, lambda path: path.write_text(str(kept), encoding="utf-8"))
    except (OSError, OutputError):  # then it is looked after again the next time
        pass
    return True


def _kept_in(advance: Callable[..., Any]) -> Path | None:
    """The newest file in which the compiler keeps a function, or that file's folder; None: it found no place."""
    place = getattr(getattr(advance, "stats", None), "cache_path", None)
    if place is None:
        return None
    files = Path(place).glob(f"*.{advance.__qualname__}-*.nbi")
    return max(files, key=lambda file: file.stat().st_mtime, default=Path(place))


class Compilation:
    """The engine being compiled beside what else there is to do.

    Args:
        tell: called with a sentence where it takes a while.
    """

    def __init__(self, tell: Callable[[str], None]) -> None:
        self._processes: dict[bool, subprocess.Popen[bytes]] = {}
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
            self._processes[lean] = process

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        for process in self._processes.values():
            if process.poll() is None:
                process.kill()

    def wait(self) -> None:
        """Until the engine is compiled and loaded. If that failed, it is tried once more here, where one sees why.

        What is ready first is loaded while the rest is compiled.
        """
        for lean, process in self._processes.items():
            process.wait()
            compile_now(lean=lean)
