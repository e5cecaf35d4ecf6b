"""Study files: what is understood, and one clear sentence for what is not."""

from __future__ import annotations

from decimal import Decimal
from typing import TYPE_CHECKING, Any

import pytest

from libramen import (
    Hosting,
    Objectives,
    Plan,
    Service,
    Size,
    Study,
    StudyError,
    System,
    Target,
    Tier,
    Trace,
    compare,
    events,
    load_study,
    replay,
)  # fmt: skip
from libramen.questions.vary import combinations

if TYPE_CHECKING:
    from pathlib import Path

STUDY = """
[study]
name = "A day"
time_zone = "Europe/Lisbon"

[trace]
files = "t.csv"
settle = "5s"

[service]
slots = 8
threads = 2
start = "1m 30s"
timeout = "2.5s"

[objectives]
p95 = "250ms"
availability = "99.9%"
month = 12.50

[tiers.tidal]
replicas = { least = 1, most = 8 }
autoscaling = true
zones = ["east", "west"]
billing = "per_second"
[tiers.tidal.sizes.small]
cores = 0.5
per_hour = 0.031

[tiers.berth]
replicas = { least = 1, most = 1 }
billing = "per_month"
[tiers.berth.sizes.small]
cores = 1
per_month = 9

[plans.brisk]
tier = "tidal"
size = "small"
replicas = 2
[plans.brisk.scaling]
rule = "target"
measure = "cpu"
target = "60%"
pause_down = "8m"
ceiling = 6
[[plans.brisk.rollouts]]
at = "12:00"
strategy = "rolling"
keep = "60%"
"""


def _load(tmp_path: Path, text: str = STUDY, **files: str) -> Study:
    (tmp_path / "study.toml").write_text(text)
    for name, content in files.items():
        (tmp_path / f"{name}.toml").write_text(content)
    return load_study(tmp_path / "study.toml")


def test_a_study(tmp_path: Path) -> None:
    study = _load(tmp_path)
    plan = study.plans["brisk"]
    assert (study.name, study.time_zone, study.currency) == ("A day", "Europe/Lisbon", "EUR")
    assert study.service == Service(slots=8, threads=2, start=90, timeout=2.5)
    assert study.objectives.wanted() == {"p95": 0.25, "availability": 0.999, "month": Decimal("12.50")}
    assert plan.only.tier is study.tiers["tidal"]
    assert plan.only.size == Size(name="small", cores=0.5, per_hour="0.031")
    assert plan.only.size.per_hour == Decimal("0.031")
    assert plan.only.scaling == Target(measure="cpu", target=0.6, pause_down=480, ceiling=6)
    assert plan.only.limits == (1, 6)
    assert plan.only.rollouts[0].keep_of(4) == 3
    assert study.trace_table.settle == 5


def test_tiers_from_a_catalogue(tmp_path: Path) -> None:
    head, _, rest = STUDY.partition("[tiers.tidal]")
    tiers, _, plans = rest.partition("[plans.brisk]\n")
    text = head.replace('name = "A day"', 'name = "A day"\ncatalogue = "tiers.toml"') + "[plans.brisk]\n" + plans
    study = _load(tmp_path, text, tiers="[tiers.tidal]" + tiers)
    assert study.plans["brisk"].only.tier.name == "tidal"
    with pytest.raises(
        StudyError, match=r"tiers.toml: \[tiers.tidal.sizes.small\] unknown key 'core'; did you mean 'cores'"
    ):
        _load(tmp_path, text, tiers="[tiers.tidal]" + tiers.replace("cores = 0.5", "core = 0.5"))


@pytest.mark.parametrize(
    ("found", "instead", "message"),
    [
        ("slots = 8", "slot = 8", r"\[service\] unknown key 'slot'; did you mean 'slots'\?"),
        ("slots = 8", "", r"\[service\] slots is missing"),
        ("slots = 8", "slots = 0", r"\[service\] slots: found 0; allowed: a number at least 1"),
        ("slots = 8", "slots = 1.5", r"\[service\] slots: found 1.5; allowed: a whole number"),
        (
            'timeout = "2.5s"',
            'timeout = "2.5 kg"',
            r"\[service\] timeout: found '2.5 kg'; allowed: a duration such as",
        ),
        (
            'timeout = "2.5s"',
            'timeout = "0s"',
            r"\[service\] timeout: found '0s'; allowed: a duration .* above 0",
        ),
        ("threads = 2", "retry = 2", r"\[service\] unknown key 'retry'; did you mean 'retries'"),
        (
            'availability = "99.9%"',
            'availability = "101%"',
            r"availability: found '101%'; allowed: a share .* at most 100%",
        ),
        (
            'target = "60%"',
            'target = "60 percent"',
            r"\[plans.brisk.scaling\] target: found '60 percent'; allowed: a share",
        ),
        (
            'rule = "target"',
            'rule = "targets"',
            r"\[plans.brisk.scaling\] rule: found 'targets'; allowed: 'fixed', 'target'",
        ),
        ('rule = "target"', "", r"\[plans.brisk.scaling\] rule is missing"),
        (
            'measure = "cpu"',
            'measure = "queue"',
            r"measure: found 'queue'; allowed: 'cpu', 'in_progress', 'rate', 'waiting' or 'latency'",
        ),
        (
            "ceiling = 6",
            "ceiling = 9",
            r"\[plans.brisk\] scaling.ceiling: found 9; tier 'tidal' allows 1 to 8",
        ),
        ("ceiling = 6", "ceiling = 6\nfloor = 7", r"floor = 7 is above ceiling = 6"),
        (
            "replicas = 2\n",
            "replicas = 9\n",
            r"\[plans.brisk\] replicas: found 9; tier 'tidal' allows 1 to 8",
        ),
        ('tier = "tidal"', 'tier = "tydal"', r"\[plans.brisk\] tier: found 'tydal'; did you mean 'tidal'\?"),
        (
            'size = "small"',
            'size = "huge"',
            r"size: found 'huge', which tier 'tidal' does not sell; allowed: small",
        ),
        ('tier = "tidal"', 'tier = "berth"', r"\[plans.brisk\] scaling: tier 'berth' has no autoscaling"),
        (
            'at = "12:00"',
            'at = "noonish"',
            r"\[plans.brisk.rollouts\[1\]\] at: found 'noonish'; allowed: a time of day",
        ),
        ('keep = "60%"', 'keep = "most"', r"keep: found 'most'; allowed: a number of replicas"),
        (
            'strategy = "rolling"',
            'strategy = "sudden"',
            r"strategy: found 'sudden'; allowed: 'rolling', 'stop_start', 'switch', 'canary'",
        ),
        (
            "per_hour = 0.031",
            "per_month = 9",
            r"size 'small' has no per_hour, which billing = 'per_second' needs",
        ),
        ("per_hour = 0.031", "per_hour = -1", r"per_hour: found -1; allowed: an amount of money"),
        (
            "ceiling = 6",
            'ceiling = 6\ntimetable = [{ days = ["monday"], at = "07:00", floor = 2 }]',
            r"\[plans.brisk.scaling.timetable\[1\]\] days\[1\]: found 'monday'; allowed: 'mon', 'tue'",
        ),
        (
            "ceiling = 6",
            'ceiling = 6\ntimetable = [{ at = "6h", floor = 2 }]',
            r"at: found '6h'; allowed: a time of day",
        ),
        (
            "ceiling = 6",
            'ceiling = 6\ntimetable = [{ at = "07:00", floor = 7 }]',
            r"\[plans.brisk\] scaling.timetable\[1\]: the floor of 7 is above the ceiling of 6",
        ),
        (
            "ceiling = 6",
            'ceiling = 6\ntimetable = [{ at = "07:00", floor = 2, ceiling = 9 }]',
            r"scaling.timetable\[1\].ceiling: found 9; tier 'tidal' allows 1 to 8",
        ),
        ('target = "60%"', 'target = "60%"\npercentile = "p99"', r"percentile needs measure = 'latency'"),
        (
            'measure = "cpu"\ntarget = "60%"',
            'measure = "latency"\ntarget = "60%"',
            r"target: found '60%'; allowed: a duration",
        ),
        (
            'rule = "target"\nmeasure = "cpu"\ntarget = "60%"',
            'rule = "steps"\nmeasure = "cpu"',
            r"\[plans.brisk.scaling\] up and down are missing",
        ),
        (
            'rule = "target"\nmeasure = "cpu"\ntarget = "60%"',
            'rule = "steps"\nmeasure = "cpu"\nup = [{ above = 0.5, add = 1 }]\ndown = [{ below = 0.6, remove = 1 }]',
            r"below = 0.6 is higher than above = 0.5",
        ),
        (
            'rule = "target"\nmeasure = "cpu"\ntarget = "60%"',
            'rule = "steps"\nmeasure = "cpu"\nup = [{ abov = 0.5, add = 1 }]',
            r"up\[1\]\] unknown key 'abov'; did you mean 'above'\?",
        ),
        (
            'rule = "target"\nmeasure = "cpu"\ntarget = "60%"\npause_down = "8m"',
            'rule = "on_arrival"\npause_down = "8m"',
            r"\[plans.brisk.scaling\] unknown key 'pause_down'",
        ),
        (
            "per_hour = 0.031",
            "per_hour = 0.031\n[tiers.tidal.free]\ncore_seconds = 5",
            r"free.core_seconds needs billing = 'per_request'",
        ),
        (
            'billing = "per_second"',
            'billing = "per_second"\ngranularity = "1s"',
            r"granularity needs billing = 'per_request'",
        ),
        (
            'billing = "per_second"',
            'billing = "per_request"\nper_core_second = 0.001',
            r"size 'small' has per_hour, but billing = 'per_request' pays for use",
        ),
        (
            'billing = "per_second"',
            'billing = "per_second"\nprovision = { p50 = "9s", p95 = "5s" }',
            r"\[tiers.tidal\] provision: found .*; allowed: p50 above 0, and p95 not below it",
        ),
        ('billing = "per_second"', 'billing = "per_request"', r"billing = 'per_request' needs one or more of"),
        (
            'time_zone = "Europe/Lisbon"',
            'time_zone = "Sands"',
            r"\[study\] time_zone: found 'Sands'; allowed: a time zone",
        ),
        ("[objectives]", "[objective]", r"unknown key 'objective'; did you mean 'objectives'\?"),
        ("[service]", "[service", r"this is not TOML"),
        ('zones = ["east", "west"]', 'zones = ["east", "east"]', r"names that differ"),
        ('files = "t.csv"', 'files = "t.csv"\nshapes = []', r"\[trace\] unknown key 'shapes'; did you mean 'shape'"),
    ],
)
def test_mistakes_in_a_study(tmp_path: Path, found: str, instead: str, message: str) -> None:
    assert found in STUDY
    with pytest.raises(StudyError, match=message) as caught:
        _load(
            tmp_path,
            STUDY.replace(found, instead, 1) if found != "per_hour = 0.031" else STUDY.replace(found, instead),
        )
    assert str(tmp_path / "study.toml") in str(caught.value)
    assert "\n" not in str(caught.value)


@pytest.mark.parametrize(
    ("values", "message"),
    [
        ({"replicas": 1, "rollouts": [{"at": 0, "strategy": "rolling", "spare": 0}]}, "could never move"),
        ({"replicas": 8, "rollouts": [{"at": 0, "strategy": "rolling"}]}, "spare = 1 beside 8 replicas is 9"),
        ({"zones": ["north"]}, "zones: found 'north'; allowed: east, west"),
        ({"size": "tiny"}, "size: found 'tiny'"),
        (
            {"balancer": "best"},
            "balancer: found 'best'; allowed: 'least_busy', 'round_robin', 'two_choices', 'random', 'pinned' or 'shared_queue'",
        ),
    ],
)
def test_mistakes_in_a_plan(tmp_path: Path, values: dict[str, Any], message: str) -> None:
    tier = _load(tmp_path).tiers["tidal"]
    with pytest.raises(StudyError, match=message):
        Plan(**{"tier": tier, "size": "small", **values})


def test_mistakes_in_python_are_of_the_same_family() -> None:
    with pytest.raises(StudyError, match=r"\[Service\] slots: found 'many'; allowed: a whole number"):
        Service(slots="many")
    with pytest.raises(StudyError, match=r"\[Objectives\] unknown key 'availabilty'; did you mean 'availability'\?"):
        Objectives(availabilty=1)
    with pytest.raises(StudyError, match=r"\[Tier.sizes.s\] cores: found 0; allowed: a number at least 1e-06"):
        Tier(billing="per_hour", sizes={"s": {"cores": 0, "per_hour": 1}})


def test_a_plan_that_is_not_there(tmp_path: Path) -> None:
    with pytest.raises(StudyError, match="there is no plan 'brisque'; did you mean 'brisk'"):
        _load(tmp_path).plan("brisque")


def _whole(tmp_path: Path) -> Path:
    """The study above, with a trace of two requests on a day that it knows."""
    (tmp_path / "t.csv").write_text("time,cpu_s\n2031-06-05T09:00:05Z,0.1\n2031-06-05T23:00:05Z,0.1\n")
    (tmp_path / "study.toml").write_text(STUDY)
    return tmp_path / "study.toml"


def test_tables_are_replaced_like_files_are_read() -> None:
    service = Service(slots=4, start="6s")
    assert service.replace(start="90s", timeout="250ms") == Service(slots=4, start=90, timeout=0.25)
    with pytest.raises(StudyError, match=r"\[Service\] timeout: found 'soon'; allowed: a duration"):
        service.replace(timeout="soon")
    with pytest.raises(StudyError, match=r"\[Service\] unknown key 'slot'; did you mean 'slots'"):
        service.replace(slot=4)
    tiers = [
        Tier(
            name=name,
            billing="per_hour",
            sizes={"s": {"cores": 1, "per_hour": 1}, "l": {"cores": cores, "per_hour": 2}},
        )
        for name, cores in (("one", 2), ("two", 4))
    ]
    plan = Plan(tier=tiers[0], size="l", replicas=2, name="p")
    assert plan.replace(size="s").only.size.cores == 1
    assert plan.replace(tier=tiers[1]).only.size.cores == 4
    assert (plan.replace(replicas=3, name="q").name, plan.name) == ("q", "p")
    with pytest.raises(StudyError, match="size: found 'xl'"):
        plan.replace(size="xl")


def test_a_study_is_replaced_in_parts(tmp_path: Path) -> None:
    study = load_study(_whole(tmp_path))
    name = next(iter(study.plans))
    changed = study.replace(
        currency="USD", service={"slots": 3}, objectives={"p95": "2s"}, trace={"settle": "5s"},
        plans=[study.plans[name].replace(name="other")],
    )  # fmt: skip
    assert (changed.currency, changed.service.slots, changed.objectives.p95) == ("USD", 3, 2)
    assert (changed.trace_table.settle, list(changed.plans)) == (5, [*study.plans, "other"])
    assert study.service.slots != 3
    for values, message in (
        ({"servce": {}}, "unknown key 'servce'; did you mean 'service'"),
        ({"service": 3}, "found 3; allowed: a Service, or a table"),
        ({"service": {"slots": 0}}, r"\[Service\] slots: found 0"),
        ({"plans": [study.plans[name]] * 2}, "plans whose names differ"),
        ({"plans": {"smal": {"replicas": 6}}}, "plans: 'smal': there is no such plan whose keys could change; "),
        ({"plans": {name: {"replcas": 6}}}, "unknown key 'replcas'; did you mean 'replicas'"),
        ({"plans": {name: 6}}, "found 6; allowed: a plan, or a table of the keys that change"),
        ({"plans": {name: {"tier": "brth"}}}, "tier: found 'brth'"),
        ({"plans": 3}, "plans: found 3"),
    ):
        with pytest.raises(StudyError, match=message):
            study.replace(**values)


def test_a_plan_has_keys_of_the_service_of_its_own(tmp_path: Path) -> None:
    """Twice the slots on the big size; slots that go by the cores: 3 for each of 2 cores, and at least one on half a core."""
    path = _whole(tmp_path)
    text = path.read_text()
    name = next(iter(load_study(path).plans))
    path.write_text(text + f"\n[plans.{name}.service]\nslots = 16\ntimeout = '3s'\n")
    study = load_study(path)
    used = replay(study.trace(), study.service, study.plans[name]).only.service
    assert (used.slots, used.timeout, used.start) == (16, 3, study.service.start)
    path.write_text(text + f"\n[plans.{name}.service]\nslotz = 16\n")
    with pytest.raises(StudyError, match=rf"\[plans.{name}.service\] unknown key 'slotz'; did you mean 'slots'"):
        load_study(path)
    service = Service(slots_per_core=3)
    for cores, slots in ((2, 6), (0.5, 1), (0.1, 1)):
        tier = Tier(billing="per_hour", sizes={"s": {"cores": cores, "per_hour": 1}})
        assert Plan(tier=tier, size="s").only.service_of(service).slots == slots
    assert Plan(tier=tier, size="s", service={"slots": 5}).only.service_of(service).slots == 5
    for values, message in (({}, "slots is missing"), ({"slots": 1, "slots_per_core": 2}, "are both there")):
        with pytest.raises(StudyError, match=message):
            Service(**values)


def test_plans_and_trace_of_a_comparison_can_be_chosen(tmp_path: Path) -> None:
    study = load_study(_whole(tmp_path))
    name = next(iter(study.plans))
    trace = Trace.from_arrays(at_s=[0, 100], cpu_s=[1, 1], span_s=86400, start="2031-06-05T00:00")
    own = study.plans[name].replace(name="own")
    found = compare(study, trace=trace, plans=[name, own])
    assert list(found.table.index) == [name, "own"]
    assert found.trace is trace
    assert found.outcome("own").trace is trace
    for plans, message in (
        ([], "found none"),
        ([name, name], "two are called"),
        (["x"], "there is no plan 'x'"),
        ([3], "found 3"),
    ):
        with pytest.raises(StudyError, match=message):
            compare(study, trace=trace, plans=plans)


def test_a_plan_of_one_service_is_written_short() -> None:
    """Its keys stand in the plan, in Python too; what is read of it is read of what the service runs on."""
    tier = Tier(billing="per_hour", sizes={"s": {"cores": 1, "per_hour": 1}, "l": {"cores": 4, "per_hour": 1}})
    plan = Plan(name="p", tier=tier, size="s", replicas=1)
    assert plan == Plan(name="p", services={"service": Hosting(tier=tier, size="s", replicas=1)})
    assert plan.replace(size="l") == plan.replace(services={"service": plan.only.replace(size="l")})
    assert (plan.replace(name="q").only.plan, plan.place_of("service")) == ("q", ("plans", "p"))
    two = Plan(name="two", services={"web": plan, "db": plan.only})
    assert (two.of("db"), two.place_of("db")) == (two.of("web"), ("plans", "two", "services", "db"))
    with pytest.raises(AttributeError, match=r"a plan has no 'replicas', .* plan\.only\.replicas"):
        _ = plan.replicas
    assert list(System.of({"web": Service(slots=1)}, plan).plan.services) == ["web"]  # whatever its name
    for wrong, message in (
        (lambda: two.only, r"there are the services web, db; allowed: plan\.of"),
        (lambda: two.replace(size="l"), r"there are the services web, db"),
        (lambda: Plan(services={"web": 3}), "found 3; allowed: a table"),
        (lambda: Plan(services={"web": plan}, size="l"), "unknown key 'size'; allowed: name, services"),
        (lambda: System.of(Service(slots=1), 3), "plan: found 3; allowed: a Plan"),  # type: ignore[arg-type]
        (lambda: System.of({"web": Service(slots=1), "db": Service(slots=1)}, plan), "for one service, and there are"),
    ):
        with pytest.raises(StudyError, match=message):
            wrong()


def test_unknown_keywords_of_questions_are_refused(tmp_path: Path) -> None:
    study = load_study(_whole(tmp_path))
    for ask, message in (
        (lambda: compare(study, seeds=1), "'seeds'; did you mean 'seed'"),
        (lambda: events(study, "brisk", executor=None), "'executor'; allowed: seed, cache, progress"),
        (lambda: study.compare(wokers=2), "did you mean 'workers'"),
    ):
        with pytest.raises(TypeError, match=message):
            ask()


@pytest.mark.parametrize("service", ["service", "services.web"])
@pytest.mark.parametrize("is_short", [True, False])
def test_the_plan_of_one_service_may_be_written_in_both_forms(tmp_path: Path, service: str, is_short: bool) -> None:
    name = "web" if "." in service else "service"
    table = "plans.p" if is_short else f"plans.p.services.{name}"
    text = (
        f'[trace]\nfiles = "t.csv"\n[{service}]\nslots = 2\n[tiers.t]\nbilling = "per_hour"\n'
        "[tiers.t.sizes.s]\ncores = 1\nper_hour = 0.1\n[tiers.t.sizes.l]\ncores = 2\nper_hour = 0.2\n"
    )
    path = tmp_path / "study.toml"
    path.write_text(f'{text}[{table}]\ntier = "t"\nsize = "s"\n')
    study = load_study(path)
    assert study.plans["p"] == Plan(name="p", services={name: Hosting(tier=study.tiers["t"], size="s")})
    for ranges in ({"size": ["s", "l"]}, {f"plan.services.{name}.size": ["s", "l"]}):
        assert [one.plan.only.size.name for one in combinations(study, study.plans["p"], ranges) if one.plan] == [
            "s",
            "l",
        ]
    assert study.replace(plans={"p": {"size": "l"}}).plans["p"].only.size.name == "l"
    path.write_text(f"{text}[plans.p]\n")
    with pytest.raises(StudyError, match=r"\[plans.p\] (tier is missing|says nothing of service 'web')"):
        load_study(path)
