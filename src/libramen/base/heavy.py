"""Types of packages that take long to load, for annotations: each is loaded when somebody looks at it.

`from libramen.base import heavy`, then `heavy.DataFrame`. So `typing.get_type_hints` works, and nothing heavy is
imported before it is needed.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any, Final

if TYPE_CHECKING:
    from matplotlib.figure import Figure as Figure  # noqa: PLC0414  (is named from here)
    from pandas import DataFrame as DataFrame  # noqa: PLC0414
    from pyarrow import Table as Table  # noqa: PLC0414

_HOMES: Final = {"DataFrame": "pandas", "Figure": "matplotlib.figure", "Table": "pyarrow"}


def __getattr__(name: str) -> Any:
    if name not in _HOMES:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    return getattr(import_module(_HOMES[name]), name)
