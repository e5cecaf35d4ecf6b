"""Searching: the same winner as brute force, to the cent, and what is said of combinations that cannot be."""

from __future__ import annotations

import json
import math
import re
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st
from typer.testing import CliRunner

from builders import BY_CPU, SOLD, demo_in, make_case, write_study
from libramen import Comparison, Plan, StudyError, Trace, load_study, replay, search, shaped
from libramen.cli.app import app
from libramen.questions.bounds import Overload, Stopped, Watch, Weighed, least_cost
from libramen.questions.vary import combinations, is_price, read_values
from libramen.study.written import plan_toml
from libramen.trace.steps import OF_A_LOAD, Scale

if TYPE_CHECKING:
    from pathlib import Path

    from libramen import Search, Study


def _tables(**values: Any) -> dict[str, Any]:
    said = {"small": 0.03, "per_million": 2, "strategy": "rolling", "prices": {}, "of_plan": {}} | values
    prices, of_plan = said.pop("prices"), said.pop("of_plan")
    convoy = SOLD["convoy"] | {"balancer_per_hour": 0.01, "egress_per_gb": 0.05} | prices
    convoy["sizes"] = SOLD["convoy"]["sizes"] | {"small": {"cores": 1, "per_hour": said.pop("small")}}
    lantern = {
        "billing": "per_request",
        "autoscaling": True,
        "replicas": {"least": 0, "most": 8},
        "per_core_second": 0.00002,
        "per_million_requests": said.pop("per_million"),
        "sizes": {"small": {"cores": 1}},
    }
    plans = {
        "one": {"tier": "convoy"} | of_plan,
        "scaled": {"tier": "convoy", "scaling": BY_CPU | {"floor": 1}} | of_plan,
        "lamp": {
            "tier": "lantern",
            "replicas": 1,
            "scaling": {"rule": "on_arrival", "idle": "30s", "floor": 0, "ceiling": 8},
        },
        "rolled": {"tier": "convoy", "rollouts": [{"at": "60s", "strategy": said.pop("strategy")}]} | of_plan,
    }
    return {
        "tiers": {"convoy": convoy, "lantern": lantern},
        "plans": plans,
        "study": {"name": "small"},
        "service": {"slots": 2, "backlog": 4, "start": "5s", "timeout": "6s"},
        "objectives": {"p95": "4s", "availability": "95%", "month": 200} | said,
    }


def _study(folder: Path, **values: Any) -> Study:
    rng = np.random.default_rng(values.pop("number", 0))
    at = np.cumsum(rng.exponential(values.pop("gap", 0.4), 600))
    (cpu, wait), size = rng.exponential(0.4, (2, 600)), rng.exponential(1e4, 600)
    columns = {"at_s": at, "cpu_s": cpu, "wait_s": wait, "bytes_out": size}
    return load_study(write_study(folder, columns, **_tables(**values)))


def _by_force(study: Study, plan: str, ranges: dict[str, Any], trace: Trace | None = None) -> Any:
    """All combinations, replayed to the end."""
    trace = study.trace() if trace is None else trace
    return Comparison(
        replay(trace, study.services, one.plan, study.objectives, terms=study.terms).figures(routes=False)
        for one in combinations(study, study.plan(plan), ranges)
        if one.plan is not None
    )


def _agree(found: Search, forced: Any) -> None:
    if forced.cheapest is None:
        assert found.cheapest is None
        assert found.nearest.plan == forced.nearest.plan
    else:
        assert found.cheapest is not None
        assert (found.cheapest.plan, found.cheapest.bill.month) == (forced.cheapest.plan, forced.cheapest.bill.month)
        near = [
            f.plan for f in forced.figures if f.meets_all and f.bill.month <= forced.cheapest.bill.month * 102 / 100
        ]
        assert sorted([forced.cheapest.plan, *(one.plan for one in found.near)]) == sorted(near)
    counts = found.counts
    assert counts.replayed + counts.stopped + counts.same + counts.ruled_out + counts.impossible == counts.combinations


cases = st.fixed_dictionaries(
    {
        "gap": st.sampled_from([0.15, 0.3, 0.6]),
        "p95": st.sampled_from(["600ms", "2500ms", "4s"]),
        "availability": st.sampled_from(["50%", "97%", "100%"]),
        "month": st.sampled_from([20, 70, 200]),
        "small": st.sampled_from([0.02, 0.03, 0.06]),  # the last: both sizes at one price
        "number": st.integers(0, 50),
        "strategy": st.sampled_from(["rolling", "switch", "stop_start"]),
    }
)
searches = st.sampled_from(
    [
        ("one", {"replicas": range(1, 8)}),
        ("one", {"replicas": [4, 2, 6], "size": ["medium", "small"]}),
        ("scaled", {"scaling.floor": [1, 2, 3], "scaling.target": ["40%", "80%"], "replicas": [1, 3]}),
        ("scaled", {"scaling.rule": ["target", "fixed"], "replicas": [2, 4]}),
        ("lamp", {"scaling.idle": ["10s", "2m"], "scaling.ceiling": [2, 4, 8]}),
        ("rolled", {"replicas": range(1, 7), "rollouts.1.at": ["50s", "70s"]}),
        ("one", {"service.slots": [1, 2, 4], "replicas": [2, 3]}),
        ("one", {"tier": ["convoy", "lantern"], "replicas": [1, 3]}),
    ]
)


@settings(max_examples=max(12, settings().max_examples // 2))
@given(cases, searches)
def test_the_winner_is_that_of_brute_force(
    tmp_path_factory: pytest.TempPathFactory, case: dict[str, Any], what: tuple[str, dict[str, Any]]
) -> None:
    study = _study(tmp_path_factory.mktemp("search"), **case)
    plan, ranges = what
    _agree(search(study, plan, vary=ranges), _by_force(study, plan, ranges))


steps = st.sampled_from(
    [0.05, [{"up_to": 5, "price": 0.2}, {"price": 0.01}], [{"up_to": 1, "price": 0}, {"price": 0.4}]]
)
priced = st.fixed_dictionaries(
    {
        "prices": st.fixed_dictionaries(
            {
                "egress_per_gb": steps,
                "balancer_per_hour": st.sampled_from([0.01, [{"up_to": 400, "price": 0.02}, {"price": 0.001}]]),
                "least_per_month": st.sampled_from([0, 40, 90]),
                "fixed_per_month": st.sampled_from([0, 5]),
                "fees": st.sampled_from(
                    [
                        [],
                        [{"name": "seat", "per_replica_month": 7}],
                        [{"name": "agent", "per_replica_hour": 0.01}, {"name": "care", "share": "10%", "least": 9}],
                    ]
                ),
            }
        ),
        "of_plan": st.sampled_from(
            [{}, {"committed": [{"replicas": 2, "off": "40%"}]}, {"fees": [{"name": "x", "share": 0.5}]}]
        ),
    }
)
FROM = "2031-06-04T23:59:20"
"""The traces last a minute and a half to six: they begin shortly before midnight."""
months = st.sampled_from(
    [
        {},
        {"events": "as_traced"},
        {"days": [{"day": "2031-06-05", "times": 1}, {"day": "other", "times": 29}]},
        {"days": [{"day": "wed", "times": 1}, {"day": "thu", "times": 3}]},
    ]
)
terms_of = st.fixed_dictionaries(
    {
        "month": months,
        "tax": st.sampled_from([0, 0.21]),
        "fees": st.sampled_from([[], [{"name": "support", "share": "3%", "least": 10}]]),
        "account": st.sampled_from([{}, {"replicas": 7}]),
    }
)


@settings(max_examples=max(8, settings().max_examples // 3))
@given(cases, priced, terms_of, searches)
def test_the_winner_is_that_of_brute_force_whatever_is_paid_for(
    tmp_path_factory: pytest.TempPathFactory,
    case: dict[str, Any],
    prices: dict[str, Any],
    terms: dict[str, Any],
    what: tuple[str, dict[str, Any]],
) -> None:
    """Steps, minimums, shared allowances, fees, commitments, tax, calendars, events once, accounts."""
    study = _study(tmp_path_factory.mktemp("search"), **case, **prices).replace(**terms)
    trace = Trace.from_frame(study.trace().to_frame(), start=FROM)
    plan, ranges = what
    _agree(search(study, plan, vary=ranges, trace=trace), _by_force(study, plan, ranges, trace))


def test_what_need_not_be_replayed_is_not(tmp_path: Path) -> None:
    """Too few replicas are stopped, too many are never replayed; with processes it is the same."""
    study = _study(tmp_path, gap=0.2, availability="99%")
    found = search(study, "one", replicas=range(1, 9))
    assert found.counts.stopped > 0
    assert found.counts.ruled_out > 0
    assert found.counts.combinations == 8
    again = search(study, "one", replicas=range(1, 9), workers=2)
    assert again.to_dict() == found.to_dict()
    whole = search(study, "one", replicas=range(1, 9), front=True)
    assert whole.counts.replayed == 8
    assert whole.cheapest is not None
    assert found.cheapest is not None
    assert whole.cheapest.plan == found.cheapest.plan
    assert {one.plan for one in whole.front} >= {whole.cheapest.plan}
    assert next(iter(found.table.columns)) == "replicas"


def test_all_within_two_percent_are_replayed(tmp_path: Path) -> None:
    """A replica costs 0.15 EUR a month here, all else over 15: up to two more cost at most 2 % more."""
    study = _study(tmp_path, gap=0.15, availability="90%", small=0.0002)
    found, forced = search(study, "one", replicas=range(1, 9)), _by_force(study, "one", {"replicas": range(1, 9)})
    _agree(found, forced)
    assert len(found.near) == 2
    assert found.counts.ruled_out > 0


def test_the_least_cost_is_never_more_than_the_cost(tmp_path: Path) -> None:
    study = _study(tmp_path)
    for plan, ranges in (
        ("scaled", {"scaling.floor": [1, 3]}),
        ("rolled", {"replicas": [1, 4]}),
        ("lamp", {"scaling.ceiling": [4]}),
        ("one", {"replicas": [3]}),
    ):
        made = [one.plan for one in combinations(study, study.plan(plan), ranges) if one.plan]  # type: ignore[arg-type]
        of = {one.name: least_cost(make_case(study.services, one, study.objectives)) for one in made}
        for figures in _by_force(study, plan, ranges).figures:
            assert of[figures.plan] <= figures.bill.month


def test_a_watch_stops_only_what_is_lost(tmp_path: Path) -> None:
    study = _study(tmp_path)
    trace = study.trace()
    case = make_case(study.services, study.plans["one"], study.objectives)
    records, look = Watch(trace, case).begin(with_events=True)
    records["latency_s"] = 4.5
    records["latency_s"][30:] = 1.0
    look(trace.span_s + 30, [])  # 30 of 600 are late: just as many as may be
    records, look = Watch(trace, case).begin(with_events=True)
    records["ending"][:31] = 1
    with pytest.raises(Stopped):
        look(trace.span_s + 30, [])


def test_impossible_combinations_are_counted_with_their_reason(tmp_path: Path) -> None:
    study = _study(tmp_path)
    found = search(study, "one", replicas=[2, 9], size=["small", "large"])
    assert found.counts.impossible == 3
    assert any("tier 'convoy' allows 1 to 8" in reason for reason in found.reasons)
    assert any("size: found 'large'" in reason for reason in found.reasons)
    many = search(study, "one", replicas=range(2, 60))
    assert list(many.reasons.values()) == [51]  # one sentence for 9, 10, ... 59
    for ranges, message in (
        ({"replica": [1]}, "vary: unknown key 'replica'; did you mean 'replicas'"),
        ({"scaler.target": [1]}, "did you mean 'scaling'"),
        ({"replicas": []}, "vary replicas: found no value"),
        ({"rollouts.2.at": ["1s"]}, "has 0 entries in rollouts; allowed: rollouts.N.KEY"),
        ({"scaling.targt": [1]}, "unknown key 'targt' of scaling; did you mean 'target'"),
        ({"service.slot": [1]}, "unknown key 'slot' of service; did you mean 'slots'"),
        ({"replicas": [20]}, "none of 1 combinations is possible"),
        ({}, "nothing is varied"),
    ):
        with pytest.raises(StudyError, match=message):
            search(study, "one", vary=ranges)
    with pytest.raises(StudyError, match="auto needs one plan, whose replicas it varies"):
        search(study, vary={"plan": ["one", "two"]}, auto=True)
    with pytest.raises(StudyError, match=r"vary 'edge.hit': did you mean 'plan.edge'"):
        search(study, "one", vary={"edge.hit": [0.5]})


def test_values_of_the_command_line() -> None:
    assert read_values("2..4,7") == (2, 3, 4, 7)
    assert read_values("small,50%,0.5,true") == ("small", "50%", 0.5, True)
    with pytest.raises(StudyError, match=r"found '5\.\.2'; allowed: a range such as 2\.\.20"):
        read_values("5..2")


def test_the_command(tmp_path: Path) -> None:
    _study(tmp_path, gap=0.2, availability="99%")
    file = str(tmp_path / "study.toml")
    run = CliRunner().invoke
    shown = run(app, ["search", file, "--plan", "one", "--vary", "replicas=1..8", "--plot", str(tmp_path / "s.png")])
    assert shown.exit_code == 0
    assert "8 combinations:" in shown.stdout
    assert (tmp_path / "s.png").exists()
    document = json.loads(run(app, ["search", file, "--plan", "one", "--vary", "replicas=1..8", "--json"]).stdout)
    assert document["cheapest"].startswith("one replicas=")
    assert all("varied" in plan for plan in document["plans"])
    assert set(document["counts"]) >= {"combinations", "replayed", "stopped", "ruled_out"}
    assert run(app, ["search", file, "--plan", "one", "--vary", "replicas"]).exit_code != 0
    front = run(app, ["search", file, "--plan", "one", "--vary", "replicas=1..8", "--front"])
    assert "Plans that nobody beats" in front.stdout


def test_a_search_of_the_study_and_its_winner_saved(tmp_path: Path) -> None:
    """The winner is written as a plan, which read again is the same."""
    _study(tmp_path, gap=0.2, availability="99%")
    file, saved = tmp_path / "study.toml", tmp_path / "found.toml"
    more = """
[search.fleet]
plan = "scaled"
"scaling.floor" = { from = 1, to = 4 }
"scaling.target" = ["50%", "70%"]
"""
    file.write_text(file.read_text() + more)
    run = CliRunner().invoke
    shown = run(app, ["search", str(file), "fleet", "--save", str(saved), "--json"])
    assert shown.exit_code == 0
    best = json.loads(shown.stdout)["cheapest"]
    assert best is not None
    file.write_text(file.read_text() + saved.read_text())
    again = load_study(file)
    winner = search(again, "scaled", vary=again.searches["fleet"][1]).winner()
    assert winner is not None
    assert again.plans["scaled-found"] == winner.replace(name="scaled-found")
    assert run(app, ["search", str(file), "fleets"]).exit_code != 0
    assert run(app, ["search", str(file)]).exit_code != 0
    plain = _study(tmp_path).path.read_text()
    for wrong, message in (("{ from = 4, to = 1 }", "from = 2, to = 20"), ("[]", "found no value")):
        file.write_text(plain + f'[search.x]\nplan = "one"\nreplicas = {wrong}\n')
        with pytest.raises(StudyError, match=message):
            _run_first(file)


def _run_first(file: Path) -> Search:
    study = load_study(file)
    plan, ranges = study.searches["x"]
    return search(study, plan, vary=ranges)


def test_every_plan_of_the_demos_can_be_written(demo_study: Path, tmp_path: Path) -> None:
    for study in (load_study(demo_study), load_study(demo_in(tmp_path / "landing", "landing"))):
        text = study.path.read_text() + "\n"
        for name, plan in study.plans.items():
            assert isinstance(plan, Plan)
            text += plan_toml(plan, f"{name} again", study.tiers)
        copy = study.path.parent / "copy.toml"
        copy.write_text(text)
        read = load_study(copy)
        for name, plan in study.plans.items():
            assert read.plans[f"{name} again"] == plan.replace(name=f"{name} again")
        copy.unlink()


def test_sensible_ranges_are_worked_out(tmp_path: Path) -> None:
    """The busiest minute needs some replicas; up to three times as many and two more, as far as the tier goes."""
    study = _study(tmp_path, gap=0.3, availability="90%", month=900)
    found = search(study, "one", auto=True)
    assert found.cheapest is not None
    assert found.counts.combinations == 8  # more than the tier has are not tried
    scaled = search(study, "scaled", auto=True, vary={"scaling.target": ["60%"]})
    assert set(next(iter(scaled.varied.values()))) == {"scaling.floor", "scaling.ceiling", "scaling.target"}
    shown = CliRunner().invoke(app, ["search", str(study.path), "--plan", "one", "--vary", "auto"])
    assert "8 combinations:" in shown.stdout


def test_more_load_wants_more(tmp_path: Path) -> None:
    study = _study(tmp_path, gap=0.3, month=2000)
    trace = study.trace()
    few = search(study, "one", trace=trace, replicas=range(1, 9)).cheapest
    more = search(study, "one", trace=shaped(trace, [{"scale": 2}]), replicas=range(1, 9)).cheapest
    assert few is not None
    assert more is None or more.bill.month >= few.bill.month


# -- several services, loads, ceilings -------------------------------------------------------------


def test_several_services(tmp_path: Path) -> None:
    """The same winner as brute force; keys of one service's plan, and of a service."""
    study = load_study(demo_in(tmp_path / "cabins", "cabins"))
    trace = shaped(study.trace(), [{"between": ["11:30", "11:50"]}])
    ranges = {
        "plan.services.web.replicas": [5, 6],
        "plan.services.database.size": ["medium", "large"] if "large" in study.tiers["cellar"].sizes else ["medium"],
        "services.web.slots": [8, 12],
    }
    found = search(study, "pooled", trace=trace, vary=ranges)
    forced = Comparison(
        replay(trace, study.services, one.plan, study.objectives, settle=study.trace_table.settle).figures(routes=False)
        for one in combinations(study, study.plan("pooled"), ranges)
        if one.plan is not None
    )
    best, wanted = (one.cheapest or one.nearest for one in (found, forced))
    assert (best.plan, best.bill.month) == (wanted.plan, wanted.bill.month)
    winner = found.winner()
    saved = plan_toml(winner or study.plan("pooled"), "again", study.tiers)
    assert "[plans.again.services.web]" in saved
    assert "web.replicas=" in found.label(best)


@pytest.mark.parametrize(
    ("key", "why"),
    [
        ("replicas", r"there are the services .*; allowed: plan.services.N.replicas"),
        ("service.slots", "there are the services .*; allowed: services.N.slots"),
        ("plan.services.wep.replicas", "did you mean 'web'"),
        ("services.web.slot", "did you mean 'slots'"),
        ("plan.replicas", "allowed: plan.services.N.KEY"),
        ("services.nobody.slots", "allowed: services.N.KEY"),
    ],
)
def test_keys_of_several_services_that_are_none(tmp_path: Path, key: str, why: str) -> None:
    study = load_study(demo_in(tmp_path / "cabins", "cabins"))
    with pytest.raises(StudyError, match=why):
        combinations(study, study.plan("pooled"), {key: [1]})


def test_an_answer_for_each_load(tmp_path: Path) -> None:
    study = _study(tmp_path, number=2)
    ranges: dict[str, Any] = {"replicas": range(1, 8), "vary": {"trace.scale": [1, 0.5, 2]}}
    found = search(study, "one", **ranges)
    assert [one.scale for one in found.scenarios] == [1, 0.5, 2]
    assert found.scenarios[0] is found
    for one in found.scenarios:
        load = study.trace() if one.scale == 1 else Scale(scale=one.scale).apply(study.trace(), number=OF_A_LOAD)
        alone = search(study, "one", trace=load, replicas=range(1, 8))
        got, wanted = (each.cheapest or each.nearest for each in (one, alone))
        assert (got.bill.month, got.replicas_max, got.n_requests) == (
            wanted.bill.month, wanted.replicas_max, wanted.n_requests,
        )  # fmt: skip
    document = found.to_dict()
    assert [one["scale"] for one in document["scenarios"]] == [0.5, 2]
    assert "2 times the load" in CliRunner().invoke(
        app, ["search", str(tmp_path / "study.toml"), "--plan", "one", "--vary", "replicas=1..3", "--vary", "trace.scale=1,2"]
    ).stdout  # fmt: skip
    with pytest.raises(StudyError, match=r"vary trace.scale: found 0; allowed: a number above 0"):
        search(study, "one", vary={"trace.scale": [0]})


@pytest.mark.parametrize(
    ("plan", "ranges", "is_told"),
    [
        ("scaled", {"replicas": [1, 3]}, True),
        ("scaled", {"replicas": [1, 3], "scaling.rule": ["fixed"]}, False),
        ("scaled", {"scaling.floor": [1, 3]}, False),
        ("one", {"replicas": [1, 3]}, False),
    ],
)
def test_it_says_where_replicas_are_only_a_beginning(
    tmp_path: Path, plan: str, ranges: dict[str, Any], *, is_told: bool
) -> None:
    found = search(_study(tmp_path), plan, vary=ranges)
    told = "replicas is only the number at the start of a plan that scales. To vary the fewest it keeps, vary scaling.floor."
    assert found.notes == ((told,) if is_told else ())
    assert found.to_dict()["notes"] == list(found.notes)


@pytest.mark.parametrize(("per_million", "ruled_out"), [(2, 0), (20, 2)])
def test_what_requests_cost_rules_out_without_a_replay(tmp_path: Path, per_million: int, ruled_out: int) -> None:
    """600 in 240 s are 6.6 million a month, of which one in twenty may be late: at 20 a million they cost 125 at least,
    and the cheapest fleet 54. Four combinations are under way by the time that is known."""
    study = _study(tmp_path, availability="90%", p95="6s", per_million=per_million)
    ranges: dict[str, Any] = {"tier": ["convoy", "lantern"], "replicas": [2, 3, 4]}
    found = search(study, "one", vary=ranges)
    assert found.counts.ruled_out == ruled_out
    _agree(found, _by_force(study, "one", ranges))


def test_where_replicas_may_break_the_likely_cost_says_what_comes_first(tmp_path: Path) -> None:
    """No replica is sure then, so nothing is ruled out; the costly ones, named first, are still stopped."""
    study = _study(tmp_path, availability="50%", p95="6s")
    plan = study.plan("one").replace(faults=[{"kind": "crash", "at": "200s"}])
    found = search(study, plan, replicas=[8, 7, 6, 5, 4, 3, 2, 1])
    assert found.counts.ruled_out == 0
    assert found.counts.replayed <= 4
    assert {one.replicas_max for one in found.figures} <= {1, 2, 3, 4, 5}
    assert found.cheapest is not None
    assert found.cheapest.bill.month == min(
        one.bill.month for one in search(study, plan, replicas=range(1, 9), front=True).figures if one.meets_all
    )


def test_a_ceiling_that_is_not_reached_speaks_for_others(tmp_path: Path) -> None:
    """Nothing is replayed for it, and the answer is brute force's."""
    study = _study(tmp_path, p95="4s", gap=0.6)
    ranges = {"scaling.ceiling": list(range(3, 9)), "scaling.target": ["50%", "90%"]}
    found = search(study, "scaled", vary=ranges)
    assert found.counts.same > 3
    _agree(found, _by_force(study, "scaled", ranges))


def test_work_that_a_fleet_cannot_do_rules_it_out(tmp_path: Path) -> None:
    """Without a replay; and what is ruled out so does miss its objective."""
    study = _study(tmp_path, p95="600ms", gap=0.1)
    found = search(study, "one", replicas=range(1, 9), size=["small", "medium"])
    _agree(found, _by_force(study, "one", {"replicas": range(1, 9), "size": ["small", "medium"]}))
    trace = study.trace()
    overload, out = Overload(Weighed(trace)), []
    for one in combinations(study, study.plan("one"), {"replicas": range(1, 9)}):
        assert one.plan is not None
        case = make_case(study.services, one.plan, study.objectives)
        if overload.rules_out(case):
            out.append(one.plan.only.replicas_used)  # type: ignore[union-attr]
            assert not case.figures(trace).meets_all
    assert out
    assert out == list(range(1, len(out) + 1))


@pytest.mark.parametrize("varied", [{"replicas": range(1, 6)}, {"replicas": range(1, 4), "size": ["small", "medium"]}])
@pytest.mark.parametrize("front", [False, True])
def test_its_picture(tmp_path: Path, varied: dict[str, Any], *, front: bool) -> None:
    found = search(_study(tmp_path), "one", front=front, **varied)
    figure = found.plot()
    texts = [text.get_text() for axes in figure.axes for text in axes.texts]
    best = found.cheapest
    assert best is not None
    assert len(figure.axes) == 2 + (len(varied) == 1)
    if len(varied) == 2:
        prices = [f"{one.bill.month:,.0f}" for one in found.figures]
        assert [text.get_text() for text in figure.axes[0].texts] == prices  # of each that was replayed to the end
    assert any(found.label(best) in text for text in texts)


def test_what_is_saved_and_what_is_not(tmp_path: Path) -> None:
    """The winner of several services is read again as it was; without a winner that is said, and nothing is written."""
    file = demo_in(tmp_path / "cabins", "cabins")
    study, saved = load_study(file), tmp_path / "found.toml"
    winner = combinations(study, study.plan("pooled"), {"plan.services.web.replicas": [7], "services.web.slots": [14]})[
        0
    ].plan
    assert winner is not None
    file.write_text(file.read_text() + "\n" + plan_toml(winner, "again", study.tiers))
    again = load_study(file).plan("again")
    for name, service in study.services.items():
        one, other = again.of(name), winner.of(name)
        assert one.service_of(service) == other.service_of(service)
        assert one.replace(service={}, plan="x") == other.replace(service={}, plan="x")
        assert one.service_of(service).slots == (14 if name == "web" else service.slots)
    _study(tmp_path, month=1)
    run = CliRunner().invoke
    search_it = ["search", str(tmp_path / "study.toml"), "--plan", "one", "--save", str(saved)]
    shown = run(app, [*search_it, "--vary", "replicas=1,2"])
    assert "not written, since no combination meets every objective" in shown.stderr
    assert not saved.exists()
    refused = run(app, [*search_it, "--vary", "size.cores=1,2"])
    assert "--save: size.cores changes what the tier sells" in str(refused.exception)


def test_words_of_a_search(tmp_path: Path) -> None:
    found = search(
        _study(tmp_path), "scaled", vary={"scaling.ceiling": [3, 9], "scaling.target": ["50%"], "trace.scale": [1, 2]}
    )
    text = found._repr_html_()
    assert "scaled scaling.ceiling=3 scaling.target=50%" in found.verdict() + text
    assert "trace.scale" not in found.figures[0].plan
    assert found.label(found.figures[0]) == "ceiling=3, target=50%"
    assert sum(found.reasons.values()) == found.counts.impossible == 1
    with pytest.raises(
        StudyError,
        match=r"or scaling.KEY, rollouts.KEY, committed.KEY, mix.KEY, size.KEY, tier.KEY, service.KEY, plan, trace.scale",
    ):
        search(_study(tmp_path), "scaled", zones_of=["a"])


PRICES = st.one_of(
    st.tuples(
        st.sampled_from(["one", "scaled"]),
        st.fixed_dictionaries({"committed.replicas": st.just([0, 1, 2, 3, 5, 8, 12])}, optional={
            "committed.off": st.just(["10%", "60%"]), "scaling.ceiling": st.just([3, 6]), "size": st.just(["small"]),
        }),
    ),
    st.tuples(
        st.sampled_from(["one", "rolled"]),
        st.fixed_dictionaries({"tier.balancer_per_hour": st.just([0, 0.01, 0.2])}, optional={
            "size.per_hour": st.just([0.01, 0.05]), "replicas": st.just([1, 2, 4]),
        }),
    ),
)  # fmt: skip


@settings(max_examples=8)
@given(cases, terms_of, PRICES)
def test_other_prices_are_reckoned_without_a_replay(
    tmp_path_factory: pytest.TempPathFactory,
    case: dict[str, Any],
    terms: dict[str, Any],
    what: tuple[str, dict[str, Any]],
) -> None:
    """The best commitment is that of brute force, and each load is replayed once."""
    of_plan = {"committed": [{"replicas": 2, "off": "40%", "upfront": 12, "months": 6}]}
    study = _study(tmp_path_factory.mktemp("search"), **case, of_plan=of_plan).replace(**terms | {"account": {}})
    plan, ranges = what
    if plan == "one":
        ranges = {key: values for key, values in ranges.items() if key != "scaling.ceiling"}
    trace = Trace.from_frame(study.trace().to_frame(), start=FROM)
    forced = _by_force(study, plan, ranges, trace)
    for front in (False, True):
        found = search(study, plan, vary=ranges, trace=trace, front=front)
        _agree(found, forced)
        others = math.prod(len(values) for key, values in ranges.items() if not is_price(key))
        assert found.counts.replayed <= others
    assert {one.plan: one.bill for one in found.figures} == {one.plan: one.bill for one in forced.figures}


def test_what_the_account_has_no_room_for_is_impossible(tmp_path: Path) -> None:
    study = _study(tmp_path).replace(account={"replicas": 4})
    found = search(study, "one", replicas=range(3, 9))
    assert found.counts.impossible == 4
    assert next(iter(found.reasons)).endswith("fleets at the start are 5 replicas; allowed: up to 4, as [account] says")


@pytest.mark.parametrize(
    ("key", "sentence"),
    [
        ("committed.of", "unknown key 'of' of committed; did you mean 'off'?"),
        ("committed.2.off", "plan 'one' has 0 entries in committed; allowed: committed.N.KEY, with N from 1"),
    ],
)
def test_a_commitment_that_is_not_there(tmp_path: Path, key: str, sentence: str) -> None:
    with pytest.raises(StudyError, match=re.escape(sentence)):
        search(_study(tmp_path), "one", vary={key: [1]})


def test_a_commitment_of_a_plan_that_has_none(tmp_path: Path) -> None:
    """Two replicas all the time, at half of 0.03 an hour: 2 x 730 x 0.015 = 21.90 in place of 43.80."""
    vary = {"replicas": [2], "committed.replicas": [0, 1, 2, 3], "committed.off": ["50%"]}
    found = search(_study(tmp_path, p95="60s", availability="1%"), "one", vary=vary)
    assert found.cheapest is not None
    assert found.cheapest.plan.endswith("committed.replicas=2 committed.off=50%")
    assert [str(line.amount) for line in found.cheapest.bill.lines if line.key == "committed"] == ["21.90"]


PLANS = {"plan": ["one", "scaled", "lamp"], "trace.scale": [0.5, 1, 3]}


def test_plans_at_loads(tmp_path: Path) -> None:
    """For each load the winner of a comparison of the plans at that load, and a map of them."""
    study = _study(tmp_path, number=3)
    found = search(study, vary=PLANS)
    for one in found.scenarios:
        load = study.trace() if one.scale == 1 else Scale(scale=one.scale).apply(study.trace(), number=OF_A_LOAD)
        forced = Comparison(study.replay(name, trace=load).figures(routes=False) for name in PLANS["plan"])
        assert (one.cheapest is None) == (forced.cheapest is None)
        if one.cheapest is not None and forced.cheapest is not None:
            assert (one.label(one.cheapest), one.cheapest.bill.month) == (
                forced.cheapest.plan,
                forced.cheapest.bill.month,
            )
    by_load = found.to_dict()["by_load"]
    assert [one["scale"] for one in by_load] == [0.5, 1, 3]
    (axes,) = found.plot().axes
    assert {label.get_text() for label in axes.get_yticklabels()} <= {*PLANS["plan"]}
    framed = [patch for patch in axes.patches if not patch.get_fill()]
    assert len(framed) == sum(one.cheapest is not None for one in found.scenarios)
    command = ["search", str(study.path), "--vary", "plan=one,scaled,lamp", "--vary", "trace.scale=0.5,1,3"]
    said = CliRunner().invoke(app, command).stdout
    assert f"The cheapest that holds at each load: {by_load[0]['cheapest'] or 'none'} at 0.5" in said


def test_keys_of_some_of_the_plans(tmp_path: Path) -> None:
    """A key that a plan does not have makes it impossible; one that none has is refused, and so is a plan too many."""
    study = _study(tmp_path)
    found = search(study, vary={"plan": ["one", "rolled"], "rollouts.1.at": ["50s", "70s"], "replicas": [3, 4]})
    assert found.counts.impossible == 4
    assert all(name.startswith("rolled") for name in found.varied)
    assert "has 0 entries in rollouts" in next(iter(found.reasons))
    with pytest.raises(StudyError, match="unknown key 'replica'"):
        search(study, vary={"plan": ["one", "rolled"], "replica": [1]})
    with pytest.raises(StudyError, match="vary plan: found 'two'; allowed"):
        search(study, vary={"plan": ["one", "two"]})
    with pytest.raises(StudyError, match="found it beside the plan 'one'"):
        search(study, "one", vary={"plan": ["one"]})
    with pytest.raises(StudyError, match="there is no plan; allowed"):
        search(study, replicas=[1])
    with pytest.raises(StudyError, match="auto needs one plan"):
        search(study, vary={"plan": ["one"]}, auto=True)


def test_a_search_of_the_study_over_plans(tmp_path: Path) -> None:
    study = _study(tmp_path, number=1, gap=1.0)
    text = study.path.read_text()
    study.path.write_text(f'{text}\n[search.all]\nplan = ["one", "scaled"]\n"trace.scale" = [1, 2]\n')
    run = CliRunner().invoke
    command = ["search", str(study.path), "all", "--save", str(tmp_path / "won.toml")]
    assert "The cheapest that holds at each load" in run(app, command).stdout
    best = search(load_study(study.path), vary={"plan": ["one", "scaled"]}).cheapest
    assert best is not None
    assert f"[plans.{best.plan}-found]" in (tmp_path / "won.toml").read_text()
    alone = run(app, ["search", str(study.path), "all", "--plan", "one"]).stdout
    assert "scaled" not in alone
    study.path.write_text(f'{text}\n[search.all]\nplan = ["one", "none"]\n')
    assert "[search.all] plan: found 'none'; did you mean 'one'?" in run(app, command).output + str(
        run(app, command).exception
    )


@pytest.mark.parametrize("what", ["p95", "available"])
def test_a_map_of_what_costs_the_same(tmp_path: Path, what: str) -> None:
    """Where prices are within 2 % it shows p95; where these are the same, too, availability."""
    study = _study(tmp_path, number=2, p95="10s", availability="0%", prices={"egress_per_gb": 0}, gap=2.0)
    varied: dict[str, Any] = {"service.slots": [1, 2, 4], "service.backlog": [30, 60]}
    if what == "available":
        varied = {"replicas": [8], "tier.egress_per_gb": [0.05, 0.050001], "size.per_hour": [0.03, 0.030001]}
    figure = search(study, "one", vary=varied, front=True).plot()
    assert figure.axes[0].get_title(loc="left").startswith(what)
    assert "within 2 %" in figure.axes[0].get_title(loc="left")
