"""Retries, time-outs and drops, by hand. Each case runs on both data planes."""

from __future__ import annotations

import pytest

from builders import both, make_plan, make_tier, make_trace
from libramen import Outcome, Service


def _endings(outcome: Outcome) -> list[str]:
    return list(outcome.requests["ending"])


def test_a_refused_request_comes_again_after_doubling_pauses() -> None:
    """One slot, no backlog, work 5 from 0 to 5. The second is refused at 0, at 1 and at 1 + 2 = 3, and comes a last
    time at 3 + 4 = 7, when the slot is free: done at 12. Four attempts, 12 s from the first, queued 0."""
    service = Service(slots=1, backlog=0, retries=3, retry_after=1)
    outcome = both(make_trace([0, 0], cpu=5, span_s=20), service, make_plan())
    assert _endings(outcome) == ["ok", "ok"]
    assert outcome.run.results.latency_s.tolist() == [5, 12]
    assert outcome.run.results.attempts.tolist() == [1, 4]
    assert outcome.run.results.before_s.tolist() == [0, 7]
    assert (outcome.n_requests, outcome.attempts) == (2, 5)


def test_the_latency_of_a_failure_runs_to_the_last_attempt() -> None:
    """As before with two retries: refused at 0, 1 and 3."""
    service = Service(slots=1, backlog=0, retries=2, retry_after=1)
    outcome = both(make_trace([0, 0], cpu=5, span_s=20), service, make_plan())
    assert _endings(outcome) == ["ok", "refused"]
    assert outcome.run.results.latency_s.tolist() == [5, 3]


def test_a_client_that_gives_up_leaves_its_request_behind() -> None:
    """Time-out 2, work 3, one slot: the first attempt runs 0..3, but at 2 its client gives up and sends again at 2.5.
    That one gets the slot at 3 and would be done at 6, past its deadline of 4.5: timed out, 4.5 s after the first.
    A second request at 5 waits for the slot until 6: its deadline of 7 passes, its retry at 7.5 waits until 9 (work that
    nobody awaits, 6..9) and ends at 12, past 9.5: timed out after 4.5 s too. Both do 6 s of work: busy for 12 s."""
    service = Service(slots=1, timeout=2, retries=1, retry_after=0.5)
    outcome = both(make_trace([0, 5], cpu=3, span_s=24), service, make_plan())
    assert _endings(outcome) == ["timed_out", "timed_out"]
    assert outcome.run.results.latency_s.tolist() == [4.5, 4.5]
    assert outcome.run.results.queued_s.tolist() == [0.5, 1.5]
    assert outcome.utilisation == 12 / 24


def test_retries_keep_an_overload_alive() -> None:
    """Ten at once on one slot of a second each, time-out 1.5: without retries one is answered in time and the work is
    over after 10 s. With five retries the same ten keep the slot busy for much longer."""
    trace = make_trace([0.0] * 10, cpu=1, span_s=100)
    calm = both(trace, Service(slots=1, timeout=1.5), make_plan())
    alive = both(trace, Service(slots=1, timeout=1.5, retries=5, retry_after=0.1), make_plan())
    assert calm.utilisation == pytest.approx(0.10)
    assert alive.utilisation > 0.3
    assert alive.attempts > 40


def test_drop_discards_what_is_late_when_it_would_take_a_slot() -> None:
    """Work 2 each, one slot, time-out 3. The second would begin at 2 (not late) and be late at 4: done all the same.
    The third and the fourth are past 3 when the slot is free at 4: discarded, so the fifth, which came at 3, begins at 4
    and is late only at 6 = its deadline: in time. Without drop it would have begun at 8."""
    trace = make_trace([0, 0, 0, 0, 3], cpu=2, span_s=20)
    dropped = both(trace, Service(slots=1, timeout=3, on_timeout="drop"), make_plan())
    assert _endings(dropped) == ["ok", "timed_out", "timed_out", "timed_out", "ok"]
    assert dropped.run.results.latency_s.tolist() == [2, 3, 3, 3, 3]
    assert dropped.run.results.queued_s.tolist() == [0, 2, 4, 4, 1]
    assert dropped.utilisation == 6 / 20
    finished = both(trace, Service(slots=1, timeout=3), make_plan())
    assert _endings(finished) == ["ok", "timed_out", "timed_out", "timed_out", "timed_out"]
    assert finished.utilisation == 10 / 20


def test_at_one_instant_requests_of_the_trace_come_before_repeated_ones() -> None:
    """One slot, no backlog, work 1: the second is refused at 0 and comes again at 1, when the slot is free, but so does a
    new request, which goes first. The last retry at 1 + 2 = 3 is served."""
    service = Service(slots=1, backlog=0, retries=2, retry_after=1)
    outcome = both(make_trace([0, 0, 1], cpu=1, span_s=9), service, make_plan())
    assert outcome.run.results.latency_s.tolist() == [1, 4, 1]
    assert outcome.run.results.attempts.tolist() == [1, 3, 1]


def test_jitter_spreads_retries_and_is_the_same_for_every_plan() -> None:
    """Jitter of a half: the pause of 1 s becomes 0.5 to 1.5 s, and another number of replicas changes none of it."""
    trace = make_trace([0.0] * 40, cpu=0.01, span_s=9)
    service = Service(slots=1, backlog=0, retries=1, retry_after=1, retry_jitter=0.5)
    one = both(trace, service, make_plan(), seed=3)
    two = both(trace, service, make_plan(replicas=2), seed=3)
    came = one.run.results.before_s[one.run.results.attempts == 2]
    assert len(came) == 39
    assert 0.5 <= came.min() < 0.6 < 1.4 < came.max() < 1.5
    both_repeat = (one.run.results.attempts == 2) & (two.run.results.attempts == 2)
    assert (one.run.results.before_s == two.run.results.before_s)[both_repeat].all()
    other = both(trace, service, make_plan(), seed=4)
    assert (other.run.results.before_s != one.run.results.before_s).sum() > 30


def test_requests_are_held_until_a_replica_is_ready() -> None:
    """No replica at first; the release brings none (n = 0), a scaling floor of 1 orders one at 0, ready at 0 + 3 = 3.
    Three requests came at 0, 1, 1.5; one slot of 1 s each: served at 3, 4, 5."""
    rule = {"rule": "target", "measure": "cpu", "target": 0.5, "every": 2, "floor": 1}
    tier = make_tier(provision=3, holds_requests=True)
    outcome = both(
        make_trace([0, 1, 1.5], cpu=1, span_s=9), Service(slots=1), make_plan(tier, replicas=0, scaling=rule)
    )
    assert outcome.run.results.latency_s.tolist() == [4, 4, 4.5]
    assert outcome.run.results.queued_s.tolist() == [3, 3, 3.5]


def test_the_held_queue_has_a_limit() -> None:
    """One replica with one slot and no backlog holds one in its slot and two in the queue; the fourth is refused."""
    tier = make_tier(holds_requests=True, queue_limit=2)
    outcome = both(make_trace([0, 0, 0, 0], cpu=1, span_s=9), Service(slots=1, backlog=0), make_plan(tier))
    assert _endings(outcome) == ["ok", "ok", "ok", "refused"]
    assert outcome.run.results.latency_s.tolist() == [1, 2, 3, 0]
    assert outcome.requests["replica"].tolist()[:3] == [1, 1, 1]
    assert outcome.requests["replica"].isna().tolist() == [False, False, False, True]


def test_held_requests_that_nothing_will_take_end_at_last() -> None:
    """No replica, and none will come. With a time-out of 4 they end by it; without, as refused when the last of them has
    come at 3 and nothing else is left: after 3, 2 and 0 s."""
    tier = make_tier(holds_requests=True)
    trace = make_trace([0, 1, 3], cpu=1, span_s=9)
    timed = both(trace, Service(slots=1, timeout=4), make_plan(tier, replicas=0))
    assert _endings(timed) == ["timed_out"] * 3
    assert timed.run.results.latency_s.tolist() == [4, 4, 4]
    refused = both(trace, Service(slots=1), make_plan(tier, replicas=0))
    assert _endings(refused) == ["refused"] * 3
    assert refused.run.results.latency_s.tolist() == [3, 2, 0]
    # A rule that decides for ever, and never to order anything, changes nothing about that.
    rule = {"rule": "target", "measure": "cpu", "target": 0.5, "every": 1}
    ruled = both(trace, Service(slots=1), make_plan(tier, replicas=0, scaling=rule))
    assert ruled.run.results.latency_s.tolist() == [3, 2, 0]
