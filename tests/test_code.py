"""What is kept is kept for the code that made it: a digest sees every file that this code rests on."""

from __future__ import annotations

import ast
import shutil
import subprocess
import sys
from pathlib import Path
from typing import TYPE_CHECKING

import pytest

import libramen
from libramen.base import code

if TYPE_CHECKING:
    from collections.abc import Iterator

ROOT = Path(libramen.__file__).parent
KEPT = {
    "libramen.engine.kernel.advance": "from libramen.engine.kernel.advance import advance_of; advance_of(lean=True)",
    "libramen.engine.kernel.counting": "import libramen.engine.kernel.counting",
    "libramen.load.load": "loaded.trace(cache=False)",
    "libramen.runs.pool": "from libramen.runs.pool import *; list(run_cases(cases(), Pool(trace)))",
}
"""Who keeps something, and what makes it."""


def _imports(node: ast.AST) -> Iterator[str]:
    for child in ast.iter_child_nodes(node):
        if isinstance(child, ast.Import):
            yield from (alias.name for alias in child.names)
        elif isinstance(child, ast.ImportFrom):
            assert child.module is not None
            yield child.module
            yield from (f"{child.module}.{alias.name}" for alias in child.names)
        elif not (isinstance(child, ast.If) and isinstance(child.test, ast.Name) and child.test.id == "TYPE_CHECKING"):
            yield from _imports(child)


def test_imports_are_those_that_a_parser_finds() -> None:
    for path in ROOT.rglob("*.py"):
        assert set(code._imports(path)) == set(_imports(ast.parse(path.read_bytes()))), path


_SAMPLED = 24
"""One file in so many is touched; of all others it is known what rests on them."""


@pytest.fixture(scope="module")
def touched(tmp_path_factory: pytest.TempPathFactory) -> dict[str, set[str]]:
    """Of each file of the package, in turn, whose digests change when something is added to it."""
    copy = tmp_path_factory.mktemp("copy") / "libramen"
    shutil.copytree(ROOT, copy, ignore=shutil.ignore_patterns("__pycache__"))
    return _touched(copy)


def _touched(copy: Path) -> dict[str, set[str]]:
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(code, "_ROOT", copy)
        before, changed = _digests(), {}
        rests_on = {who: set(code.modules_of(who)) for who in KEPT}
        for number, path in enumerate(sorted(copy.rglob("*.py"))):
            module = ".".join(["libramen", *path.relative_to(copy).with_suffix("").parts]).removesuffix(".__init__")
            changed[module] = {who for who in KEPT if module in rests_on[who]}
            if number % _SAMPLED == 0:
                text = path.read_bytes()
                path.write_bytes(text + b"\n# touched\n")
                assert changed[module] == {who for who, digest in _digests().items() if digest != before[who]}, module
                path.write_bytes(text)
        assert _digests() == before
    code.digest_of.cache_clear()
    return changed


def _digests() -> dict[str, str]:
    code.digest_of.cache_clear()
    return {who: code.digest_of(who) for who in KEPT}


@pytest.mark.parametrize("who", KEPT)
def test_nobody_forgets_a_file(who: str, touched: dict[str, set[str]], hour_study: Path) -> None:
    """Whatever is loaded when something is made that is kept is seen by the digest that it is kept by."""
    script = f"""
import sys, libramen
study = {str(hour_study)!r}
def cases():
    from libramen.runs.cases import Case
    told = libramen.load_study(study)
    return [Case.of(told, told.plans[name]) for name in ("steady", "lamp", "restless")]
loaded = libramen.load_study(study) if "loaded" in {KEPT[who]!r} else None
trace = libramen.load_study(study).trace() if "cases()" in {KEPT[who]!r} else None
before = set(sys.modules) if loaded or trace else set()
{KEPT[who]}
print(*[name for name in sys.modules if name.partition(".")[0] == "libramen" and name not in before])
"""
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
    loaded = set(done.stdout.split())
    seen = {module for module, changed in touched.items() if who in changed}
    assert len(loaded) > 15
    assert loaded <= seen


def test_what_is_not_imported_is_not_seen(touched: dict[str, set[str]]) -> None:
    """Or everything would be made anew whenever a sentence changes."""
    assert not touched["libramen.cli.app"]
    assert "libramen.engine.kernel.advance" not in touched["libramen.outcome.findings"]
    assert touched["libramen.engine.kernel.bins"] >= {"libramen.engine.kernel.counting", "libramen.runs.pool"}
    assert touched["libramen.trace.formats.spans"] >= {"libramen.load.load"}
    assert touched["libramen.base.units"] == set(KEPT)


def test_versions_of_other_packages_are_seen(monkeypatch: pytest.MonkeyPatch) -> None:
    before = _digests()
    monkeypatch.setattr(code, "version", lambda _name: "1000")
    assert all(digest != before[who] for who, digest in _digests().items())
    code.digest_of.cache_clear()


def test_every_cache_and_store_uses_it() -> None:
    """No other sum over the text of code is made anywhere."""
    for path in ROOT.rglob("*.py"):
        text = path.read_text()
        assert path.name == "code.py" or not ("__file__" in text and ("crc32" in text or "blake2b" in text)), path


def test_it_compiles_where_warnings_are_errors(tmp_path: Path) -> None:
    """In an empty environment, as for a user who runs Python with `-W error`; the small loops stand for the large."""
    script = "import libramen.engine.kernel.counting, libramen.engine.kernel.reach as r; print(len(r.LEAN))"
    environment = {"NUMBA_CACHE_DIR": str(tmp_path), "PATH": "", "LIBRAMEN_CACHE": str(tmp_path)}
    command = [sys.executable, "-W", "error", "-c", script]
    done = subprocess.run(command, check=False, capture_output=True, text=True, env=environment)
    assert done.returncode == 0, done.stderr[-2000:]


def test_records_are_never_taken_for_one_another() -> None:
    """The compiler would take a full record for a lean one, which lacks fields; it warns, which may be an error."""
    from libramen.engine.kernel import reach

    if reach.CHECKED:
        pytest.skip("nothing is compiled")
    full, lean = reach._types("WORLD")
    assert full != lean
    assert full.can_convert_to(None, lean) is None
    assert lean.can_convert_to(None, full) is None
