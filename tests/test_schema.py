"""JSON Schema of studies and catalogues: an editor's validator accepts what is right and marks what is not."""

from __future__ import annotations

import copy
import datetime as dt
import json
import re
import tomllib
from pathlib import Path
from typing import Any

import pytest
import tomli_w
from jsonschema import Draft202012Validator
from typer.testing import CliRunner

from libramen import OutputError, StudyError, load_study
from libramen.cli.app import app
from libramen.study.catalogue import read_catalogue
from libramen.study.schema import schema_of

SHIPPED = Path(__file__).parents[1] / "src" / "libramen" / "demo"
DOCS = Path(__file__).parents[1] / "docs"

STUDY: dict[str, Any] = {
    "study": {"name": "a day", "currency": "EUR", "tax": "21%", "fees": [{"name": "line", "per_month": 5}]},
    "trace": {"files": "t.csv", "shape": [{"scale": 2}]},
    "service": {"slots": 4, "start": "5s", "timeout": "6s"},
    "objectives": {"p95": "300ms", "availability": "99%", "routes": {"/a": {"p95": "1s"}}},
    "month": {"days": [{"day": "2031-06-05", "times": 1}, {"day": "other", "times": 29}]},
    "account": {"replicas": 20},
    "tiers": {
        "t": {
            "billing": "per_hour", "autoscaling": True, "provision": {"p50": "30s", "p95": "2m"},
            "egress_per_gb": [{"up_to": 10, "price": 0.09}, {"price": "0.07"}],
            "replicas": {"most": 9}, "health": {"every": "10s"},
            "sizes": {"s": {"cores": 1, "per_hour": "0.03", "memory": "2 GB"}},
        },
        "u": {"billing": "per_request", "per_core_second": 0.00002, "sizes": {"s": {"cores": 0.5}}},
    },
    "plans": {
        "p": {
            "tier": "t", "size": "s", "replicas": 2, "service": {"slots": 8},
            "scaling": {"rule": "target", "measure": "cpu", "target": "60%", "every": "20s"},
            "rollouts": [{"at": "12:00", "strategy": "rolling", "keep": "all"}],
            "faults": [{"kind": "crash", "at": "13:00", "replica": "any"}],
            "committed": [{"replicas": 2, "off": "30%"}],
        },
        "q": {"tier": "u", "size": "s"},
    },
    "search": {"more": {"plan": "p", "replicas": {"from": 2, "to": 9}}},
}  # fmt: skip
"""Right, as far as nobody looks for the trace."""

MISTAKES: list[tuple[str, Any]] = [
    ("study.curency", "EUR"),
    ("study.tax", "121%"),
    ("study.fees.0.per_year", 3),
    ("study.fees.0.name", None),
    ("trace.files", []),
    ("trace.shape.0.stretch", 2),
    ("trace.settle", "5 minutes"),
    ("service.slots", 0),
    ("service.slots", None),
    ("service.on_timeout", "stop"),
    ("service.start", "6 parsecs"),
    ("objectives.p95", 300),
    ("objectives.p96", "1s"),
    ("objectives.availability", "100.1%"),
    ("objectives.routes./a.month", 3),
    ("month.days.0.times", -1),
    ("account.replicas", 1.5),
    ("tiers.t.billing", "per_week"),
    ("tiers.t.billing", None),
    ("tiers.t.provision", {"p50": "30s", "p94": "2m"}),
    ("tiers.t.egress_per_gb.0.upto", 3),
    ("tiers.t.sizes.s.per_hour", None),
    ("tiers.t.sizes.s.per_hour", "-0.03"),
    ("tiers.t.sizes.s.core", 1),
    ("tiers.t.sizes", {}),
    ("tiers.u.per_core_second", None),
    ("tiers.t.health.every", None),
    ("plans.p.size", None),
    ("plans.p.tier", {"billing": "per_hour"}),
    ("plans.p.balancer", "loudest"),
    ("plans.p.scaling.rule", "guess"),
    ("plans.p.scaling.rule", None),
    ("plans.p.scaling.dead_bend", 0.1),
    ("plans.p.scaling.target", "much"),
    ("plans.p.service.slot", 3),
    ("plans.p.rollouts.0.strategy", "big_bang"),
    ("plans.p.rollouts.0.keep", "most"),
    ("plans.p.faults.0.kind", "storm"),
    ("plans.p.faults.0.replica", 0),
    ("plans.p.committed.0.off", 1.5),
    ("plans", {}),
    ("search.more.plan", None),
    ("search.more.replicas.step", 2),
    ("services", {"web": {"slots": 2}}),
    ("tires", {}),
]
"""Where, and what stands there instead; None: it is missing."""


def _plain(value: Any) -> Any:
    """As an editor sees it: TOML has dates, JSON has not."""
    if isinstance(value, dict):
        return {key: _plain(inner) for key, inner in value.items()}
    if isinstance(value, list):
        return [_plain(inner) for inner in value]
    return value.isoformat() if isinstance(value, dt.date | dt.time) else value


def _changed(place: str, value: Any) -> dict[str, Any]:
    study = copy.deepcopy(STUDY)
    *way, last = place.split(".")
    table: Any = study
    for step in way:
        table = table[int(step)] if isinstance(table, list) else table[step]
    if value is None:
        del table[last]
    else:
        table[last] = value
    return study


@pytest.fixture(scope="module")
def validator() -> Draft202012Validator:
    schema = schema_of("study")
    Draft202012Validator.check_schema(schema)
    return Draft202012Validator(schema)


def test_what_is_right_is_accepted(validator: Draft202012Validator, tmp_path: Path) -> None:
    assert [*validator.iter_errors(STUDY)] == []
    (tmp_path / "study.toml").write_text(tomli_w.dumps(STUDY))
    assert load_study(tmp_path / "study.toml").plans


@pytest.mark.parametrize(("place", "value"), MISTAKES)
def test_mistakes_are_marked(validator: Draft202012Validator, tmp_path: Path, place: str, value: Any) -> None:
    """Where they stand or above, and the reader refuses them, too."""
    study = _changed(place, value)
    errors = [*validator.iter_errors(study)]
    assert errors
    way = [int(step) if step.isdecimal() else step for step in place.split(".")]
    assert any([*error.absolute_path] == way[: len(error.absolute_path)] for error in errors)
    (tmp_path / "study.toml").write_text(tomli_w.dumps(study))
    with pytest.raises(StudyError):
        load_study(tmp_path / "study.toml")


@pytest.mark.parametrize("name", ["study.toml", "cabins.toml", "landing.toml"])
def test_shipped_studies_are_accepted(validator: Draft202012Validator, name: str) -> None:
    study = _plain(tomllib.loads((SHIPPED / name).read_text()))
    assert [error.message for error in validator.iter_errors(study)] == []


def test_the_shipped_catalogue_is_accepted_and_others_are_not() -> None:
    schema = schema_of("catalogue")
    Draft202012Validator.check_schema(schema)
    validator = Draft202012Validator(schema)
    catalogue = tomllib.loads((SHIPPED / "tiers.toml").read_text())
    assert [*validator.iter_errors(catalogue)] == []
    assert len(catalogue["tiers"]) == 10
    assert len(read_catalogue(SHIPPED / "tiers.toml").tiers) == 10
    assert all(tier["summary"] for tier in catalogue["tiers"].values())
    assert [*validator.iter_errors({"tiers": {}})]
    assert [*validator.iter_errors(catalogue | {"plans": {}})]


def test_every_key_of_the_docs_is_known(validator: Draft202012Validator) -> None:
    """Whole studies in the docs, if they have what a study needs."""
    found = 0
    for page in sorted(DOCS.glob("*.md")):
        for block in re.findall(r"```toml\n(.*?)```", page.read_text(), re.DOTALL):
            if all(f"[{table}" in block for table in ("trace", "service", "tiers.", "plans.")):
                found += 1
                errors = [error.message for error in validator.iter_errors(_plain(tomllib.loads(block)))]
                assert errors == [], page.name
    assert found


def test_the_command(tmp_path: Path) -> None:
    run = CliRunner().invoke
    for kind in ("study", "catalogue"):
        shown = run(app, ["schema", kind])
        assert json.loads(shown.stdout) == schema_of(kind)  # type: ignore[arg-type]
        assert run(app, ["schema", kind, "--out", str(tmp_path / f"{kind}.json")]).stdout == ""
        assert (tmp_path / f"{kind}.json").read_text() == shown.stdout
    refused = run(app, ["schema", "plan"])
    assert isinstance(refused.exception, OutputError)
    assert "found 'plan'; allowed: study, catalogue, backtest" in str(refused.exception)


def test_every_key_has_a_description() -> None:
    """Which editors show."""
    schema = schema_of("study")
    for name, table in schema["$defs"].items():
        for key, one in table.get("properties", {}).items():
            assert "$ref" in one or one.get("description") or "const" in one, (name, key)
