"""Code that came with a study is run by nobody who has not consented, whatever the study, a command or a call says."""

from __future__ import annotations

import contextlib
import inspect
from typing import TYPE_CHECKING, Any

import pytest
from typer.main import get_command

import libramen
from libramen import Plan, Study, StudyError, compare, events, headroom, load_study, replay, search
from libramen.cli import run
from libramen.cli.app import app

if TYPE_CHECKING:
    from pathlib import Path

STUDY = """
[study]
time_zone = "Europe/Lisbon"
[trace]
files = "t.csv"
recorded_on = "plain"
[service]
slots = 2
[objectives]
p95 = "1s"
[tiers.tidal]
autoscaling = true
replicas = { least = 1, most = 8 }
billing = "per_second"
[tiers.tidal.sizes.small]
cores = 1
per_hour = 0.03
[plans.plain]
tier = "tidal"
size = "small"
[plans.own]
tier = "tidal"
size = "small"
[plans.own.scaling]
rule = "python:quay:rule"
every = "10s"
"""
FOREIGN = {"scaling.rule": "python:quay:rule", "scaling.trusted": True, "scaling.folder": "."}


@pytest.fixture
def study(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A study whose module leaves a trace of having been run, and the place where it would."""
    monkeypatch.chdir(tmp_path)
    ran = str(tmp_path / "it_ran")
    (tmp_path / "quay.py").write_text(f"open({ran!r}, 'w').close()\ndef rule(seen): return 1\n")
    rows = "".join(f"2031-06-05T10:{t // 60:02}:{t % 60:02},0.05\n" for t in range(120))
    (tmp_path / "t.csv").write_text("time,latency_s\n" + rows)
    path = tmp_path / "study.toml"
    path.write_text(STUDY)
    return path


def _commands() -> list[tuple[str, ...]]:
    root: Any = get_command(app)
    found = []
    for name, command in root.commands.items():
        inner = getattr(command, "commands", None)
        found += [(name,)] if inner is None else [(name, other) for other in inner]
    return found


def _takes_a_study(command: tuple[str, ...]) -> tuple[bool, set[str]]:
    found: Any = get_command(app)
    for name in command:
        found = found.commands[name]
    return any(one.name == "study" for one in found.params), {flag for one in found.params for flag in one.opts}


@pytest.mark.parametrize("command", _commands(), ids=" ".join)
def test_no_command_runs_it_unasked(command: tuple[str, ...], study: Path) -> None:
    takes, options = _takes_a_study(command)
    if not takes:
        pytest.skip("reads no study")
    calls = [[*command, str(study)]]
    if "--plan" in options:
        calls = [[*command, str(study), "--plan", plan] for plan in ("plain", "own")]
    if "--vary" in options:
        varied = [f"{key}={str(value).lower()}" for key, value in FOREIGN.items()]
        calls += [[*calls[0], "--vary", varied[0]], [*calls[0], *(word for one in varied for word in ("--vary", one))]]
        study.write_text(STUDY + '[search.q]\nplan = "plain"\n' + "".join(
            f"{key!r} = [{str(value).lower() if value is True else repr(value)}]\n" for key, value in FOREIGN.items()
        ))  # fmt: skip
        calls.append([*command, str(study)])
    for arguments in calls:
        status = run(arguments)
        assert status in {0, 2}, arguments
        assert not (study.parent / "it_ran").exists(), arguments
    assert "--trust-code" not in options or run([*calls[min(1, len(calls) - 1)], "--trust-code"]) in {0, 2}


def test_keys_that_would_consent_are_unknown(study: Path) -> None:
    """Wherever keys can be said: in the file, in what is varied, in what is replaced."""
    loaded = load_study(study)
    for key, value in {"trusted": True, "folder": ".", "function": print, "_beside": 1, "_function": print}.items():
        said = {"rule": "python:quay:rule", key: value}
        with pytest.raises(StudyError, match="unknown key"):
            loaded.plans["plain"].replace(scaling=said)
        with pytest.raises(StudyError, match="unknown key"):
            loaded.plans["own"].only.scaling.replace(**{key: value})
        with pytest.raises(StudyError, match="unknown key"):
            Plan(tier=loaded.tiers["tidal"], size="small", scaling=said)
        with pytest.raises(StudyError, match="unknown key"):
            search(loaded, loaded.plans["plain"], **{f"scaling.{key}": [value]})
        if key.isalpha() and not callable(value):
            study.write_text(STUDY + f"{key} = {str(value).lower() if value is True else repr(value)}\n")
            with pytest.raises(StudyError, match="unknown key"):
                load_study(study)
            study.write_text(STUDY)
    study.write_text("[study]\ntrust_code = true\n" + STUDY.replace("[study]\n", ""))
    with pytest.raises(StudyError, match="unknown key 'trust_code'"):
        load_study(study)


def _calls(study: Study) -> list[Any]:
    """Every public function that takes a study, and every way to a plan with the rule."""
    plain, own = study.plans["plain"], study.plans["own"]
    scaling = {"rule": "python:quay:rule", "every": 10}
    plans = [
        own,
        own.replace(replicas=2),
        own.replace(scaling=own.only.scaling.replace(every=5)),
        plain.replace(scaling=scaling),
        plain.replace(scaling=own.only.scaling),
        study.replace(plans={"plain": {"scaling": scaling}}).plans["plain"],
        study.replace(service={"slots": 3}).plans["own"],
    ]
    trace = study.trace()
    found = compare(study, plans=[plain])
    calls: list[Any] = [lambda plan=plan: replay(trace, study.service, plan) for plan in plans]
    calls += [lambda plan=plan: compare(study, plans=[plan]) for plan in plans]
    for name in libramen.__all__:
        function = getattr(libramen, name)
        if inspect.isfunction(function) and "study" in inspect.signature(function).parameters:
            more = {
                key: value
                for key, value in {
                    "plan": own,
                    "plans": [own],
                    "times": 2,
                    "found": found,
                    "trace": trace,
                    "keys": ["slots"],
                    "n": 2,
                }.items()
                if key in inspect.signature(function).parameters
            }
            calls.append(lambda function=function, more=more: function(study, **more))
    calls.append(lambda: search(study, plain, **{"scaling.rule": ["python:quay:rule"]}))
    return calls


def test_no_call_runs_it_unasked(study: Path) -> None:
    calls = _calls(load_study(study))
    assert len(calls) > 20
    for call in calls:
        with contextlib.suppress(StudyError, libramen.LibramenError):
            call()
        assert not (study.parent / "it_ran").exists(), inspect.getsource(call)


def test_that_it_may_not_run_is_said_before_anything_is_read(study: Path) -> None:
    (study.parent / "t.csv").unlink()
    for ask in (
        lambda: compare(load_study(study)),
        lambda: search(load_study(study), "own", replicas=[1, 2]),
        lambda: headroom(load_study(study)),
        lambda: events(load_study(study), "own"),
    ):
        with pytest.raises(StudyError, match=r"plan 'own': .*runs code that came with the study"):
            ask()


def test_consent_goes_with_the_study(study: Path) -> None:
    """Once it was given it holds for whatever is made of the study, and for its folder only."""
    loaded = load_study(study, trust_code=True)
    assert not (study.parent / "it_ran").exists()
    own = loaded.plans["own"].replace(scaling=loaded.plans["own"].only.scaling.replace(every=5))
    assert replay(loaded.trace(), loaded.service, own).run.only.decisions[0].wanted == 1
    found = search(loaded, loaded.plans["plain"], **{"scaling.rule": ["python:quay:rule"]})
    assert len(found.figures) == 1
    # A plan out of a study that was not trusted stays what it was, also beside those of one that is.
    foreign = load_study(study).plans["own"]
    mixed = loaded.replace(plans={"foreign": foreign})
    with pytest.raises(StudyError, match="runs code that came with the study"):
        replay(loaded.trace(), loaded.service, mixed.plans["foreign"])
    with pytest.raises(StudyError, match="no study that it could stand beside"):
        replay(loaded.trace(), loaded.service, loaded.plans["plain"].replace(scaling={"rule": "python:quay:rule"}))
