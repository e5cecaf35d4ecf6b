"""Break-even: where the cheaper of two plans changes, against a scan, and by hand."""

from __future__ import annotations

import itertools
import json
import math
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest
from typer.testing import CliRunner

from builders import plain_study, write_study
from libramen import BreakEven, ReplayError, StudyError, Trace, break_even, load_study
from libramen.cli.app import app
from libramen.questions.break_even import STEP
from libramen.runs.cases import Case

if TYPE_CHECKING:
    from pathlib import Path

    from libramen import Study

SLOPES = {
    "fixed": {"billing": "per_hour", "per_hour": 0.2},
    "cheap": {"billing": "per_hour", "per_hour": 0.01},
    "by_use": {"billing": "per_request", "per_core_second": 0.00005, "per_million_requests": 3},
    "floor": {"billing": "per_request", "per_million_requests": 400, "least_per_month": 25},
    "sent": {"billing": "per_hour", "per_hour": 0.02, "egress_per_gb": 20.0, "free": {"egress_gb": 2}},
    "steps": {"billing": "per_hour", "per_hour": 0.001, "per_gb_steps": True},
}
"""Tiers: their money against load has another form each."""


def _tier(said: dict[str, Any]) -> dict[str, Any]:
    said = dict(said)
    size = {"cores": 2} | ({"per_hour": said.pop("per_hour")} if "per_hour" in said else {})
    if said.pop("per_gb_steps", False):
        said["egress_per_gb"] = [{"up_to": 20, "price": 3}, {"up_to": 120, "price": 0.01}, {"price": 2}]
    return {"replicas": {"least": 1, "most": 20}, "autoscaling": True, "sizes": {"small": size}} | said


def _study(folder: Path, number: int = 0, n: int = 400, cpu: float = 0.5, **more: Any) -> Study:
    rng = np.random.default_rng(number)
    at = np.sort(rng.uniform(0, 7200, n))
    columns = {"at_s": at, "cpu_s": rng.exponential(cpu, n), "wait_s": rng.exponential(0.1, n)}
    columns["bytes_out"] = rng.exponential(1e5, n)
    scaling = {"rule": "target", "measure": "cpu", "target": "50%", "every": "60s", "ceiling": 20, "floor": 1}
    by_time = more.pop("by_time", None)
    tiers = {
        name: _tier(
            said if by_time is None or name not in {"fixed", "cheap"} else said | {"per_hour": round(by_time, 8)}
        )
        for name, said in SLOPES.items()
    }
    plans = {name: {"tier": name, "replicas": 2} for name in SLOPES} | {"scaled": {"tier": "cheap", "scaling": scaling}}
    tables = {"service": {"slots": 8, "timeout": "2m"}, "objectives": {"p95": "3s", "availability": "99%"}} | more
    return load_study(write_study(folder, columns, tiers, plans, **tables))


def _scanned(study: Study, pair: tuple[str, str], trace: Trace, low: float, high: float) -> list[float]:
    """Loads of a scan of 200 between which the cheaper one changes."""
    loads = np.geomspace(low, high, 200)
    sign = []
    for load in loads.tolist():
        one, other = (
            Case.of(study, study.plan(name), scale=load).figures(trace).bill.month for name in pair
        )  # fmt: skip
        sign.append(int(one > other) - int(one < other))
    at = [k for k, each in enumerate(sign) if each]
    return [math.sqrt(loads[a] * loads[b]) for a, b in itertools.pairwise(at) if sign[a] != sign[b]]


@pytest.mark.parametrize("number", [9])
def test_roots_are_those_of_a_scan(tmp_path: Path, number: int) -> None:
    """Of a random pair each root lies within 1 % of one of a scan, and the other way round.

    One is paid by use, the other by time, at a price at which both cost about the same at some load. Steps of the scan
    are 1 % wide, too. Roots of it that lie inside one step of the grid together are left out.
    """
    rng = np.random.default_rng(number)
    pair = str(rng.choice(["by_use", "sent", "steps", "floor"])), str(rng.choice(["fixed", "scaled"]))
    study = _study(tmp_path, number, n=200, cpu=10)
    at = Case.of(study, study.plan(pair[0]), scale=float(rng.uniform(0.3, 3)))
    study = _study(tmp_path, number, n=200, cpu=10, by_time=float(at.figures(study.trace()).bill.month) / (2 * 730))
    found = break_even(study, between=pair, loads=(0.5, 4.0))
    roots = [one.factor for one in found.crossings]
    scan = _scanned(study, pair, study.trace(), *found.loads)
    assert scan
    close = [max(one, other) / min(one, other) < STEP for one in scan for other in scan if one != other]
    if not any(close):
        assert len(roots) == len(scan)
    for mine in roots:
        assert any(abs(math.log(root / mine)) <= math.log(1.01 * 1.01) for root in scan), (mine, scan)


def test_three_crossings(tmp_path: Path) -> None:
    """Egress of a study in steps, 3 up to 20 GB, 0.01 up to 120 GB, then 2, against 1.1 a GB: by hand.

    100 requests an hour of 1 MB are 73 GB a month at load 1: of f times that `even` costs 80.3 f, `steps` 219 f up to
    f = 0.274 (20 GB), 60 + 0.73 (f - 0.274) up to f = 1.64 (120 GB), then 61 + 146 (f - 1.644). With 10 more a month
    for `even` it is cheaper from 219 f = 80.3 f + 10, f = 0.0721, on; then `steps` from 60 - 0.2 + 0.73 f =
    80.3 f + 10, f = 0.6258, on; then `even` again from 61 + 146 f - 240 = 80.3 f + 10, f = 2.877, on.
    """
    n = 7300
    columns = {"at_s": (np.arange(n) + 0.5) * 36, "cpu_s": np.full(n, 0.01), "bytes_out": np.full(n, 1e6)}
    size = {"small": {"cores": 1, "per_hour": 0}}
    tiers = {
        "stepped": {"billing": "per_hour", "sizes": size, "egress_per_gb": _tier(SLOPES["steps"])["egress_per_gb"]},
        "level": {
            "billing": "per_hour",
            "sizes": size,
            "egress_per_gb": 1.1,
            "fees": [{"name": "line", "per_month": 10}],
        },
    }
    plans = {"steps": {"tier": "stepped", "replicas": 1}, "even": {"tier": "level", "replicas": 1}}
    file = write_study(tmp_path, columns, tiers, plans, service={"slots": 50}, objectives={"month": 150})
    study = load_study(file)
    found = break_even(study, loads=(0.05, 4))
    assert [(one.below, one.above) for one in found.crossings] == [
        ("steps", "even"),
        ("even", "steps"),
        ("steps", "even"),
    ]
    assert [one.factor for one in found.crossings] == pytest.approx([0.0721, 0.6258, 2.877], rel=0.03)
    assert [one.missed for one in found.crossings] == [((), ()), ((), ()), (("month",), ("month",))]
    for one in found.crossings:
        assert one.month[0] >= one.month[1] == pytest.approx(one.month[0], rel=0.04)
    said = found._repr_html_()
    assert "steps is the cheaper up to 0.07" in said
    assert found.cheapest[-1].plan is None
    (axes,) = found.plot().axes
    assert [text.get_text() for text in axes.texts[-3:]] == [f"{one.factor:.3g}" for one in found.crossings]


def test_plans_that_cost_the_same_and_that_never_change(tmp_path: Path) -> None:
    np.savetxt(
        tmp_path / "t.csv", np.c_[np.arange(200.0), np.full(200, 0.1)], header="at_s,cpu_s", delimiter=",", comments=""
    )
    study = plain_study(tmp_path, {"files": "t.csv"}, {"a": {}, "b": {}, "c": {"replicas": 2}})
    found = break_even(load_study(study), loads=(0.5, 2))
    assert found.same == (("a", "b"),)
    assert found.crossings == ()
    assert found.of("a", "c") == ()
    assert "a and b cost the same" in found._repr_html_()
    assert "a is the cheaper of a and c" in found._repr_html_()
    assert {stretch.plan for stretch in found.cheapest} == {"a"}


def test_loads_at_which_both_cost_the_same_are_no_crossing(tmp_path: Path) -> None:
    """A price of the first 40 GB is that of the other plan, and beyond it is dearer: from then on, and never before."""
    columns = {"at_s": np.arange(100) * 36.0, "cpu_s": np.full(100, 0.01), "bytes_out": np.full(100, 1e6)}
    sold = {"billing": "per_hour", "sizes": {"small": {"cores": 1, "per_hour": 0.01}}}
    tiers = {
        "level": sold | {"egress_per_gb": 1},
        "stepped": sold | {"egress_per_gb": [{"up_to": 40, "price": 1}, {"price": 2}]},
    }
    plans = {name: {"tier": name} for name in tiers}
    found = break_even(load_study(write_study(tmp_path, columns, tiers, plans, service={"slots": 9})), loads=(0.1, 3))
    assert found.crossings == ()
    assert found.same == ()
    assert "level is the cheaper of level and stepped" in found._repr_html_()


def test_it_is_cut_and_says_so(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """No load has more requests than it may have."""
    monkeypatch.setattr("libramen.questions.break_even._MOST_REQUESTS", 500)
    found = break_even(_study(tmp_path), between=["fixed", "sent"], loads=(0.5, 3))
    assert found.cut_at == pytest.approx(STEP**2)
    assert max(point.factor for line in found.lines for point in line.points) <= 1.25
    assert "Loads of more than 1.21 times the trace&#x27;s were not looked at" in found._repr_html_()


def test_the_command(tmp_path: Path) -> None:
    study = _study(tmp_path)
    run, file = CliRunner().invoke, str(study.path)
    picture = tmp_path / "b.png"
    command = ["breakeven", file, "--between", "fixed,sent", "--loads", "0.3..8", "--no-store"]
    shown = run(app, [*command, "--plot", str(picture)])
    assert shown.exit_code == 0, shown.output
    found = break_even(study, between=["fixed", "sent"], loads=(0.3, 8))
    assert isinstance(found, BreakEven)
    assert found.crossings
    assert "fixed and sent: sent is the cheaper up to" in shown.stdout
    assert picture.stat().st_size > 10_000
    document = json.loads(run(app, [*command, "--json"]).stdout)
    assert document == json.loads(json.dumps(found.to_dict()))
    assert document["crossings"][0]["factor"] == found.crossings[0].factor


@pytest.mark.parametrize(
    ("asked", "sentence"),
    [
        ({"between": ["fixed"]}, r"found one plan, 'fixed'; allowed: two or more"),
        ({"between": ["fixed", "none"]}, r"there is no plan 'none'"),
        ({"between": ["fixed", "fixed"]}, r"two are called 'fixed'"),
        ({"loads": (2, 1)}, r"loads: found 2 to 1; allowed: two that rise"),
        ({"loads": (0, 1)}, r"loads: found 0 to 1; allowed"),
        ({"loads": (1.02, 1.05)}, r"there is no load of the grid; allowed: 10 % apart"),
    ],
)
def test_what_cannot_be_asked(tmp_path: Path, asked: dict[str, Any], sentence: str) -> None:
    with pytest.raises((StudyError, ReplayError), match=sentence):
        break_even(_study(tmp_path), **asked)
