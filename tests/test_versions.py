"""Two versions beside each other, bad versions, and going back, by hand. Every case runs on both data planes."""

from __future__ import annotations

from typing import Any

import pytest

from builders import both, make_plan, make_tier, make_trace
from libramen import Outcome, Service, StudyError


def _release(n: int = 4, *, tier: Any = None, service: Any = None, plan: Any = None, **rollout: Any) -> Outcome:
    """A fleet of n with a start of 10 s, a request every second that waits 0.5 s, a release at 100."""
    trace = make_trace([float(k) for k in range(400)], wait=0.5, span_s=400)
    what = make_plan(make_tier(**(tier or {})), replicas=n, rollouts=[{"at": 100, **rollout}], **(plan or {}))
    return both(trace, Service(slots=9, start=10, **(service or {})), what)


def _to_new(outcome: Outcome, n: int = 4) -> list[int]:
    """The requests that went to the new version: their numbers are above those of the old one."""
    return [k for k, number in enumerate(outcome.requests["replica"].fillna(0)) if number > n]


def _canary(**values: Any) -> dict[str, Any]:
    return {"strategy": "canary", "steps": [{"share": "25%", "hold": "40s"}], **values}


def test_a_canary_gets_every_fourth_request() -> None:
    """ceil(0.25 * 4) = 1 new replica is ready at 110. Of the attempts since then (from that of 110) the 4th, 8th, ...
    go to it: 113, 117, ..., 149. The hold ends at 150; the three others are ready at 160, and until then the share of
    before holds: 153, 157. From 160 on all go to the new version; the old ones drain, and are gone at 160."""
    found = _release(**_canary())
    assert _to_new(found)[:12] == [*range(113, 150, 4), 153, 157]
    assert _to_new(found)[12:] == list(range(160, 400))
    assert [r.gone_s for r in found.run.only.replicas] == [160] * 4 + [None] * 4
    assert [r.ready_s for r in found.run.only.replicas[4:]] == [110, 160, 160, 160]
    (update,) = found.run.only.updates
    assert (update.began_s, update.ended_s, update.result) == (100, 160, "done")
    assert found.endings["ok"] == 400


def test_replicas_of_a_canary_are_rounded_up() -> None:
    """ceil(0.25 * 5) = 2 new ones for the first step."""
    found = _release(5, **_canary())
    assert [r.ready_s for r in found.run.only.replicas[5:]] == [110, 110, 160, 160, 160]


def test_a_bad_version_is_found_by_the_canary_and_undone() -> None:
    """All attempts of the new version fail, on taking their slot (they have no CPU work). Judged at 115 (only that of
    113 has ended), 120 (113, 117), 125 (113, 117, 121): three are enough, and all have failed. Undone at 125 before the
    request of 125, all later ones go to the old version; of 400 requests 3 fail."""
    found = _release(**_canary(error_rate=1, rollback_above=0.5, judge_least=3))
    assert found.endings["errored"] == 3
    assert _to_new(found) == [113, 117, 121]
    (update,) = found.run.only.updates
    assert (update.result, update.undone_s, update.judged) == ("undone", 125, (3, 3))
    assert [r.gone_s for r in found.run.only.replicas] == [None] * 4 + [125]


def test_attempts_before_the_window_are_not_looked_at() -> None:
    """As above, but of the last 6 s only: (109, 115] has one, (114, 120] one, (119, 125] one, ...: never three."""
    found = _release(**_canary(error_rate=1, rollback_above=0.5, judge_least=3, watch=6, keep_judging=0))
    assert found.run.only.updates[0].result == "done"
    # At a judgement every 5 s, one of 1.5 a window ended; with least 1 the first, of 115, has that of 113.
    found = _release(**_canary(error_rate=1, rollback_above=0.5, judge_least=1, watch=6))
    assert found.run.only.updates[0].undone_s == 115


def test_a_rolling_release_is_undone_by_the_same_rounds() -> None:
    """n 2, spare 0, keep 1: at 100 #1 goes and #3 is ordered, ready at 110. Then #2 goes, #4 is ordered, and #3 has all
    requests from that of 110 on; each fails. Judged at 115: five have ended, all failed. #4 is cancelled; back: #5 of
    the old version is ready at 125, when #3 goes, and #6 at 135. The requests of 110 to 124 have failed."""
    found = _release(2, strategy="rolling", spare=0, keep=1, error_rate=1, rollback_above=0.5, judge_least=3)
    assert [(r.version, r.ordered_s, r.ready_s, r.gone_s) for r in found.run.only.replicas[2:]] == [
        (2, 100, 110, 125),
        (2, 110, None, 115),
        (1, 115, 125, None),
        (1, 125, 135, None),
    ]
    (update,) = found.run.only.updates
    assert (update.undone_s, update.judged, update.ended_s) == (115, (5, 5), 135)
    assert found.endings["errored"] == 15


def test_a_switch_keeps_the_old_for_a_while() -> None:
    """Four more are ready at 110, when all traffic goes to them; the old ones drain at 140."""
    found = _release(strategy="switch", keep_old="30s")
    assert _to_new(found) == list(range(110, 400))
    assert [r.gone_s for r in found.run.only.replicas] == [140] * 4 + [None] * 4
    assert found.run.only.updates[0].ended_s == 140


def test_a_zone_is_lost_under_a_canary() -> None:
    """Half of the traffic, for two new replicas: #5 in the east and #6 in the west are ready at 110. At 120 the east is
    lost, with #1, #3 and #5, and until that is found at 125 they look empty and have their turn: of the attempts since 110
    every second goes to the new version, 121 to #6 and 123 to #5; 120, 122 and 124 to #4, #1 and #2."""
    fault = {"kind": "zone_loss", "zone": "east", "at": 120, "detect": 5}
    found = _release(
        tier={"zones": ["east", "west"]},
        plan={"faults": [fault]},
        **_canary(steps=[{"share": "50%", "hold": "400s"}]),
    )
    lost = [k for k, ending in enumerate(found.requests["ending"]) if ending == "lost"]
    assert lost == [122, 123]
    new = {r.number for r in found.run.only.replicas if r.version == 2}
    went = [k for k, number in enumerate(found.requests["replica"]) if number in new]
    assert went == list(range(111, 400, 2))


def test_the_other_version_takes_what_the_chosen_one_cannot() -> None:
    """One new replica, and half of the traffic for it. It dies at 120 and is found at once: until it is back at 130 the
    old version gets what was chosen for it, and it is counted all the same."""
    fault = {"kind": "crash", "at": 120, "replica": 3}
    found = _release(2, plan={"faults": [fault]}, **_canary(steps=[{"share": "50%", "hold": "400s"}]))
    assert found.endings["ok"] == 400
    assert _to_new(found, 2) == [k for k in range(111, 400, 2) if not 120 <= k < 130]


@pytest.mark.parametrize(
    ("factor", "p50"), [({"cpu_factor": 3.0}, 0.3), ({"error_rate": 0.0}, 0.1), ({"cpu_factor": 0.5}, 0.05)]
)
def test_a_new_version_has_its_own_work(factor: dict[str, float], p50: float) -> None:
    """Requests of 0.1 core-seconds, one a second, all alone on a core of speed 1."""
    trace = make_trace([float(k) for k in range(100)], cpu=0.1, span_s=100)
    plan = make_plan(replicas=1, rollouts=[{"at": 0, "strategy": "stop_start", "start": 0, **factor}])
    found = both(trace, Service(slots=2), plan)
    assert found.latency_s["p50"] == pytest.approx(p50)


def test_a_new_version_may_need_more_memory() -> None:
    """100 bytes and 50 a request, in 200: two fit (200). Times 1.5: 150 + 75 is more than 200, so one does."""
    trace, service = make_trace([1, 1], wait=1), Service(slots=9, memory_base=100, memory_per_request=50)
    tier = make_tier(sizes={"s": {"cores": 1, "per_hour": 1, "memory": 200}})
    release = {"at": 0, "strategy": "stop_start"}
    assert both(trace, service, make_plan(tier, rollouts=[release])).endings["ok"] == 2
    hungry = both(trace, service, make_plan(tier, rollouts=[release | {"memory_factor": 1.5}]))
    assert hungry.endings["lost"] == 2


def test_a_new_version_may_die_again_and_again() -> None:
    """Ready at 110, it dies every 20 s and starts for 10: 130 to 140, 160 to 170, ...: of [110, 400) a third."""
    found = _release(1, strategy="stop_start", crashes_after=20)
    died = [death.at_s for death in found.run.only.deaths]
    assert died == [130 + 30 * k for k in range(10)]
    assert found.endings["refused"] == 10 + 9 * 10  # the release, and nine gaps; the tenth is after the last request


def test_a_build_takes_time_and_changes_nothing_meanwhile() -> None:
    found = _release(1, strategy="stop_start", build="1min")
    assert [(u.due_s, u.began_s, u.ended_s) for u in found.run.only.updates] == [(100, 160, 170)]
    assert found.endings["refused"] == 10


def test_twice_the_fleet_may_be_too_much() -> None:
    """An error for a fixed fleet; else the release is skipped, and said so."""
    tier = {"replicas": {"least": 1, "most": 6}}
    with pytest.raises(StudyError, match="'switch' of 4 replicas needs 8 at once; allowed: up to 6"):
        _release(tier=tier, strategy="switch")
    rule = {"rule": "target", "measure": "cpu", "target": 0.5, "floor": 4, "ceiling": 6}
    found = _release(tier=tier, strategy="switch", plan={"scaling": rule})
    assert [update.result for update in found.run.only.updates] == ["skipped"]
    (finding,) = [finding for finding in found.findings if finding.kind == "release_skipped"]
    assert "it needs 8 replicas at once, and the tier has 6" in finding.text
    assert len(found.run.only.replicas) == 4


def test_releases_on_some_days_of_the_week() -> None:
    """From Thursday on, ten days: Tuesday is the 6th and Thursday the 1st and 8th of them."""
    trace = make_trace([0.0], span_s=10 * 86400, start="2031-06-05T00:00:00", time_zone="Europe/Lisbon")
    plan = make_plan(rollouts=[{"at": "12:00", "days": ["tue", "thu"], "strategy": "stop_start"}])
    found = both(trace, Service(slots=1), plan)
    assert [update.due_s / 86400 for update in found.run.only.updates] == [0.5, 5.5, 7.5]
    with pytest.raises(StudyError, match="days: with daily it is on every day"):
        make_plan(rollouts=[{"at": "12:00", "days": ["tue"], "daily": True, "strategy": "stop_start"}])
    with pytest.raises(StudyError, match="days needs a time of day"):
        both(trace, Service(slots=1), make_plan(rollouts=[{"at": "1h", "days": ["tue"], "strategy": "stop_start"}]))


def test_an_undone_release_does_not_come_again() -> None:
    trace = make_trace([float(k) for k in range(0, 3 * 86400, 60)], span_s=3 * 86400, start="2031-06-05T00:00:00",
                       time_zone="Europe/Lisbon")  # fmt: skip
    bad = {"strategy": "switch", "error_rate": 1, "rollback_above": 0.1, "judge_least": 1, "keep_old": "10m"}
    plan = make_plan(make_tier(), replicas=2, rollouts=[{"at": "12:00", "daily": True, **bad}])
    found = both(trace, Service(slots=2), plan)
    assert [update.result for update in found.run.only.updates] == ["undone", "not_begun", "not_begun"]
    assert found.endings["errored"] == 1


def test_held_requests_wait_for_a_version_and_go_over_to_the_other() -> None:
    """One slot a replica, held requests: at 100 a switch; #2 is ready at 110. Three requests of 30 s at 105: #1 takes
    one, two are held for the old version. From 110 on all goes to the new one. At 110 the old one drains, and what
    waits for it goes over: #2 takes the first until 140, then the second until 170."""
    tier = make_tier(holds_requests=True)
    plan = make_plan(tier, rollouts=[{"at": 100, "strategy": "switch"}])
    found = both(make_trace([105, 105, 105], wait=30, span_s=300), Service(slots=1, backlog=0, start=10), plan)
    assert found.requests["replica"].tolist() == [1, 2, 2]
    assert found.requests["latency_s"].tolist() == [30, 35, 65]
