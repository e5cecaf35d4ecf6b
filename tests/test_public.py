"""What is promised (docs/versions.md): public names with their signatures, commands with their options, the JSON they print.

`python tests/test_public.py` records names and options as they are now, `python docs/schemas.py` the JSON. Whoever takes
something away sees it in `tests/public.json`, and says it in the changelog a version before.
"""

from __future__ import annotations

import inspect
import json
from pathlib import Path
from typing import Any

import jsonschema
import numpy as np
import pytest
import typer
from typer.testing import CliRunner

import libramen
from builders import write_study
from libramen.cli.app import app
from libramen.study.schema import outputs, schema_of_output

RECORDED = Path(__file__).with_name("public.json")


def _parameters(function: Any) -> dict[str, str]:
    """Of each parameter its kind, and whether it must be given."""
    found = {}
    for name, one in inspect.signature(function).parameters.items():
        needed = one.default is inspect.Parameter.empty and "VAR" not in one.kind.name
        found[name] = one.kind.name.lower() + (", needed" if needed else "")
    return found


def _of(name: str) -> dict[str, Any]:
    thing = getattr(libramen, name)
    if not callable(thing):
        return {}
    if not inspect.isclass(thing):
        return {"takes": _parameters(thing)}
    members = sorted(member for member in dir(thing) if not member.startswith("_") and member not in dir(BaseException))
    if hasattr(thing, "model_fields"):  # keys of a table; the rest belongs to the library that reads it
        own = {member for kind in thing.__mro__ for member in vars(kind) if kind.__module__.startswith("libramen")}
        members = sorted({*thing.model_fields, *(member for member in members if member in own)})
        return {"members": [member for member in members if not member.startswith(("_", "model_"))]}
    return (
        {"takes": _parameters(thing.__init__), "members": members}
        if "__init__" in vars(thing)
        else {"members": members}
    )


def _commands() -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}

    def go(command: Any, name: str) -> None:
        for key, one in getattr(command, "commands", {}).items():
            go(one, f"{name} {key}".strip())
        if not hasattr(command, "commands"):
            found[name] = sorted(option for param in command.params for option in param.opts)

    go(typer.main.get_command(app), "")
    return dict(sorted(found.items()))


def _now() -> dict[str, Any]:
    names = sorted(name for name in libramen.__all__ if name != "__version__")
    return {"names": {name: _of(name) for name in names}, "commands": _commands()}


def _gone(was: Any, now: Any, where: str) -> list[str]:
    """What was recorded and is not there any more, or asks for more."""
    if isinstance(was, dict):
        found = [f"{where}.{key}" for key in was if key not in now]
        more = [f"{where}.{key} must be given" for key, kind in now.items() if key not in was and "needed" in str(kind)]
        inner = [entry for key in was if key in now for entry in _gone(was[key], now[key], f"{where}.{key}")]
        return [*found, *more, *inner]
    if isinstance(was, list):
        return [f"{where}.{one}" for one in was if one not in now]
    return [] if was == now or (now in str(was) and "needed" in str(was)) else [f"{where} was {was}, is {now}"]


def test_nothing_public_is_gone() -> None:
    was, now = json.loads(RECORDED.read_text()), json.loads(json.dumps(_now()))
    assert _gone(was, now, "libramen") == []
    assert was == now, "something is new: `python tests/test_public.py` records it"


def test_what_counts_as_gone() -> None:
    was = {"f": {"takes": {"a": "keyword_only", "b": "keyword_only, needed"}}, "C": {"members": ["x", "y"]}}
    gone = {"f": {"takes": {"b": "keyword_only", "c": "keyword_only, needed"}}, "C": {"members": ["y", "z"]}}
    assert _gone(was, gone, "") == [".f.takes.a", ".f.takes.c must be given", ".C.members.x"]
    assert _gone(was, was | {"g": {}}, "") == []


@pytest.fixture(scope="module")
def small(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A study with two tiers, a release, a fault, and no objectives."""
    rng = np.random.default_rng(5)
    columns = {"at_s": np.cumsum(rng.exponential(2.0, 900)), "cpu_s": rng.exponential(0.3, 900)}
    tiers = {
        "t": {"billing": "per_second", "autoscaling": True, "sizes": {"small": {"cores": 1, "per_hour": 0.02}}},
        "u": {"billing": "per_request", "per_million_requests": 3, "sizes": {"small": {"cores": 1}}},
    }
    scaling = {"rule": "target", "measure": "in_progress", "target": 1.0, "floor": 1, "ceiling": 3}
    plans = {
        "a": {
            "tier": "t", "replicas": 2, "scaling": scaling, "rollouts": [{"strategy": "rolling", "at": "5m"}],
            "faults": [{"kind": "crash", "at": "10m"}],
        },
        "b": {"tier": "u"},
    }  # fmt: skip
    return write_study(tmp_path_factory.mktemp("small"), columns, tiers, plans, service={"slots": 2})


ASKED = {
    "compare": ["compare", "STUDY", "--repeats", "2"],
    "replay": ["replay", "STUDY", "--plan", "a", "--series", "-"],
    "check": ["check", "STUDY"],
    "search": ["search", "STUDY", "--plan", "a", "--vary", "replicas=1..2", "--vary", "scaling.floor=1,2"],
    "breakeven": ["breakeven", "STUDY", "--loads", "0.9..1.1"],
    "events": ["events", "STUDY", "--plan", "a"],
    "tiers": ["tiers", "STUDY"],
    "inspect": ["trace", "inspect", "TRACE"],
}


@pytest.mark.parametrize("kind", ASKED)
def test_json_is_as_its_schema_says(kind: str, small: Path) -> None:
    names = {"STUDY": str(small), "TRACE": str(small.with_name("t.csv"))}
    done = CliRunner().invoke(app, [*(names.get(word, word) for word in ASKED[kind]), "--json"])
    assert done.exit_code == 0, done.output
    jsonschema.validate(json.loads(done.stdout), schema_of_output(kind))


def test_a_key_that_goes_is_noticed(small: Path) -> None:
    document = json.loads(CliRunner().invoke(app, ["compare", str(small), "--json"]).stdout)
    del document["plans"][1]["bill"]["lines"]
    with pytest.raises(jsonschema.ValidationError, match="'lines' is a required property"):
        jsonschema.validate(document, schema_of_output("compare"))


def test_schemas_are_shown() -> None:
    assert set(outputs()) == {*ASKED, "headroom", "backtest"}
    done = CliRunner().invoke(app, ["schema", "headroom"])
    assert json.loads(done.stdout) == schema_of_output("headroom")
    refused = CliRunner().invoke(app, ["schema", "nothing"])
    assert "allowed: study, catalogue, backtest, breakeven" in str(refused.exception)


if __name__ == "__main__":
    parts = []
    for key, table in _now().items():
        lines = ",\n".join(f"  {json.dumps(name)}: {json.dumps(one)}" for name, one in table.items())
        parts.append(f" {json.dumps(key)}: {{\n{lines}\n }}")
    RECORDED.write_text("{\n" + ",\n".join(parts) + "\n}\n")
