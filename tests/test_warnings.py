"""What `check` says of releases that are never judged, of peaks that are paid all month, and of shared limits."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
import pytest
import tomli_w

from builders import plain_study
from libramen import check, load_study

if TYPE_CHECKING:
    from pathlib import Path

TIER: dict[str, Any] = {"replicas": {"least": 1, "most": 4}, "zones": ["a", "b"]}


def problems(folder: Path, plan: dict[str, Any], at_s: Any = (0.0,), **more: Any) -> list[str]:
    """All of them; a request at each of these times, of no great work, in an hour."""
    at = np.append(at_s, 3600.0)
    work = np.zeros(len(at))
    np.savetxt(
        folder / "t.csv", np.column_stack([at, work, work]), "%.6f", ",", header="at_s,cpu_s,wait_s", comments=""
    )
    path = plain_study(folder, {"files": "t.csv"}, {"p": {"replicas": 2} | plan}, **more)
    return [problem.text for found in check(load_study(path)).plans for problem in found.problems]


def release(**values: Any) -> dict[str, Any]:
    return {"rollouts": [{"strategy": "rolling", "at": "10m", "rollback_above": "5%", "watch": "1m"} | values]}


@pytest.mark.parametrize("strategy", ["rolling", "stop_start", "switch"])
def test_a_release_that_is_never_judged(tmp_path: Path, strategy: str) -> None:
    """Fifty requests at once before it, and one every five seconds after: 12 or 13 within a minute, ends included."""
    at_s = np.concatenate([np.full(50, 300.0), np.arange(600.0, 1200.0, 5.0)])
    said = f"its {strategy} update can never be judged: that takes 20 attempts within 1 min, and at most 13 arrive"
    judged = [one for one in problems(tmp_path, release(strategy=strategy), at_s) if "judged" in one]
    assert judged == [said]
    for enough in (
        release(watch="2m"),
        release(judge_least=13),
        {"rollouts": [{"strategy": "rolling", "at": "10m"}]},
        release(at="4m"),
    ):
        assert not [one for one in problems(tmp_path, enough, at_s) if "judged" in one]
    service = {"service": {"slots": 2, "retries": 1}}  # each may come twice
    assert not [one for one in problems(tmp_path, release(), at_s, **service) if "judged" in one]


def test_a_peak_that_is_paid_all_month(tmp_path: Path) -> None:
    monthly = {"billing": "per_month"}
    sold = {"tier": TIER | monthly | {"sizes": {"s": {"cores": 1, "per_month": 5}}}}
    says = "update needs up to {} replicas at once instead of 2; the tier bills the month's peak"
    for plan, more in (
        ({"strategy": "rolling", "spare": 1}, 1),
        ({"strategy": "switch"}, 2),
        ({"strategy": "canary", "steps": [{"share": "50%", "hold": "5m"}]}, 2),
    ):
        found = [one for one in problems(tmp_path, {"rollouts": [{"at": "10m"} | plan]}, **sold) if "peak" in one]
        assert len(found) == 1
        assert says.format(2 + more) in found[0]
    for plan in ({"strategy": "rolling", "spare": 0, "keep": 1}, {"strategy": "stop_start"}):
        assert not [one for one in problems(tmp_path, {"rollouts": [{"at": "10m"} | plan]}, **sold) if "peak" in one]
    by_hour = {"rollouts": [{"strategy": "rolling", "at": "10m", "spare": 1}]}
    assert not [one for one in problems(tmp_path, by_hour, tier=TIER) if "peak" in one]


def test_a_limit_that_two_services_share(tmp_path: Path) -> None:
    services = {"web": {"slots": 2, "calls": [{"to": "db", "cpu": 0}]}, "db": {"slots": 2, "routes": ["/none"]}}
    fleets = {name: {"tier": "t", "size": "s", "replicas": n} for name, n in (("web", 3), ("db", 2))}

    def said(most: int) -> list[str]:
        sold = {
            "billing": "per_hour",
            "replicas": {"least": 1, "most": most},
            "sizes": {"s": {"cores": 1, "per_hour": 1}},
        }
        (tmp_path / "t.csv").write_text("at_s,cpu_s,wait_s,route\n0,0,0,/\n60,0,0,/\n")
        study = {
            "trace": {"files": "t.csv"},
            "services": services,
            "tiers": {"t": sold},
            "plans": {"p": {"services": fleets}},
        }
        (tmp_path / "s.toml").write_text(tomli_w.dumps(study))
        found = check(load_study(tmp_path / "s.toml"))
        return [problem.text for one in found.plans for problem in one.problems]

    assert said(4) == [
        "web and db may together have 5 replicas on tier t; its limit of 4 is applied to each service alone"
    ]
    assert said(5) == []


def test_a_backlog_that_has_no_effect(tmp_path: Path) -> None:
    """Where the tier holds requests, or the balancer has one queue; left out there is nothing to say of it."""
    service = {"slots": 2, "backlog": 7}
    held = {"tier": TIER | {"holds_requests": True, "queue_limit": 30}, "service": service}
    said = "backlog = 7 has no effect: its {}, so requests wait in one queue{}, not at replicas"
    assert said.format("tier holds requests", " (queue_limit = 30)") in problems(tmp_path, {}, **held)
    one_queue = problems(tmp_path, {"balancer": "shared_queue"}, service=service)
    assert said.format("balancer is shared_queue", "") in one_queue
    assert not [one for one in problems(tmp_path, {}, service=service) if "backlog" in one]
    assert not [one for one in problems(tmp_path, {}, **held | {"service": {"slots": 2}}) if "backlog" in one]


def test_what_a_reclaim_leaves(tmp_path: Path) -> None:
    """A minute of provision, and 90 s of notice of which the last 40 are to drain in: ten seconds too few. Without a drain
    nobody is missed; where it drains at the notice, for the whole minute."""
    tier = TIER | {"provision": "60s", "interruptible": True, "notice": "90s"}
    plan = {"replicas": 1, "faults": [{"kind": "reclaim", "at": "10m"}]}

    def gaps(service: dict[str, Any], **values: Any) -> list[str]:
        found = problems(tmp_path, plan, tier=tier | values, service={"slots": 2} | service)
        return [one for one in found if "reclaim" in one]

    assert gaps({"drain": "40s"}) == ["its reclaim leaves no replica that works for at least 10 s"]
    assert gaps({}) == []
    assert gaps({}, on_notice="drain") == ["its reclaim leaves no replica that works for at least 1 min"]


def test_cores_that_the_platform_takes_are_not_counted_on(tmp_path: Path) -> None:
    """3600 s of CPU work within a minute need 60 cores: 60 replicas of one, 120 where half of each is taken."""
    at = np.full(3600, 600.0)
    work = np.column_stack([at, np.ones(len(at)), np.zeros(len(at))])
    np.savetxt(tmp_path / "t.csv", work, "%.6f", ",", header="at_s,cpu_s,wait_s", comments="")
    for reserved, needs in ((0, 60), (0.5, 120)):
        path = plain_study(tmp_path, {"files": "t.csv"}, {"p": {"replicas": 2}}, tier={"reserved_cores": reserved})
        (plan,) = check(load_study(path)).plans
        assert plan.needs_cpu == needs
