"""A bar beneath the cell of a notebook, for as long as something is being done."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from html import escape
from importlib import import_module
from typing import Any, Final

_SOON_S: Final = 0.5
"""What is done sooner shows no bar."""
_OFTEN_S: Final = 0.1


def bar_of_notebook() -> Callable[[str, float], None] | None:
    """A bar to be called with what is being done and the share of it that is; None: this is no notebook."""
    shell = sys.modules.get("IPython")
    running = None if shell is None else shell.get_ipython()
    return None if running is None or not hasattr(running, "kernel") else _Bar()


class _Bar:
    """Shown after a moment, moved a few times a second, and gone when what was being done is."""

    def __init__(self) -> None:
        self._began_s = self._shown_s = time.monotonic()
        self._place: Any = None

    def __call__(self, what: str, share: float) -> None:
        show: Any = import_module("IPython.display")
        now_s = time.monotonic()
        is_done = share >= 1.0
        if self._place is None and (is_done or now_s - self._began_s < _SOON_S):
            return
        if self._place is not None and not is_done and now_s - self._shown_s < _OFTEN_S:
            return
        self._shown_s = now_s
        shown = show.HTML("" if is_done else f'<progress value="{share:.3f}" max="1"></progress> {escape(what)}')
        if self._place is None:
            self._place = show.display(shown, display_id=True)
        else:
            self._place.update(shown)
