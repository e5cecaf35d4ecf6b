"""Comparisons, frames, figures and sentences."""

from __future__ import annotations

from decimal import Decimal
from types import SimpleNamespace
from typing import TYPE_CHECKING, Any

import pytest

from builders import make_plan, make_tier, make_trace, plain_study
from libramen import (
    Account,
    Comparison,
    MonthTable,
    Objectives,
    Outcome,
    Plan,
    Service,
    Terms,
    Trace,
    check,
    compare,
    load_study,
    replay,
)  # fmt: skip
from libramen.base.errors import ReplayError
from libramen.draw.style import save, tier_looks
from libramen.report.columns import availabilities, table
from libramen.report.story import sentences
from libramen.study.objectives import Objective

if TYPE_CHECKING:
    from pathlib import Path


def _figures(name: str, month: float, **got: float | None) -> Any:
    """As much of the figures as a comparison looks at; wanted are p95 of 1, availability of 0.99 and month of 100."""
    wanted = {"p95": 1.0, "availability": 0.99, "month": 100.0}
    values = {"p95": 0.5, "availability": 1.0, "month": month, **got}
    goals = [
        Objective(key, wanted[key], value, value is not None and (value >= wanted[key] if key == "availability" else value <= wanted[key]))
        for key, value in values.items()
    ]  # fmt: skip
    bill = SimpleNamespace(month=Decimal(str(month)), currency="EUR")
    missed = [goal for goal in goals if not goal.met]
    return SimpleNamespace(plan=name, bill=bill, objectives=goals, missed=missed, meets_all=not missed)


def _names(*figures: Any) -> tuple[str | None, str]:
    found = Comparison(figures)
    return found.cheapest and found.cheapest.plan, found.nearest.plan


def test_the_cheapest_that_meets_all() -> None:
    assert _names(_figures("a", 90), _figures("b", 50), _figures("c", 10, p95=2)) == ("b", "b")


def test_the_nearest_misses_the_fewest_then_by_least() -> None:
    assert _names(_figures("a", 10, p95=1.2, availability=0.9), _figures("b", 900)) == (None, "b")
    assert _names(_figures("a", 10, p95=1.2), _figures("b", 110)) == (None, "b")
    # 97 % spends three times the error budget of 99 %, an excess of 2, and 2.5 times the latency is one of 1.5.
    assert _names(_figures("a", 10, availability=0.97), _figures("b", 10, p95=2.5)) == (None, "b")
    assert _names(_figures("a", 10, p95=None), _figures("b", 10, p95=99)) == (None, "b")


def test_a_verdict_says_what_is_missed() -> None:
    found = Comparison((_figures("a", 10, p95=1.25, availability=0.9), _figures("b", 900, p95=3, availability=0.5)))
    assert found.verdict() == (
        "No plan meets every objective; a comes nearest and misses p95 (1.25 s, wanted 1 s) and availability (90.0 %, wanted 99.000 %)."
    )


@pytest.fixture(scope="module")
def outcome() -> Outcome:
    rule = {"rule": "target", "measure": "in_progress", "target": 1, "every": 60, "floor": 1, "ceiling": 4}
    plan = make_plan(make_tier(provision=30), scaling=rule, rollouts=[{"at": "30m", "strategy": "stop_start"}])
    trace = make_trace(
        [k / 2 for k in range(7200)], wait=1, span_s=3600, start="2031-06-05T08:00", time_zone="Europe/Lisbon"
    )
    return replay(trace, Service(slots=2, backlog=0, start=10), plan, Objectives(p95=2, availability="99.9%"))


def test_frames(outcome: Outcome) -> None:
    assert list(outcome.requests.columns) == [
        "at_s",
        "route",
        "latency_s",
        "queued_s",
        "ending",
        "replica",
        "attempts",
    ]
    assert len(outcome.requests) == 7200
    assert (
        outcome.requests["replica"].isna().sum()
        == (outcome.requests["attempts"] * (outcome.requests["replica"].isna())).sum()
    )
    assert len(outcome.series) == 60
    assert str(outcome.series["time"].iloc[0]) == "2031-06-05 08:00:00+01:00"
    assert outcome.series["arrivals"].sum() == 7200
    assert outcome.fleet["served"].sum() == outcome.endings["ok"]
    assert len(outcome.decisions) == 60
    assert outcome.updates["strategy"].tolist() == ["stop_start"]


def test_what_happened_in_sentences(outcome: Outcome) -> None:
    """Two a second that take 1 s are two in progress: one replica has just enough slots, and the rule orders a second.
    At 08:30:00 both stop, finish what they have by 08:30:00.5 and are back 10 s later: 21 requests are refused."""
    assert sentences(outcome) == [
        "21 of 7,200 requests failed (21 refused), from 08:30:00 to 08:30:10; the worst minute began at 08:30:00.",
        (
            "The rule decided 60 times and scaled 3 times: it ordered 2 and removed 1 replicas; "
            "the fleet was 0 to 3 ready replicas."
        ),
        # The first window in which more than the target was in progress is that from 0 on; ordered at 60.
        (
            "The slowest capacity came 1 min 40 s after the load had passed the target, at 08:01:40; "
            "no request that arrived while replicas were on their way failed."
        ),
        "Decisions held back: 1 by update.",
        # One replica too many for a minute, at 1 an hour and 730 h / 1 h of them: 730 / 60 and what was above for less.
        "The fleet stood 1 min above what the target needed: 16.2 EUR a month.",
        (
            "The stop_start update due at 08:30:00 took 10.5 s for 2 replicas, never with both versions in use; "
            "21 of the 22 requests that arrived meanwhile failed."
        ),
    ]


def test_notebooks_show_tables(outcome: Outcome) -> None:
    for shown in (outcome, Comparison((outcome.figures(),)), outcome.trace):
        assert "<table" in shown._repr_html_()


def test_figures(outcome: Outcome, tmp_path: Path) -> None:
    """They have the panels they promise, name every plan, and the same figure gives the same bytes."""
    figure = outcome.plot()
    assert [axes.get_ylabel() for axes in figure.axes] == [
        "requests / s",
        "latency (ok)",
        "replicas",
        "utilisation",
    ]
    figure = Comparison((outcome.figures(), outcome.figures())).plot()
    assert tuple(figure.get_size_inches() * figure.dpi) == (1280, 800)
    for axes in figure.axes:
        assert sum(text.get_text().startswith("plan, ") for text in axes.texts) == 2
    for name in ("a.svg", "b.svg"):
        save(Comparison((outcome.figures(),)).plot(), tmp_path / name)
    assert (tmp_path / "a.svg").read_bytes() == (tmp_path / "b.svg").read_bytes()


def test_figures_of_a_trace_without_a_start_and_without_an_answer() -> None:
    empty = replay(make_trace([0, 1], wait=1, span_s=60), Service(slots=1), make_plan(replicas=0))
    assert empty.plot().axes[-1].get_xlabel() == "hours from the start"
    assert Comparison((empty.figures(),)).plot().axes


def test_each_tier_has_a_look_of_its_own() -> None:
    looks = tier_looks(["a", "b", "a", "c", "d"])
    assert len(set(looks.values())) == len({marker for _, marker in looks.values()}) == 4


def test_the_demo_in_python(demo_study: Path) -> None:
    study = load_study(demo_study)
    table = compare(study, plans=["late", "brisk"]).table
    assert list(table.index) == ["late", "brisk"]
    assert table.loc["brisk", "meets_all"]
    assert table.loc["late", "misses"] == "availability"
    found = check(study)
    assert not found.works
    assert {plan.hosting.plan for plan in found.plans if not plan.problems} == {
        "late", "brisk", "bare", "planned", "restless",
    }  # fmt: skip
    (lamp,) = (plan for plan in found.plans if plan.hosting.plan == "lamp")
    assert [problem.kind for problem in lamp.problems] == ["no_backlog"]


@pytest.mark.parametrize("seed", range(4))
def test_names_in_a_picture_cover_neither_points_nor_each_other(seed: int) -> None:
    """Twelve points in a crowd, names of several lengths: the boxes of the drawn texts do not meet, and stay in the panel."""
    import numpy as np
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure
    from matplotlib.text import Text

    from libramen.draw.labels import place_labels

    rng = np.random.default_rng(seed)
    points = [(float(x), float(y)) for x, y in rng.uniform(30, 70, (12, 2))]
    figure = Figure(figsize=(12.8, 8))
    FigureCanvasAgg(figure)
    axes = figure.add_subplot()
    axes.set_xlim(0, 100)
    axes.set_ylim(0, 100)
    place_labels(axes, points, [f"plan_{'x' * (k % 5)}{k}" for k in range(12)], at_x=50.0)
    figure.draw_without_rendering()
    boxes = [Text.get_window_extent(text) for text in axes.texts]  # without the lines to far ones
    panel = axes.get_window_extent()
    for k, box in enumerate(boxes):
        assert panel.x0 <= box.x0
        assert box.x1 <= panel.x1
        assert not any(box.overlaps(other) for other in boxes[k + 1 :])


def test_check_finds_timeouts_and_gaps() -> None:
    """Half of the requests need 2 s and the client waits 1.5 s; a rolling release that keeps none of one leaves a gap."""
    from libramen.questions.check import check_plan
    from libramen.study.system import System

    trace = make_trace([0, 100], cpu=[1, 2], span_s=3600)
    rule = {"rule": "target", "measure": "cpu", "target": 0.5, "floor": 1, "ceiling": 3}
    rollout = {"at": 0, "strategy": "rolling", "spare": 0, "keep": 0}
    plan = make_plan(make_tier(provision=20), scaling=rule, rollouts=[rollout])
    study: Any = SimpleNamespace(
        objectives=Objectives(), currency="EUR", month=MonthTable(), terms=Terms(), account=Account()
    )
    [found] = check_plan(study, trace, System.of(Service(slots=1, timeout=1.5, start=10), plan))
    assert [problem.text for problem in found.problems] == [
        "50.00 % of the requests need longer than the timeout of 1.5 s even without queueing",
        "its rolling update leaves no replica ready for at least 30 s",
    ]


def test_check_finds_what_is_too_slow_of_several_services() -> None:
    """Half of the requests to `a` need 2 s and its users wait 1.5 s; those to `b` need 4 s, two calls of 0.5 s included."""
    from libramen.questions.check import check_plan
    from libramen.study.system import System

    trace = make_trace([0, 100, 200], cpu=[1, 2, 3], route=["/a", "/a", "/b"], span_s=3600)
    services = {name: Service(slots=1, routes=[f"/{name}"], timeout=s) for name, s in (("a", 1.5), ("b", 9))}
    services["b"] = services["b"].replace(calls=[{"to": "c", "times": 2, "cpu": "500ms"}])
    services["c"] = Service(slots=1)
    plan = Plan(services=dict.fromkeys(services, make_plan().only))
    study: Any = SimpleNamespace(
        objectives=Objectives(p95="2.5s"), currency="EUR", month=MonthTable(), terms=Terms(), account=Account()
    )
    found = {one.service: one for one in check_plan(study, trace, System.of(services, plan))}
    assert [one.alone_p95_s for one in found.values()] == [2, 4, 0.5]
    assert {name: [problem.kind for problem in one.problems] for name, one in found.items()} == {
        "a": ["too_slow", "timeout"], "b": [], "c": [],
    }  # fmt: skip
    assert found["a"].problems[1].text.startswith("50.00 % of the requests")
    slow = Plan(services=dict.fromkeys(services, make_plan(make_tier(overhead=0.25)).only))
    (alone_s, *_) = [one.alone_p95_s for one in check_plan(study, trace, System.of(services, slow))]
    assert alone_s == 2.25


def test_a_file_is_whole_or_not_there(tmp_path: Path) -> None:
    from libramen import OutputError
    from libramen.base.files import check_output, write_whole

    def half(path: Path) -> None:
        path.write_text("half")
        raise OSError(28, "No space left on device")

    (tmp_path / "f.csv").write_text("old")
    with pytest.raises(OutputError, match="cannot be written: No space left on device"):
        write_whole(tmp_path / "f.csv", half)
    assert [path.name for path in tmp_path.iterdir()] == ["f.csv"]
    assert (tmp_path / "f.csv").read_text() == "old"
    write_whole(tmp_path / "f.csv", lambda path: path.write_text("new"))  # type: ignore[arg-type,return-value]
    assert (tmp_path / "f.csv").read_text() == "new"
    with pytest.raises(OutputError, match="No such file or directory"):
        write_whole(tmp_path / "no" / "f.csv", half)
    for path, message in ((tmp_path / "x.doc", "allowed: .csv"), (tmp_path, "found the ending")):
        with pytest.raises(OutputError, match=message):
            check_output(path, (".csv",))


def test_streams_depend_on_seed_purpose_and_number_only() -> None:
    from libramen.base.streams import stream

    drawn = {
        (seed, purpose, k): stream(seed, purpose, k).random()
        for seed in (0, 1)
        for purpose in ("stamps", "shape")
        for k in (0, 1)
    }
    assert len(set(drawn.values())) == 8
    assert stream(1, "shape", 1).random() == drawn[1, "shape", 1]


def test_figures_and_objectives_per_route() -> None:
    """Two routes on two slots of one core: `slow` takes 2 s alone; `quick` meets it at 1, both share the core: 0.5 of
    work takes 1 s. So slow is done at 2.5: 0.5 s more than alone, which it was slowed by sharing."""
    trace = Trace.from_arrays(at_s=[0, 1], cpu_s=[2, 0.5], wait_s=[0, 0.25], route=["slow", "quick"], span_s=60)
    goals = Objectives(routes={"slow": {"p95": "2s"}, "quick": {"p95": "2s", "availability": "100%"}})
    outcome = replay(trace, Service(slots=2), make_plan(), goals)
    assert [(goal.name, goal.met) for goal in outcome.objectives] == [
        ("routes.slow.p95", False), ("routes.quick.p95", True), ("routes.quick.availability", True),
    ]  # fmt: skip
    assert outcome.of_route("slow").time_s == pytest.approx(
        {"retried": 0, "queued": 0, "cpu": 2, "slowed": 0.5, "connecting": 0, "called": 0, "waiting": 0, "overhead": 0}
    )
    assert outcome.of_route("quick").time_s["waiting"] == 0.25
    frame = outcome.routes.set_index("route")
    assert frame.loc["quick", "max_s"] == 1.25
    times = [name for name in frame.columns if name.startswith("time_")]
    assert frame.loc["slow", times].sum() == frame.loc["slow", "mean_s"]
    with pytest.raises(ReplayError, match="route 'quik'; did you mean 'quick'"):
        outcome.of_route("quik")


@pytest.mark.parametrize(("above", "share"), [("1%", 0.5), ("20%", 0.5), ("25%", 1.0)])
@pytest.mark.parametrize("keep_requests", [True, False])
def test_what_makes_a_failed_minute_may_be_set(above: str, share: float, *, keep_requests: bool) -> None:
    """Four requests in the first minute, one of them refused (25 %), one in the third; the second has no traffic. A minute
    fails when more than the share has: at 25 % neither does, at 1 % and 20 % one of two."""
    trace = make_trace([0, 0, 10, 20, 130], cpu=1, span_s=180)
    goals = Objectives(availability_minutes="90%", minute_fails_above=above)
    outcome = replay(trace, Service(slots=1, backlog=0), make_plan(), goals, keep_requests=keep_requests)
    assert outcome.endings["refused"] == 1
    assert outcome.availability_minutes == share
    assert [(goal.name, goal.met) for goal in outcome.objectives] == [("availability_minutes", share > 0.9)]


def test_settle_leaves_out_what_came_before_in_either_way() -> None:
    """Of five requests the two at 0 came before 5: three are measured, all of them ok; the series counts all five."""
    trace = make_trace([0, 0, 10, 20, 130], cpu=1, span_s=180)
    for keep_requests in (True, False):
        outcome = replay(trace, Service(slots=1, backlog=0), make_plan(), settle=5, keep_requests=keep_requests)
        assert (outcome.n_requests, outcome.availability) == (3, 1)
        assert outcome.series["arrivals"].tolist() == [4, 0, 1]
        assert outcome.series["refused"].tolist() == [1, 0, 0]


def test_check_says_how_long_lent_cpu_lasts(tmp_path: Path) -> None:
    """60 core-s in 118 s are 0.508 cores; two replicas earn 0.1 each and begin with 90 core-s each: 180 / 0.308 s."""
    (tmp_path / "t.csv").write_text("at_s,cpu_s\n" + "".join(f"{2 * k},1\n" for k in range(60)))
    lent = {"steady_cores": 0.1, "bank": 200, "bank_at_start": 90}
    path = plain_study(tmp_path, {"files": "t.csv"}, {"two": {"replicas": 2}}, size=lent, service={"slots": 4})
    (problem,) = [one.text for one in check(load_study(path)).plans[0].problems if one.kind == "lent"]
    assert "the trace needs 0.508 cores on average, 2 of this size earn 0.2" in problem
    assert "what they begin with lasts 9 min 44 s at that rate" in problem


def test_an_availability_near_one_keeps_its_digits() -> None:
    """As any share it would be 99.9 %, which hides what an objective of 99.950 % is about."""
    rows = table([availabilities("available", "up")], [SimpleNamespace(up=up) for up in (0.9995, 0.99999, 1.0)]).rows
    assert [row.cells[0].text for row in rows] == ["99.950 %", "99.999 %", "100 %"]
    assert [row.cells[0].value for row in rows] == [0.9995, 0.99999, 1.0]
