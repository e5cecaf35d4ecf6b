"""`python:module:name`: a rule of the user's own."""

from __future__ import annotations

import importlib.util
import inspect
import re
import sys
from collections.abc import Callable
from decimal import Decimal
from functools import lru_cache, partial
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Final, Self

import numpy as np
from pydantic import BeforeValidator, Field, ModelWrapValidatorHandler, PrivateAttr, model_validator

from libramen.base import units
from libramen.base.errors import ReplayError, StudyError, UnitError
from libramen.rules.scaling.rule import Needs, Observation, PeriodicRule, RuleSetting, Wanted

if TYPE_CHECKING:
    from types import ModuleType

PREFIX: Final = "python:"
_IMPORT_PATH: Final = re.compile(rf"{PREFIX}[A-Za-z_]\w*(\.[A-Za-z_]\w*)*:[A-Za-z_]\w*")


def _import_path(value: Any) -> str:
    if not isinstance(value, str) or not _IMPORT_PATH.fullmatch(value):
        raise UnitError(value, f'"{PREFIX}module:name", the name of a function or class in a Python module')
    return value


def _with_floats(value: Any) -> Any:
    """Numbers of a study are read as decimals, for money; code expects floats."""
    if isinstance(value, Decimal):
        return float(value)
    if isinstance(value, dict):
        return {key: _with_floats(one) for key, one in value.items()}
    return [_with_floats(one) for one in value] if isinstance(value, list) else value


class Custom(PeriodicRule):
    """Ask a function, or an instance of a class that can be called, made anew for each replay.

    It is given an `Observation` and returns how many replicas it wants; floor, ceiling and pauses hold as for every
    rule. A function keeps what it wants to remember in `seen.state`, a class in itself. In a study the module stands
    beside the study file, and is never looked for anywhere else. It is imported when a plan that asks it is replayed,
    not before, and only with consent: a study that somebody else wrote must not run code without being asked. In Python
    the function or class itself may be given, which is consent enough.

    Example:
        A file `quay.py` beside the study, used with `rule = "python:quay:by_queue"`::

            def by_queue(seen):
                return seen.have + seen.waiting // 10

        In Python: `Custom(rule=by_queue, every="20s")`.
    """

    tag: ClassVar[str] = PREFIX

    rule: Annotated[str, BeforeValidator(_import_path)] = Field(description='"python:module:name"')
    arguments: Annotated[dict[str, Any], BeforeValidator(_with_floats)] = Field(
        {}, description="what the function or class is given by name beside that"
    )
    # Neither is a key, so nothing that is written, varied or replaced can set them.
    _function: Callable[..., Any] | None = PrivateAttr(None)
    _beside: tuple[Path, bool] | None = PrivateAttr(None)  # where the module stands, and whether it may be run

    @property
    def needs(self) -> Needs:
        """It may look at all there is."""
        return Needs(latency=True, rate=True)

    @model_validator(mode="wrap")
    @classmethod
    def _takes_a_function(cls, values: Any, handler: ModelWrapValidatorHandler[Self]) -> Self:
        function = values.get("rule") if isinstance(values, dict) else None
        if not callable(function):
            return handler(values)
        named = function if hasattr(function, "__qualname__") else type(function)
        name = re.sub(r"\W", "_", named.__qualname__.rpartition(".")[2])
        made = handler({**values, "rule": f"{PREFIX}{named.__module__}:{name}"})
        made._function = function
        return made

    def replace(self, **values: Any) -> Self:
        """A copy with other values; the function that was given stays, and what was said of running code."""
        changed = super().replace(**values)
        if "rule" not in values:
            changed._function = self._function
        if changed._function is None:
            changed._beside = self._beside
        return changed

    def beside(self, folder: Path, *, trusted: bool) -> Self:
        """The rule of a study in a folder; see `AnyRule.beside`."""
        if self._function is not None or self._beside is not None:
            return self
        placed = self.model_copy()
        placed._beside = (folder, trusted)
        return placed

    def may_run(self) -> None:
        """See that it may be run, and that there is something to run.

        Raises:
            StudyError: without consent, or there is no such module beside the study.
        """
        if self._function is not None:
            return
        folder, trusted = self._beside or (Path(), False)
        path = self._path(folder)
        if self._beside is None or not path.is_file():
            where = (
                "there is no study that it could stand beside" if self._beside is None else f"{folder} has no such file"
            )
            raise StudyError(
                f"rule: found {self.rule!r}, which is looked for in {path.name} beside the study, and {where}; "
                "allowed: a module beside the study, in Python also a function"
            )
        if not trusted:
            raise StudyError(
                f"rule: {self.rule!r} runs code that came with the study, {path}, and that was not allowed; "
                "allowed: --trust-code, in Python load_study(path, trust_code=True), once you have read it"
            )

    def _path(self, folder: Path) -> Path:
        return folder.joinpath(*self.rule.split(":")[1].split(".")).with_suffix(".py")

    def _make(self) -> Callable[[Observation], Any]:
        """The function, or a new instance of the class."""
        self.may_run()
        found: Any = self._function
        if found is None:
            assert self._beside is not None
            _, module_name, name = self.rule.split(":")
            path = self._path(self._beside[0])
            try:
                found = getattr(_from_file(module_name, path.resolve(), path.stat().st_mtime_ns), name, None)
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

    def begin(self, setting: RuleSetting) -> _Asked:  # noqa: ARG002  (what it wants to know it is given as arguments)
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
