"""The package as a whole: its public names, what it imports, its examples."""

from __future__ import annotations

import inspect
import os
import runpy
import subprocess
import sys
from importlib import import_module
from pathlib import Path
from typing import get_type_hints

import pytest

import libramen

TESTS = Path(__file__).parent
EXAMPLES = sorted((Path(__file__).parent.parent / "examples").glob("*.py"))


def test_public_names_are_exactly_the_listed_ones() -> None:
    """All of them can be imported, and `dir` lists no other."""
    assert dir(libramen) == sorted(libramen.__all__)
    for name in libramen.__all__:
        assert getattr(libramen, name) is not None
    with pytest.raises(AttributeError, match="attribute nothing"):
        _ = libramen.nothing


def test_rooms_do_not_shadow_public_names() -> None:
    for room in ("trace", "study", "engine", "bill", "outcome", "questions", "trust", "draw", "cli", "demo"):
        import_module(f"libramen.{room}")
        assert room not in libramen.__all__


def _imported(code: str) -> set[str]:
    done = subprocess.run(
        [sys.executable, "-c", f"{code}\nimport sys; print('\\n'.join(sys.modules))"],
        capture_output=True, text=True, check=True,
    )  # fmt: skip
    return {name for name in done.stdout.split() if name.startswith("libramen") or "." not in name}


HEAVY = {"numpy", "pandas", "numba", "pyarrow", "matplotlib", "pydantic", "scipy", "rich"}


def test_import_libramen_loads_next_to_nothing() -> None:
    found = _imported("import libramen")
    assert {name for name in found if name.startswith("libramen")} == {"libramen"}
    assert not found & HEAVY


def test_help_loads_next_to_nothing() -> None:
    found = _imported("from libramen.cli import run; run(['--help'])")
    assert {name for name in found if name.startswith("libramen")} == {
        "libramen", "libramen._version", "libramen.base", "libramen.base.errors", "libramen.cli", "libramen.cli.app", "libramen.cli.common", "libramen.cli.decide", "libramen.cli.grouped", "libramen.cli.handing_over", "libramen.cli.replay", "libramen.cli.trace",
    }  # fmt: skip
    assert not found & HEAVY


def test_a_comparison_needs_no_pandas(hour_study: Path) -> None:
    found = _imported(f"from libramen.cli import run; run(['compare', {str(hour_study)!r}, '--json'])")
    assert not found & {"pandas", "matplotlib"}


@pytest.mark.parametrize("script", EXAMPLES, ids=lambda path: path.stem)
def test_examples_print_what_is_recorded(
    script: Path,
    demo_study: Path,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    capsys: pytest.CaptureFixture[str],
) -> None:
    """Each is under 40 lines; its output stands beside it."""
    assert len(script.read_text().splitlines()) < 40
    (tmp_path / "saltmarsh").symlink_to(demo_study.parent)
    monkeypatch.chdir(tmp_path)
    runpy.run_path(str(script), run_name="__main__")
    assert capsys.readouterr().out == script.with_suffix(".out").read_text()


def test_there_are_examples() -> None:
    assert len(EXAMPLES) == 5


def test_the_kernel_runs_without_being_compiled() -> None:
    """NUMBA_DISABLE_JIT=1 makes it ordinary Python that checks every index, for debuggers."""
    code = """
from builders import both, make_plan, make_trace
from libramen import Service
from libramen.engine.kernel import reach
from libramen.engine.kernel.state import KernelState
from libramen.engine.border.records import Chunk, Results, Signal
from libramen.engine.border.gather import spec_of
from libramen.study.system import System
import numpy as np

assert reach.CHECKED
service = Service(slots=2, backlog=1, retries=1, retry_after=0.5, retry_jitter=0.5, timeout=3)
both(make_trace([0.0, 0, 0, 0, 1, 2], cpu=1, wait=0.5, span_s=20), service, make_plan(replicas=2, balancer="random"))
def plane():
    results = Results.of(40)
    state = KernelState(spec_of(System.of(Service(slots=2), make_plan()), seed=0), results)
    state.hand_in(Chunk(np.arange(40.0) / 10, np.full(40, 0.3), np.zeros(40)), np.array([0.0, 100]))
    state.servers[0].add(1, 0.0, warm=True)
    return state, results

(one, of_one), (other, of_other) = plane(), plane()  # both alive, taking turns
assert one.advance(1.0) is other.advance(2.0) is Signal.CONTROL
assert one.advance(np.inf) is other.advance(np.inf) is Signal.ENDED
assert of_one.latency_s.all() and (of_one.latency_s == of_other.latency_s).all()

try:
    reach.node_at(max(reach.ARRAYS), 10**6)
except IndexError:
    print("checked")
"""
    done = subprocess.run(
        [sys.executable, "-c", code], env={**os.environ, "NUMBA_DISABLE_JIT": "1", "PYTHONPATH": str(TESTS)},
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.stdout == "checked\n", done.stderr


def test_hints_of_everything_public_can_be_had() -> None:
    """Of functions, methods and properties: what a signature names is there, also where it takes long to load."""
    for name in libramen.__all__:
        public = getattr(libramen, name)
        own = vars(public).items() if inspect.isclass(public) else ()
        inside = [value for key, value in own if key == "__init__" or not key.startswith("_")]
        for each in (public, *inside):
            function = getattr(each, "fget", None) or getattr(each, "func", None) or getattr(each, "__func__", each)
            if inspect.isfunction(function) and function.__module__.startswith("libramen."):
                get_type_hints(function)
