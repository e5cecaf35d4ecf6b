"""The examples of all docstrings, in a folder with the demos, where `study` is the landing and `trace` its requests."""

from __future__ import annotations

import doctest
import pkgutil
from importlib import import_module
from typing import TYPE_CHECKING

import libramen
from libramen import load_study

if TYPE_CHECKING:
    from pathlib import Path

    import pytest
from builders import demo_in


def test_examples_of_docstrings(demo_study: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "saltmarsh").symlink_to(demo_study.parent)
    monkeypatch.chdir(tmp_path)
    study = load_study(demo_in(tmp_path / "landing", "landing"))
    known = {"study": study, "trace": study.trace()}
    failed, tried = [], 0
    for module in pkgutil.walk_packages(libramen.__path__, "libramen."):
        if module.name.endswith("__main__"):
            continue
        found = doctest.testmod(import_module(module.name), extraglobs=known)
        tried += found.attempted
        failed += [module.name] * found.failed
    assert failed == []
    assert tried > 80
