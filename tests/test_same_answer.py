"""The same question gets the same answer: whatever else stands in a study, in a store, or in memory."""

from __future__ import annotations

import dataclasses
import json
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest

from builders import demo_in, make_plan, make_trace, plain_study
from libramen import Service, Store, StudyError, Trace, backtest, compare, load_study, shaped
from libramen.cli import run
from libramen.load.cache import find, keep
from libramen.report.trust import title
from libramen.trust.grade import kept_grade

if TYPE_CHECKING:
    from pathlib import Path

JOINT = """
[study]
time_zone = "{zone}"
[trace]
files = "{trace}"
shape = {shape}
[objectives]
p95 = "900ms"
[services.web]
slots = {slots}
cpu_share = 0.5
[[services.web.calls]]
to = "database"
{work}
[services.database]
slots = 4
cpu_share = 0.5
[tiers.tidal]
autoscaling = true
replicas = {{ least = 1, most = 8 }}
billing = "per_second"
[tiers.tidal.sizes.small]
cores = {cores}
per_hour = 0.03
[services.database.plan]
tier = "tidal"
size = "small"
[plans.one.services.web]
tier = "tidal"
size = "small"
replicas = {replicas}
balancer = "{balancer}"
"""
OTHER = """
[plans.other.services.web]
tier = "tidal"
size = "small"
replicas = 2
service = { calls = [{ to = "database", of_wait = 0.5 }] }
[plans.more.services.web]
tier = "tidal"
size = "small"
balancer = "pinned"
"""


def _write(folder: Path, **values: Any) -> Path:
    said = {
        "zone": "UTC", "trace": "t.csv", "shape": "[]", "slots": 4, "work": "", "cores": 1, "replicas": 1,
        "balancer": "least_busy", "other": False,
    } | values  # fmt: skip
    path = folder / "study.toml"
    path.write_text(JOINT.format(**said) + (OTHER if said["other"] else ""))
    return path


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """Two tables of the same requests, whose waits include the time at the database: the second waits a bit longer."""
    rng = np.random.default_rng(5)
    at_s = np.cumsum(rng.exponential(0.5, 400))
    for name, more in (("t.csv", 0.0), ("u.csv", 0.05)):
        inside = rng.exponential(0.2, 400)
        rows = [
            f"2031-10-25T23:{t // 60 % 60:02.0f}:{t % 60:09.6f}Z,{0.05:.3f},{w + 0.1 + more:.6f},{w:.6f}"
            for t, w in zip(at_s, inside, strict=True)
        ]
        made = json.dumps({"demand": "given", "waits_are_known": True, "waits_include_calls": True})
        (tmp_path / name).write_text(f"# libramen: {made}\ntime,cpu_s,wait_s,in_database_s\n" + "\n".join(rows) + "\n")
    return tmp_path


def test_other_plans_do_not_change_a_plan(folder: Path) -> None:
    """What is at the database is taken out of a wait by the plan that calls it, whatever other plans call."""
    alone = load_study(_write(folder))
    (wanted,) = compare(alone, plans=["one"]).figures
    beside = load_study(_write(folder, other=True))
    found = compare(beside, plans=["one", "other"])
    assert found.figures[0] == wanted
    assert compare(beside).figures[0] == wanted


def test_arrays_of_a_trace_cannot_be_written(tmp_path: Path) -> None:
    """Not those that were given, not those of parts and copies, not those that were read."""
    given = np.array([0.0, 1.0, 2.0])
    trace = Trace.from_arrays(given, given, given, in_s={"a": given})
    given[1] = 5.0
    assert trace.at_s.tolist() == [0, 1, 2]
    kept = keep("k" * 40, trace)
    for one in (trace, trace.part(slice(0, 2)), trace.take(np.array([0, 1])), shaped(trace, [{"scale": 2}]), kept):
        for array in (one.at_s, one.cpu_s, one.wait_s, one.route_codes, *one.in_s.values()):
            with pytest.raises(ValueError, match="read-only"):
                array[0] = 7
    # What one can write is copied, if it is seen through something else that can be written.
    mine = np.array([3.0, 4.0, 5.0, 6.0])
    changed = dataclasses.replace(trace, cpu_s=mine[:3])
    mine[0] = 99.0
    assert changed.cpu_s.tolist() == [3, 4, 5]


def test_whatever_makes_a_new_trace_makes_a_new_key() -> None:
    trace = make_trace([0, 1, 2], cpu=0.1, wait=0.2, route=["a", "b", "a"], start="2031-06-05", time_zone="UTC")
    again = make_trace([0, 1, 2], cpu=0.1, wait=0.2, route=["a", "b", "a"], start="2031-06-05", time_zone="UTC")
    assert trace.content_key == again.content_key
    kept = keep("l" * 40, trace)
    assert (kept.cache_key, kept.content_key) == ("l" * 40, trace.content_key)
    found = find("l" * 40)
    assert found is not None
    assert (found.cache_key, found.content_key) == ("l" * 40, trace.content_key)
    others = [
        dataclasses.replace(trace, cpu_s=np.array([0.1, 0.1, 0.2])),
        dataclasses.replace(trace, routes=("a", "c")),
        dataclasses.replace(trace, span_s=3.0),
        dataclasses.replace(trace, bytes_out=np.zeros(3)),
        dataclasses.replace(trace, latency_s=np.zeros(3)),
        trace.take(np.array([0, 1])),
        trace.later(1.0),
        trace.recorded_at(2.0),
        shaped(trace, [{"scale": 3}]),
        trace.with_demand(trace.wait_s, trace.cpu_s, demand="given", notes=()),
        make_trace([0, 1, 2], cpu=0.1, wait=0.2, route=["a", "b", "a"]),
    ]
    others += [dataclasses.replace(found, wait_s=np.zeros(3)), dataclasses.replace(kept, cpu_s=np.zeros(3))]
    assert len({trace.content_key, *(other.content_key for other in others)}) == len(others) + 1
    assert all(other.cache_key is None for other in others)


def test_zones_lengths_and_types_are_part_of_it() -> None:
    """In winter UTC and Lisbon are one, and a timetable after the change of clocks differs; bytes alone say too little."""
    zones = {
        make_trace([0, 1], start="2031-01-05T00:00:00", time_zone=zone).content_key
        for zone in ("UTC", "Europe/Lisbon", "Africa/Abidjan")
    }
    assert len(zones) == 3
    whole = make_trace([0, 1], cpu=0.0)
    same_bytes = dataclasses.replace(whole, cpu_s=np.zeros(2, np.int64))  # as many zeros, of another type
    assert same_bytes.content_key != whole.content_key


def _figures(path: Path, store: Store | None) -> Any:
    study = load_study(path)
    return [json.dumps(figures.to_dict(), default=str) for figures in compare(study, store=store).figures]


CHANGES: list[dict[str, Any]] = [
    {}, {"other": True}, {"zone": "Europe/Lisbon"}, {"zone": "Africa/Abidjan"}, {"trace": "u.csv"}, {"slots": 3},
    {"work": "of_wait = 0.5"}, {"work": 'cpu = "20ms"'}, {"cores": 2}, {"replicas": 2}, {"balancer": "random"},
    {"shape": "[{ scale = 1.5 }]"}, {"shape": "[{ scale = 1.5 }, { scale = 1 }]"}, {"shape": '[{ repeat = "20m" }]'},
    {"other": True, "work": "of_wait = 0.5"}, {"other": True, "zone": "Europe/Lisbon"}, {"trace": "u.csv", "other": True},
    {"balancer": "pinned"},
]  # fmt: skip


def test_a_store_says_the_same_as_no_store(folder: Path, request: pytest.FixtureRequest) -> None:
    """Each pair of studies that differ in something, one after the other on one store: 306 pairs with --thorough."""
    wanted = [_figures(_write(folder, **change), None) for change in CHANGES]
    n = len(CHANGES)
    pairs = [(one, other) for one in range(n) for other in range(n) if one != other]
    if not request.config.getoption("--thorough"):
        pairs = pairs[:: len(pairs) // 24]
    for number, pair in enumerate(pairs):
        with Store(folder / f"{number}.sqlite", pytest.fail) as store:
            for one in (*pair, *pair):
                assert _figures(_write(folder, **CHANGES[one]), store) == wanted[one], (CHANGES[pair[0]], CHANGES[one])


def test_traces_changed_in_python_are_not_mistaken(tmp_path: Path) -> None:
    rng = np.random.default_rng(1)
    trace = Trace.from_arrays(np.cumsum(rng.exponential(0.5, 300)), rng.exponential(0.3, 300))
    (tmp_path / "t.csv").write_text("at_s,cpu_s\n0,1\n")
    study = load_study(plain_study(tmp_path, {"files": "t.csv"}))
    changed = [
        trace, dataclasses.replace(trace, cpu_s=2 * trace.cpu_s), dataclasses.replace(trace, wait_s=trace.cpu_s),
        trace.take(np.arange(0, 300, 2)), shaped(trace, [{"scale": 0.5}]), keep("m" * 40, trace),
        dataclasses.replace(keep("m" * 40, trace), cpu_s=0.5 * trace.cpu_s),
    ]  # fmt: skip
    with Store(tmp_path / "s.sqlite", pytest.fail) as store:
        for one in (*changed, *changed):
            assert compare(study, trace=one, store=store).figures == compare(study, trace=one).figures


def test_the_grade_of_a_backtest_is_found_from_anywhere(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, hour_study: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """Named from another directory it is the same study; `check` says what the backtest has said, and no other figure."""
    found = backtest(load_study(hour_study))
    monkeypatch.chdir(hour_study.parent)
    assert kept_grade(load_study("study.toml")) == found.grade
    monkeypatch.chdir(hour_study.parent.parent)
    relative = hour_study.relative_to(hour_study.parent.parent)
    assert kept_grade(load_study(relative)) == found.grade
    trace = load_study(relative).trace()
    assert trace.source.from_cache
    assert all(file.startswith(str(relative.parent)) for file in trace.source.files)
    assert run(["check", str(relative)]) == 0
    shown = capsys.readouterr().out
    assert f"How far to trust this: {title(found.grade)}. {found.grade.reason}" in " ".join(shown.split())
    assert shown.count("are within") == 1
    monkeypatch.setattr("libramen.trust.grade.digest_of", lambda _: "other code")
    assert kept_grade(load_study(relative)) is None


def test_one_number_is_changed_in_one_line(tmp_path: Path, hour_study: Path) -> None:
    study = load_study(demo_in(tmp_path / "landing", "landing"))
    changed = study.replace(plans={"noon": {"replicas": 5}})
    assert list(changed.plans) == list(study.plans)
    assert (changed.plans["noon"].only.replicas, study.plans["noon"].only.replicas != 5) == (5, True)
    assert all(changed.plans[name] == study.plans[name] for name in study.plans if name != "noon")
    plan = study.plans["noon"].replace(replicas=4)
    assert list(study.replace(plans={"noon": plan}).plans) == list(study.plans)
    assert study.replace(plans=plan).plans["noon"].only.replicas == 4
    festival = load_study(hour_study)
    slower = festival.replace(plans={"brisk": {"scaling": {"pause_down": "9m"}}}).plans["brisk"].only.scaling
    assert slower == festival.plans["brisk"].only.scaling.replace(pause_down=540)
    cabins = load_study(demo_in(tmp_path / "cabins", "cabins"))
    joint = cabins.replace(plans={"pooled": {"services": {"web": {"replicas": 5}}}}).plans["pooled"]
    assert joint.of("web").replicas == 5
    assert joint.of("database") == cabins.plans["pooled"].of("database")
    with pytest.raises(StudyError, match="there is no service 'wb'"):
        cabins.replace(plans={"pooled": {"services": {"wb": {"replicas": 5}}}})


def test_a_table_says_how_it_is_changed() -> None:
    for table, key in ((make_plan(), "replicas"), (Service(slots=2), "slots")):
        with pytest.raises(StudyError, match=rf"{key} cannot be set, .*allowed: a copy .*\.replace\({key}=6\)"):
            setattr(table, key, 6)
        with pytest.raises(StudyError, match="cannot be deleted"):
            delattr(table, key)
