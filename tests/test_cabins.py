"""The second demo: four services, and what its plans are there to show; and studies of several services."""

from __future__ import annotations

import json
import re
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest
from typer.testing import CliRunner

from builders import demo_in, make_plan, make_trace
from libramen import Comparison, Outcome, Service, StudyError, Trace, compare, load_study, replay
from libramen.cli.app import app
from libramen.outcome.figures import Figures

if TYPE_CHECKING:
    from pathlib import Path


@pytest.fixture(scope="module")
def cabins(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return demo_in(tmp_path_factory.mktemp("demo") / "cabins", "cabins")


@pytest.fixture(scope="module")
def compared(cabins: Path) -> Comparison:
    return compare(load_study(cabins))


@pytest.fixture(scope="module")
def outcomes(compared: Comparison) -> dict[str, Outcome]:
    return {plan: compared.outcome(plan) for plan in ("today", "crowd", "pooled", "failover", "impatient")}


def _kinds(outcome: Outcome) -> set[tuple[str, str | None]]:
    return {(finding.kind, finding.service) for finding in outcome.findings}


def test_what_the_plans_show(compared: Comparison) -> None:
    met = {figures.plan: figures.meets_all for figures in compared.figures}
    assert met == {
        "today": False,
        "crowd": False,
        "pooled": True,
        "readers": True,
        "failover": True,
        "impatient": False,
    }
    assert compared.cheapest is not None
    assert compared.cheapest.plan == "pooled"


def test_json_loses_nothing(compared: Comparison) -> None:
    """Cents and millionths of the bills, money that is wanted, instants, and the figures of each service."""
    for figures in compared.figures:
        assert Figures.from_dict(json.loads(json.dumps(figures.to_dict(), allow_nan=False))) == figures


def test_findings_say_whose_they_are(outcomes: dict[str, Outcome]) -> None:
    """Where the database has no slots left those of its callers are full because of that, which is not told as theirs."""
    found = outcomes["impatient"]
    assert {("slots_full", "database"), ("bottleneck", "database")} <= _kinds(found)
    assert "slots_full" in {finding.kind for finding in found.services["web"].findings}
    assert ("slots_full", "web") not in _kinds(found)
    late = outcomes["pooled"]
    own = {finding.kind: finding for finding in late.services["letters"].findings}["reacted_late"]
    whole = next(finding for finding in late.findings if (finding.kind, finding.service) == ("reacted_late", "letters"))
    assert (own.service, whole.text) == (None, f"letters: {own.text}")
    assert re.search(r"at \d\d:\d\d:\d\d the load passed", own.text)
    (narrow,) = (finding for finding in found.findings if finding.kind == "bottleneck")
    assert narrow.text.startswith("database is the bottleneck: ")
    assert found.time_s == found.figures().time_s == found.where.time_s


def test_more_web_replicas_break_the_database(outcomes: dict[str, Outcome]) -> None:
    assert outcomes["today"].services["database"].endings["refused"] == 0
    assert outcomes["crowd"].services["database"].endings["refused"] > 400
    assert ("connections_exhausted", "database") in _kinds(outcomes["crowd"])
    assert ("connections_exhausted", "database") not in _kinds(outcomes["pooled"])
    assert outcomes["pooled"].services["web"].time_s["connecting"] > 0


def test_a_failover_costs_what_came_meanwhile(outcomes: dict[str, Outcome]) -> None:
    [down] = [finding for finding in outcomes["failover"].findings if finding.kind == "callee_down"]
    assert down.seconds == pytest.approx(35)  # its start, at once
    # Some 26 requests a second for 35 s.
    assert down.requests == pytest.approx(26 * 35, rel=0.1)
    assert not any(kind == "callee_down" for kind, _ in _kinds(outcomes["pooled"]))


def test_retries_keep_an_overload_alive(outcomes: dict[str, Outcome]) -> None:
    """Half an hour after the newsletter has been forgotten nearly nobody is answered, though fewer come than before it."""
    found = outcomes["impatient"]
    assert ("retries_multiply", "database") in _kinds(found)
    series = found.series_of_counts()
    before, after = slice(0, 9), slice(45, 60)
    assert series["arrivals"][after].mean() < series["arrivals"][before].mean()
    assert series["ok"][before].sum() / series["arrivals"][before].sum() > 0.95
    assert series["ok"][after].sum() / series["arrivals"][after].sum() < 0.2
    assert not any(kind == "retries_multiply" for kind, _ in _kinds(outcomes["pooled"]))


def test_where_the_time_went_adds_up(outcomes: dict[str, Outcome]) -> None:
    found = outcomes["pooled"]
    total = sum(one.mean_s for one in found.where.stretches)
    assert total == pytest.approx(found.latency_s["mean"])
    slowest = np.sort(found.run.results.latency_s)[-int(np.ceil(0.01 * found.n_requests)) :]
    assert sum(one.slowest_s for one in found.where.stretches) == pytest.approx(slowest.mean())
    assert {one.service for one in found.where.stretches} == {"web", "stock", "database", "letters"}


def test_bills_add_up(compared: Comparison) -> None:
    for figures in compared.figures:
        assert figures.services is not None
        assert figures.bill.month == sum(one.bill.month for one in figures.services.values())


def test_figures_survive_their_json(compared: Comparison) -> None:
    figures = compared.figures[0]
    document = json.loads(json.dumps(figures.to_dict()))
    assert Figures.from_dict(document) == figures
    assert (document["tier"], document["utilisation"], document["replicas"]["min"]) == (None, None, None)
    assert set(document["services"]["database"]) >= {
        "endings",
        "latency_s",
        "utilisation",
        "bill",
        "replicas",
        "findings",
        "events",
    }


def test_visits_are_calls_and_retries(outcomes: dict[str, Outcome]) -> None:
    """What arrives at the database are three calls of every answered request, and half of the visits to stock."""
    found = outcomes["pooled"]
    web, stock, database = (found.services[name] for name in ("web", "stock", "database"))
    from_stock = database.n_requests - 3 * web.n_requests
    assert from_stock == pytest.approx(stock.n_requests / 2, rel=0.03)
    assert found.services["letters"].n_requests == 40 + np.sum(
        found.trace.route_codes == found.trace.routes.index("/bookings")
    )


def test_the_command_line(cabins: Path, tmp_path: Path) -> None:
    runner = CliRunner()
    where, plot = tmp_path / "where.png", tmp_path / "plan.svg"
    done = runner.invoke(app, ["replay", str(cabins), "--plan", "pooled", "--where", str(where), "--plot", str(plot)])
    assert done.exit_code == 0, done.output
    for text in (
        "  database: tier cellar, size medium, 1 replica",
        "slowest 1 %",
        "slots taken",
        "database: replicas of size medium",
        "services.letters.p95",
    ):
        assert text in done.stdout
    assert where.stat().st_size > 20_000
    assert "stock" in plot.read_text()
    done = runner.invoke(app, ["check", str(cabins), "--json"])
    document = json.loads(done.stdout)
    rows = {(row["plan"], row["service"]): row for row in document["plans"]}
    assert "8 x 12 of web, 2 x 2 of stock" in " ".join(rows["crowd", "database"]["problems"])
    assert rows["pooled", "database"]["problems"] == []
    assert rows["failover", "database"]["problems"] == ["its crash leaves no replica that works for at least 35 s"]
    assert rows["pooled", "web"]["needs_slots"] == 3


# -- studies of several services --------------------------------------------------------------------

STUDY = """
[trace]
files = ["t.csv"]
[services.web]
slots = 4
[[services.web.calls]]
to = "database"
cpu = "10ms"
[services.database]
slots = 4
[services.database.plan]
tier = "t"
size = "s"
[tiers.t]
billing = "per_hour"
[tiers.t.sizes.s]
cores = 1
per_hour = 1
[plans.one.services.web]
tier = "t"
size = "s"
"""


def _study(folder: Path, text: str, trace: str = "at_s,cpu_s\n0,0.1\n1,0.1\n") -> Any:
    (folder / "t.csv").write_text(trace)
    (folder / "study.toml").write_text(text)
    return load_study(folder / "study.toml")


def test_a_study_in_few_words(tmp_path: Path) -> None:
    study = _study(tmp_path, STUDY)
    found = replay(study.trace(), study.services, study.plans["one"])
    assert found.latency_s["mean"] == pytest.approx(0.11)
    assert list(found.services) == ["web", "database"]
    changed = study.replace(services={"database": {"slots": 9}})
    assert changed.services["database"].slots == 9
    with pytest.raises(StudyError, match="there are the services web, database"):
        _ = study.service


@pytest.mark.parametrize(
    ("found", "instead", "message"),
    [
        (
            'to = "database"',
            'to = "datbase"',
            "services.web.calls: to: there is no service 'datbase'; did you mean 'database'",
        ),
        ('[services.database.plan]\ntier = "t"\nsize = "s"', "", r"\[plans.one\] says nothing of service 'database'"),
        ("[plans.one.services.web]", "[plans.one.services.wbe]", r"\[plans.one.services\] there is no service 'wbe'"),
        ("[plans.one.services.web]", "[plans.one]", r"\[plans.one\] unknown key 'tier'; allowed: services"),
        ("slots = 4\n[[", "slots = 4\ncals = 1\n[[", r"\[services.web\] unknown key 'cals'"),
        ('cpu = "10ms"', 'cpu = "10 m"\npool = 0', r"\[services.web.calls\[1\]\] pool"),
        ("[tiers.t]", "[service]\nslots = 1\n[tiers.t]", r"\[service\] and \[services\] are both there"),
        ("[tiers.t]", '[objectives.services.letters]\np95 = "1s"\n[tiers.t]', "there is no service 'letters'"),
    ],
)
def test_mistakes_in_several_services(tmp_path: Path, found: str, instead: str, message: str) -> None:
    with pytest.raises(StudyError, match=message) as caught:
        compare(_study(tmp_path, STUDY.replace(found, instead, 1)))
    assert "\n" not in str(caught.value)


def test_spans_say_what_a_request_spent_elsewhere(tmp_path: Path) -> None:
    """Two calls of a database that overlap by a second, and one of something else: 3 s and 1 s of 10 s."""

    def span(name: str, begin: float, end: float, **more: Any) -> dict[str, Any]:
        attributes = [
            {"key": key.replace("__", "."), "value": {"stringValue": value}}
            for key, value in more.items()
            if "__" in key
        ]
        return {
            "traceId": "t", "spanId": name, "kind": 3, "parentSpanId": "root", "name": name, "attributes": attributes,
            "startTimeUnixNano": str(int((1e9 + begin) * 1e9)), "endTimeUnixNano": str(int((1e9 + end) * 1e9)),
        } | {key: value for key, value in more.items() if "__" not in key}  # fmt: skip

    spans = [
        span("root", 0, 10, kind=2, parentSpanId=""),
        span("a", 1, 3, peer__service="db.internal"),
        span("b", 2, 4, peer__service="db.internal"),
        span("c", 6, 7, server__address="cache"),
    ]
    (tmp_path / "spans.json").write_text(json.dumps({"resourceSpans": [{"scopeSpans": [{"spans": spans}]}]}))
    text = STUDY.replace(
        'files = ["t.csv"]', 'files = ["spans.json"]\ncallees = { "db.internal" = "database" }\ndemand = "observed"'
    )
    study = _study(tmp_path, text.replace('cpu = "10ms"\n', ""))
    log = study.log()
    assert {name: values.tolist() for name, values in log.in_s.items()} == {"database": [3.0], "cache": [1.0]}
    trace = study.trace()
    # Of 10 s 4 are spent elsewhere; 40 % of the other 6 are CPU work; what was spent at the database is its own.
    assert (trace.cpu_s[0], trace.wait_s[0]) == (pytest.approx(2.4), pytest.approx(3.6 + 4))
    apart = trace
    for _ in range(2):
        apart = apart.without_calls(["database", "nobody"])
        assert (apart.cpu_s[0], apart.wait_s[0]) == (pytest.approx(2.4), pytest.approx(3.6 + 4 - 3))
    assert any("client spans call database (db.internal), cache" in note for note in trace.source.notes)
    found = replay(trace, study.services, study.plans["one"])
    assert found.latency_s["mean"] == pytest.approx(10)
    with pytest.raises(Exception, match="callees: no client span calls 'db'"):
        _study(tmp_path, text.replace('"db.internal"', '"db"')).trace()


def test_jobs_come_at_their_time(tmp_path: Path) -> None:
    text = STUDY.replace(
        'files = ["t.csv"]',
        'files = ["t.csv"]\nshape = [{ job = "/jobs/nightly", at = "0h 1m", count = 3, over = "30s", cpu = "4s", wait = "1s" }, '
        '{ job = "/jobs/report", every = "2m" }]',
    )
    study = _study(tmp_path, text, "at_s,cpu_s\n0,0.1\n300,0.1\n")
    trace = study.trace()
    jobs = trace.at_s[trace.route_codes == trace.routes.index("/jobs/nightly")]
    assert jobs.tolist() == [60, 70, 80]
    assert trace.at_s[trace.route_codes == trace.routes.index("/jobs/report")].tolist() == [120, 240]
    assert trace.cpu_s[trace.route_codes == trace.routes.index("/jobs/nightly")].tolist() == [4, 4, 4]


def test_visitors_are_told_by_address_and_agent(tmp_path: Path) -> None:
    """Numbers in the order in which they first come; the table that is written of it has none."""
    from libramen import read_trace
    from libramen.trace.write import trace_table

    lines = [("1", "a"), ("1", "b"), ("2", "a"), ("1", "a"), ("2", "a")]
    (tmp_path / "x.log").write_text(
        "".join(
            f'{h} - - [05/Jun/2031:06:00:0{k} +0000] "GET / HTTP/1.1" 200 5 "-" "{a}" 0.010\n'
            for k, (h, a) in enumerate(lines)
        )
    )
    trace = read_trace(tmp_path / "x.log", visitors=True)
    assert trace.visitor is not None
    assert trace.visitor.tolist() == [0, 1, 2, 0, 2]
    assert "visitor" not in trace_table(trace).column_names
    (tmp_path / "t.csv").write_text("at_s,cpu_s,visitor\n0,1,ann\n1,1,bob\n2,1,ann\n3,1,cleo\n")
    visitor = read_trace(tmp_path / "t.csv").visitor
    assert visitor is not None
    assert visitor.tolist() == [0, 1, 0, 2]


def test_workers_that_have_nothing_to_do(tmp_path: Path) -> None:
    trace = Trace.from_arrays(at_s=np.arange(0, 3600, 60.0), cpu_s=np.full(60, 0.1), span_s=3600)
    text = STUDY.replace('cpu = "10ms"', 'cpu = "10ms"\nwait_for_it = false')
    study = _study(tmp_path, text)
    found = replay(trace, study.services, study.plans["one"])
    assert ("workers_idle", "database") in _kinds(found)
    busy = Trace.from_arrays(at_s=np.arange(0, 3600, 0.02), cpu_s=np.full(180_000, 0.001), span_s=3600)
    assert not any(kind == "workers_idle" for kind, _ in _kinds(replay(busy, study.services, study.plans["one"])))


def test_a_queue_that_grows(tmp_path: Path) -> None:
    trace = Trace.from_arrays(at_s=np.arange(0, 3600, 0.5), cpu_s=np.full(7200, 0.1), span_s=3600)
    for seconds, grows in ((3, True), (1, False)):
        text = STUDY.replace('cpu = "10ms"', f'wait = "{seconds}s"\nwait_for_it = false')
        study = _study(tmp_path, text)
        kinds = _kinds(replay(trace, study.services, study.plans["one"]))
        assert (("queue_grows", "database") in kinds) is grows


def test_what_is_found_of_queues_is_found_of_one_service_too() -> None:
    """Two jobs a second of 3 s for one worker; the same worker with one job of 30 s an hour; its sentences name no other."""
    plan = make_plan(balancer="shared_queue")
    busy = make_trace(np.arange(0, 3600, 0.5).tolist(), wait=3.0, span_s=3600)
    found = {finding.kind: finding for finding in replay(busy, Service(slots=1), plan).findings}
    assert found["queue_grows"].service is None
    assert found["queue_grows"].text.startswith("The queue of the service grows faster than its workers: 2 visits")
    idle = make_trace([10.0], wait=30.0, span_s=3600)
    found = {finding.kind: finding for finding in replay(idle, Service(slots=1), plan).findings}
    assert found["workers_idle"].text.startswith("Workers of the service are idle: 0.8 %")


def test_a_pool_that_is_too_small(tmp_path: Path) -> None:
    trace = Trace.from_arrays(at_s=np.arange(0, 600, 0.2), cpu_s=np.full(3000, 0.01), span_s=600)
    for pool, small in ((1, True), (4, False)):
        text = STUDY.replace('cpu = "10ms"', f'wait = "250ms"\npool = {pool}').replace("slots = 4", "slots = 50")
        study = _study(tmp_path, text)
        found = replay(trace, study.services, study.plans["one"])
        assert (("pool_too_small", "web") in _kinds(found)) is small
        for one in (one for one in found.findings if one.kind == "pool_too_small"):
            assert (one.figures["pool"], one.figures["slots"], one.figures["taken"]) == (
                1,
                50,
                pytest.approx(1, abs=0.05),
            )


def test_a_bottleneck_further_down(tmp_path: Path) -> None:
    """Eight a second that need 0.2 core-seconds of one core each: more web replicas would not help."""
    trace = Trace.from_arrays(at_s=np.arange(0, 600, 0.125), cpu_s=np.full(4800, 0.01), span_s=600)
    for cpu, narrow in (("200ms", True), ("50ms", False)):
        study = _study(tmp_path, STUDY.replace('cpu = "10ms"', f'cpu = "{cpu}"').replace("slots = 4", "slots = 50"))
        found = replay(trace, study.services, study.plans["one"])
        texts = [finding.text for finding in found.findings if finding.kind == "bottleneck"]
        assert bool(texts) is narrow
    assert not texts


def test_a_log_recorded_on_several_services(tmp_path: Path) -> None:
    """The study names the plan; its trace has the work, and a second read finds it in the cache."""
    hidden = Trace.from_arrays(
        at_s=np.arange(0, 600, 0.2),
        cpu_s=np.full(3000, 0.01),
        wait_s=np.full(3000, 0.02),
        span_s=600,
        start="2031-06-05T06:00:00",
    )
    study = _study(tmp_path, STUDY)
    seen = replay(hidden, study.services, study.plans["one"]).run.results.latency_s
    (tmp_path / "log.csv").write_text(
        "at_s,latency_s\n" + "".join(f"{at},{took:.6f}\n" for at, took in zip(hidden.at_s, seen, strict=True))
    )
    text = STUDY.replace('files = ["t.csv"]', 'files = ["log.csv"]\nrecorded_on = "one"\ncpu_share = 0.25')
    for from_cache in (False, True):
        trace = _study(tmp_path, text).trace()
        assert trace.source.from_cache is from_cache
        assert trace.demand.kind == "unqueued"
        assert (trace.cpu_s + trace.wait_s).mean() == pytest.approx(0.03, rel=0.02)
        assert any("queueing at other services is taken out" in note for note in trace.source.notes)
