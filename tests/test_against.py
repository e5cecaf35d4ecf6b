"""In a build: what got worse since an earlier comparison, by how much, and beyond luck."""

from __future__ import annotations

import json
import math
import os
import re
import subprocess
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest
from scipy import stats
from typer.testing import CliRunner

from builders import demo_in, write_study
from libramen import ReplayError, against, load_study, read_baseline, repeat
from libramen.cli import run
from libramen.cli.app import app
from libramen.questions.against import _of_means
from libramen.questions.repeats import Spread

if TYPE_CHECKING:
    from libramen import Study

RUN = CliRunner().invoke


def _status(arguments: list[str], capsys: pytest.CaptureFixture[str]) -> tuple[int, str]:
    """As a shell sees it."""
    status = run(arguments)
    return status, capsys.readouterr().out


def _study(folder: Path, *, start: str = "5s", price: float = 0.03, n: int = 3, **objectives: Any) -> Study:
    rng = np.random.default_rng(1)
    columns = {"at_s": np.cumsum(rng.exponential(0.5, 400)), "cpu_s": rng.exponential(0.4, 400)}
    scaled = {"rule": "target", "measure": "cpu", "target": "60%", "every": "10s", "ceiling": 8}
    tiers = {
        "t": {
            "billing": "per_second", "autoscaling": True, "replicas": {"most": 8}, "order_fails": 0.4,
            "order_again": "5s", "sizes": {"small": {"cores": 1, "per_hour": price}},
        }
    }  # fmt: skip
    plans = {"fixed": {"tier": "t", "replicas": n}, "scaled": {"tier": "t", "replicas": 1, "scaling": scaled}}
    wanted = {"p95": "3s", "availability": "90%"} | objectives
    service = {"slots": 4, "backlog": 4, "start": start, "timeout": "6s"}
    folder.mkdir(exist_ok=True)
    return load_study(write_study(folder, columns, tiers, plans, service=service, objectives=wanted))


def _baseline(study: Study, file: Path, *more: str) -> Path:
    shown = RUN(app, ["compare", str(study.path), "--json", "--no-store", *more])
    assert shown.exit_code == 0, shown.output
    file.write_text(shown.stdout)
    return file


def test_the_same_is_not_worse(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    study = _study(tmp_path / "a")
    file = _baseline(study, tmp_path / "b.json", "--repeats", "4")
    for more in ([], ["--repeats", "4"], ["--seed", "0"]):
        status, text = _status(["compare", str(study.path), "--against", str(file), "--no-store", *more], capsys)
        assert status == 0
        assert "Nothing got worse." in text


def test_a_dearer_price_is_told_to_the_cent(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """Three replicas at 0.03 are 65.70 a month, at 0.04 they are 87.60."""
    file = _baseline(_study(tmp_path / "a"), tmp_path / "b.json")
    dearer = _study(tmp_path / "c", price=0.04)
    command = ["compare", str(dearer.path), "--plan", "fixed", "--against", str(file), "--no-store"]
    status, text = _status([*command, "--json"], capsys)
    assert status == 1
    document = json.loads(text)["against"]
    assert document["is_worse"]
    assert document["only_before"] == ["scaled"]
    (worse,) = [one for one in document["changes"] if one["is_worse"]]
    assert (worse["measure"], worse["before"], worse["now"]) == ("month", 65.7, 87.6)
    assert "fixed got worse: a month is 87.60 EUR, was 65.70 EUR." in _status(command, capsys)[1]
    cheaper = _baseline(dearer, tmp_path / "d.json")
    file = tmp_path / "a" / "study.toml"
    assert _status(["compare", str(file), "--against", str(cheaper), "--no-store"], capsys)[0] == 0


def test_an_objective_that_is_missed_now_is_worse(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    file = _baseline(_study(tmp_path / "a"), tmp_path / "b.json")
    fewer = _study(tmp_path / "c", n=1)
    status, text = _status(
        ["compare", str(fewer.path), "--plan", "fixed", "--against", str(file), "--no-store"], capsys
    )
    assert status == 1
    assert "objective p95 is missed, and was met" in text


def test_an_objective_that_is_missed_as_before_is_no_change(tmp_path: Path) -> None:
    study = _study(tmp_path / "a", n=1)
    assert [one.name for one in study.replay("fixed").objectives if not one.met]
    found = against(study.compare(), None, read_baseline(_baseline(study, tmp_path / "b.json")), "b.json")
    assert {one.measure for one in found.changes} == {"availability", "p95_s", "month"}


def test_luck_is_not_worse(tmp_path: Path) -> None:
    """The same study with other seeds differs, and with repeats that is known for luck; a slower start is not luck."""
    study = _study(tmp_path / "a", availability="99.99%", p95="20s")
    file = _baseline(study, tmp_path / "b.json", "--repeats", "25", "--plan", "scaled")
    before = read_baseline(file)
    again = [repeat(study, 25, plans=["scaled"], seed=seed) for seed in (1000, 2000)]
    now = [study.compare(plans=["scaled"], seed=seed) for seed in (1000, 2000)]
    for comparison, repeats in zip(now, again, strict=True):
        found = against(comparison, repeats, before, "b.json")
        assert found.has_repeats
        assert not [one for one in found.changes if one.is_worse and not one.measure.startswith("objective")]
    slow = _study(tmp_path / "c", start="90s", availability="99.99%", p95="20s")
    found = against(slow.compare(plans=["scaled"]), repeat(slow, 25, plans=["scaled"]), before, "b.json")
    worse = {one.measure for one in found.worse}
    assert "availability" in worse
    assert (
        "95 % interval"
        in RUN(
            app,
            ["compare", str(slow.path), "--plan", "scaled", "--repeats", "25", "--against", str(file), "--no-store"],
        ).stdout
    )


@pytest.mark.parametrize("number", range(5))
def test_the_interval_is_that_of_welch(number: int) -> None:
    rng = np.random.default_rng(number)
    one, other = rng.normal(5, 1, 7 + number), rng.normal(5.5, 3, 12)
    found = _of_means("p", "p95_s", Spread.of(one), Spread.of(other), 0.0)
    wanted = stats.ttest_ind(other, one, equal_var=False).confidence_interval(0.95)
    assert (found.low, found.high) == pytest.approx((wanted.low, wanted.high))
    assert found.is_worse == (wanted.low > 0 and np.mean(other) > 1.01 * np.mean(one))


def test_what_is_no_news() -> None:
    """Half a percent dearer, or a hundredth of the error budget: however sure, it is no news."""
    certain = {"deviation": 0.0, "n": 5}
    cases = [
        ("month", 100.0, 100.9, 0.0, False), ("month", 100.0, 101.1, 0.0, True), ("p95_s", 0.4, 0.3, 0.0, False),
        ("availability", 0.99999, 0.999987, 0.001, False), ("availability", 0.99999, 0.99997, 0.001, True),
        ("availability", 0.99, 0.9902, 0.001, False), ("availability", 1.0, 0.9999, 0.0, True),
    ]  # fmt: skip
    for measure, was, now, budget, is_worse in cases:
        spreads = [Spread(mean, low=mean, high=mean, **certain) for mean in (was, now)]
        found = _of_means("p", measure, *spreads, budget)
        assert found.is_worse == is_worse, (measure, was, now)
        assert found.high is not None
        assert math.isclose(found.high, now - was)


def test_strict_is_about_each_plan_that_is_named(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """One of two that misses is enough; unnamed, one that holds is."""
    study = _study(tmp_path, n=1)
    command = ["compare", str(study.path), "--strict", "--no-store"]
    holding = [name for name in ("fixed", "scaled") if study.replay(name).meets_all]
    assert _status(command, capsys)[0] == int(not holding)
    both = [*command, "--plan", "fixed", "--plan", "scaled"]
    assert _status(both, capsys)[0] == int(len(holding) < 2) == 1
    for name in ("fixed", "scaled"):
        assert _status([*command, "--plan", name], capsys)[0] == int(name not in holding)


@pytest.mark.parametrize(
    ("text", "sentence"),
    [
        ("", "this is not JSON"),
        ("[]", "this is no comparison"),
        ('{"plans": [{}]}', "this is no comparison"),
        ('{"plans": []}', "of which none is compared now"),
        ('{"plans": [{"plan": "x"}]}', "this is no comparison"),
        ("[" * 100_000, "this is not JSON"),
    ],
)
def test_files_that_are_no_comparison(tmp_path: Path, text: str, sentence: str) -> None:
    study = _study(tmp_path / "a")
    (tmp_path / "b.json").write_text(text)
    shown = RUN(app, ["compare", str(study.path), "--against", str(tmp_path / "b.json"), "--no-store"])
    assert isinstance(shown.exception, ReplayError)
    assert sentence in str(shown.exception)
    with pytest.raises(ReplayError, match=r"there is no such file; `compare --json > none.json` makes it"):
        read_baseline(tmp_path / "none.json")


def test_other_currencies(tmp_path: Path) -> None:
    study = _study(tmp_path / "a")
    file = _baseline(study, tmp_path / "b.json")
    file.write_text(file.read_text().replace('"EUR"', '"CHF"'))
    with pytest.raises(ReplayError, match="found amounts in CHF and EUR; allowed: one currency"):
        against(study.compare(), None, read_baseline(file), "b.json")


def test_the_page_of_a_build_word_for_word(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The baseline and the script of docs/in-a-build.md, as a shell runs them: all is well; then with a dearer tier."""
    page = (Path(__file__).parents[1] / "docs" / "in-a-build.md").read_text()
    keep, script = re.findall(r"```sh\n(.*?)```", page, re.DOTALL)[:2]
    file = demo_in(tmp_path / "landing", "landing")
    (tmp_path / "hosting.sh").write_text(script)
    monkeypatch.setenv("PATH", f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}")
    monkeypatch.chdir(tmp_path)
    assert subprocess.run(["sh", "-c", keep], check=False).returncode == 0
    fine = subprocess.run(["sh", "hosting.sh"], check=False, capture_output=True, text=True)
    assert (fine.returncode, fine.stdout.count("Nothing got worse.")) == (0, 1), fine.stderr
    file.write_text(file.read_text().replace("per_hour = 0.029", "per_hour = 0.031"))
    worse = subprocess.run(["sh", "hosting.sh"], check=False, capture_output=True, text=True)
    assert worse.returncode == 1
    assert "noon got worse: a month is 148.92 EUR, was 140.16 EUR" in worse.stdout
    assert "| **noon** | **a month** | **140.16 EUR** | **148.92 EUR** |" in (tmp_path / "hosting.md").read_text()
