"""Hypothesis profiles and fixtures that several files of tests use."""

from __future__ import annotations

import gzip
import os
import shutil
import signal
import tempfile
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest
from hypothesis import HealthCheck, settings

from builders import shared_demo
from libramen.engine.compiling import Compilation

if TYPE_CHECKING:
    from collections.abc import Generator

_COMMON = {
    "deadline": None,
    "suppress_health_check": [HealthCheck.too_slow, HealthCheck.function_scoped_fixture],
}
settings.register_profile("short", max_examples=20, derandomize=True, **_COMMON)
settings.register_profile("thorough", max_examples=2000, **_COMMON)


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption("--thorough", action="store_true", help="many more and ever new hypothesis cases")


def pytest_configure(config: pytest.Config) -> None:
    config.addinivalue_line("markers", "thorough: one more of what other cases show; with --thorough only")
    settings.load_profile("thorough" if config.getoption("--thorough") else "short")
    os.environ.setdefault("COLUMNS", "200")
    if not hasattr(config, "workerinput"):  # a worker has that of the first process, and so what others have read
        os.environ["LIBRAMEN_CACHE"] = tempfile.mkdtemp(prefix="libramen-tests-")


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    left_out = [] if config.getoption("--thorough") else [one for one in items if one.get_closest_marker("thorough")]
    config.hook.pytest_deselected(items=left_out)
    items[:] = [one for one in items if one not in left_out]


@pytest.hookimpl(tryfirst=True)
def pytest_sessionstart(session: pytest.Session) -> None:
    """Compile once, before the first test and before there are workers, so that no test depends on what is compiled."""
    if not session.config.option.collectonly:
        Compilation(lambda _what: None).wait()


CHECKED_S = 60
"""So long a test has where nothing is compiled and every index is checked: a thousand times slower, and some are large."""


def _no_longer() -> Generator[None, Any, Any]:
    """It goes as far as it comes in that time, and is left then, as one that was skipped."""
    is_checked = bool(os.environ.get("NUMBA_DISABLE_JIT"))
    if is_checked:
        signal.signal(signal.SIGALRM, lambda *_: pytest.skip(f"left after {CHECKED_S} s, which found nothing"))
        signal.alarm(CHECKED_S)
    try:
        return (yield)
    finally:
        if is_checked:
            signal.alarm(0)


@pytest.hookimpl(wrapper=True)
def pytest_runtest_setup() -> Generator[None, Any, Any]:
    return (yield from _no_longer())


@pytest.hookimpl(wrapper=True)
def pytest_runtest_call() -> Generator[None, Any, Any]:
    return (yield from _no_longer())


def pytest_unconfigure(config: pytest.Config) -> None:
    if not hasattr(config, "workerinput"):
        shutil.rmtree(os.environ["LIBRAMEN_CACHE"], ignore_errors=True)


@pytest.fixture(scope="session")
def demo_study() -> Path:
    """The study file of a demo, written once for the whole run."""
    return shared_demo("saltmarsh")


@pytest.fixture(scope="session")
def hour_study(demo_study: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo's second day from 11:30 to 12:30 only, for what needs no more."""
    folder = tmp_path_factory.mktemp("hour") / "saltmarsh"
    folder.mkdir()
    for name in ("tiers.toml", "cpu.csv"):
        shutil.copy(demo_study.parent / name, folder)
    text = demo_study.read_text().replace('"wednesday.log.gz", ', "")
    month = text.index("[month]")
    (folder / "study.toml").write_text(text[:month] + text[text.index("[service]", month) :])
    with (
        gzip.open(demo_study.parent / "saltmarsh.log.gz", "rt") as day,
        gzip.open(folder / "saltmarsh.log.gz", "wt", compresslevel=1) as hour,
    ):
        hour.writelines(line for line in day if "11:30" <= line.split("2031:", 1)[1][:5] < "12:30")
    return folder / "study.toml"
