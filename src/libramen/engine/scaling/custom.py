"""`python:module:name`: a rule of the user's own."""

from __future__ import annotations

import importlib
import importlib.util
import inspect
import re
import sys
from functools import lru_cache, partial
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Final, Self

import numpy as np
from pydantic import BeforeValidator, Field, model_validator

from libramen import units
from libramen.engine.scaling.rule import Observation, PeriodicRule, Setting, Wanted
from libramen.errors import ReplayError, StudyError, UnitError

if TYPE_CHECKING:
    from collections.abc import Callable
    from types import ModuleType

PREFIX: Final = "python:"
_IMPORT_PATH: Final = re.compile(rf"{PREFIX}[A-Za-z_][\w.]*:[A-Za-z_]\w*")


def _import_path(value: Any) -> str:
    if not isinstance(value, str) or not _IMPORT_PATH.fullmatch(value):
        raise UnitError(value, f'"{PREFIX}module:name", the name of a function or class in a Python module')
    return value


class Custom(PeriodicRule):
    """Ask a function, or an instance of a class that can be called, made anew for each replay.

    It is given an `Observation` and returns how many replicas it wants; floor, ceiling and pauses hold as for every
    rule. A function keeps what it wants to remember in `seen.state`, a class in itself. The module is looked for in the
    folder of the study file, then where Python looks.

    Example:
        A file `quay.py` beside the study, used with `rule = "python:quay:by_queue"`::

            def by_queue(seen):
                return seen.have + seen.waiting // 10
    """

    tag: ClassVar[str] = PREFIX

    rule: Annotated[str, BeforeValidator(_import_path)] = Field(description='"python:module:name"')
    arguments: dict[str, Any] = Field({}, description="what the function or class is given by name beside that")
    folder: str = Field("", exclude=True, description="where the module is looked for first")

    @property
    def sees_latency(self) -> bool:
        """It may look at latencies."""
        return True

    @model_validator(mode="after")
    def _can_be_called(self) -> Self:
        self._make()
        return self

    def _make(self) -> Callable[[Observation], Any]:
        """The function, or a new instance of the class."""
        _, module_name, name = self.rule.split(":")
        try:
            found = getattr(_import(module_name, self.folder), name, None)
        except Exception as error:  # noqa: BLE001  (whatever a user's module does)
            raise StudyError(f"rule: {self.rule!r} cannot be imported: {_what(error)}") from None
        if not callable(found):
            raise StudyError(f"rule: found {self.rule!r}, but {module_name} has no function or class {name!r}")
        if not inspect.isclass(found):
            return partial(found, **self.arguments)
        try:
            made = found(**self.arguments)
        except Exception as error:  # noqa: BLE001  (whatever a user's module does)
            raise StudyError(f"rule: {self.rule!r} cannot be made with {self.arguments}: {_what(error)}") from None
        if not callable(made):
            raise StudyError(f"rule: {self.rule!r} is a class without a method __call__(self, seen)")
        return made

    def begin(self, setting: Setting) -> _Asked:  # noqa: ARG002  (what it wants to know it is given as arguments)
        """A function or instance of this replay's own."""
        return _Asked(self.rule, self._make())


class _Asked:
    def __init__(self, name: str, function: Callable[[Observation], Any]) -> None:
        self._name, self._function = name, function

    def wanted(self, seen: Observation) -> Wanted:
        """What the user's rule returns, if that is a number of replicas.

        Raises:
            ReplayError: it fails, or returns something else.
        """
        try:
            answer = self._function(seen)
        except Exception as error:
            raise ReplayError(f"{self._where(seen)}: it failed with {_what(error)}; it saw {_shown(seen)}") from error
        is_whole = isinstance(answer, int | np.integer) or (isinstance(answer, float) and answer.is_integer())
        if isinstance(answer, bool | np.bool_) or not is_whole or answer < 0:
            raise ReplayError(
                f"{self._where(seen)}: it returned {answer!r}; allowed: a whole number of replicas, 0 or more; "
                f"it saw {_shown(seen)}"
            )
        return Wanted(int(answer))

    def _where(self, seen: Observation) -> str:
        local = seen.local_time
        when = f"{units.show_duration(seen.at_s)} after the start"
        return f"rule {self._name!r} at {when}" + ("" if local is None else f" ({local:%a %d %b %H:%M:%S})")


def _shown(seen: Observation) -> str:
    measures = {name: seen.measures.get(name) for name in ("cpu", "in_progress", "rate", "waiting", "p95")}
    shown = ", ".join(f"{name} = {'none' if value is None else f'{value:.4g}'}" for name, value in measures.items())
    return f"ready = {seen.ready}, coming = {seen.coming}, waiting now = {seen.waiting}, and of its window {shown}"


def _what(error: Exception) -> str:
    return f"{type(error).__name__}: {error}"


def _import(name: str, folder: str) -> ModuleType:
    """Import a module, looked for in a folder first: two studies may each have a `rules.py` of their own."""
    path = Path(folder, *name.split(".")).with_suffix(".py")
    if not folder or not path.is_file():
        return importlib.import_module(name)
    return _from_file(name, path.resolve(), path.stat().st_mtime_ns)


@lru_cache
def _from_file(name: str, path: Path, written_ns: int) -> ModuleType:  # noqa: ARG001  (a changed file is another one)
    spec = importlib.util.spec_from_file_location(name, path)
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    sys.path.insert(0, str(path.parent))  # for what it imports itself
    try:
        spec.loader.exec_module(module)
    finally:
        sys.path.remove(str(path.parent))
    return module
