"""Other months made of the quarters of the days of a trace, and repeats until it is clear whether a plan holds."""

from __future__ import annotations

import json
from dataclasses import replace
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest

from builders import demo_in, make_case, make_plan, make_tier
from libramen import (
    Comparison,
    Figures,
    Objectives,
    ReplayError,
    Service,
    Terms,
    Trace,
    load_study,
    repeat,
    replay,
    search,
)
from libramen.questions import sequential
from libramen.questions.months import _times, resampled

if TYPE_CHECKING:
    from pathlib import Path


def _days(busy: list[bool], *, n: int = 200) -> Trace:
    """A request every few minutes; on busy days each comes with a second one at the same time."""
    at = [86400.0 * day + 300 * k for day, is_busy in enumerate(busy) for k in range(n) for _ in range(1 + is_busy)]
    return Trace.from_arrays(at_s=at, cpu_s=np.full(len(at), 1.0), span_s=86400.0 * len(busy))


def _compared(trace: Trace, terms: Terms | None = None, **objectives: Any) -> Comparison:
    wanted = Objectives(**objectives)
    cases = [
        make_case(
            {"service": Service(slots=4)},
            make_plan(make_tier(), replicas=n, name=str(n)),
            wanted,
            terms=terms or Terms(),
        )
        for n in (1, 2)
    ]
    return Comparison([case.figures(trace) for case in cases], trace, cases)


def test_which_plan_is_the_cheapest_depends_on_which_days_come() -> None:
    """One replica is enough where few of the days are busy: its two requests share the core, and are late."""
    busy = [day % 4 == 0 for day in range(12)]
    found = _compared(_days(busy), p50="1.5s")
    sure = found.resampled
    assert sure is not None
    assert (sure.months, sure.days) == (100, 12)
    assert found.cheapest is not None
    assert found.cheapest.plan == "1"
    # Each of the three quarters with requests of 12 days is a busy one with a chance of 1/4, then with twice as many, all
    # of them late; how far their number is from its mean of 9 is widened by sqrt(12 / 11). Late if over a third are.
    rng = np.random.default_rng(1)
    per_quarter = np.array([72, 72, 56])  # of 200 requests five minutes apart
    k = 3 + (rng.binomial(12, 0.25, (100_000, 3)) - 3) * np.sqrt(12 / 11)
    good, late = ((12 - k) * per_quarter).sum(axis=1), (2 * k * per_quarter).sum(axis=1)
    expected = float(np.mean(good >= 0.5 * (good + late)))
    won = sure.cheapest["1"] / 100
    assert abs(won - expected) < 4 * np.sqrt(expected * (1 - expected) / 100)
    assert sure.cheapest["2"] == 100 - sure.cheapest["1"]
    assert sure.met["2"] == 100
    assert found.to_dict()["resampled"]["days"] == 12


def test_money_of_the_days() -> None:
    """All days alike: every month costs what the bill says."""
    found = _compared(_days([False] * 14), month=731)
    sure = found.resampled
    assert sure is not None
    assert sure.cheapest == {"1": 100}
    assert (sure.met, sure.none) == ({"1": 100, "2": 0}, 0)
    figures = found.figures[0]
    assert Figures.from_dict(json.loads(json.dumps(figures.to_dict()))) == figures


def test_weekdays_are_replaced_by_weekdays() -> None:
    """Busy week-ends and quiet weekdays: every month has as many of each, so there is nothing in doubt."""
    start = datetime(2031, 6, 2, tzinfo=UTC)  # a Monday
    busy = [day % 7 >= 5 for day in range(14)]
    steady = _compared(replace(_days(busy), start=start), p50="1.5s")
    assert steady.resampled is not None
    assert steady.resampled.cheapest == {"1": 100}
    mixed = _compared(replace(_days(busy), start=start.replace(day=4)), p50="1.5s").resampled  # from a Wednesday on
    assert mixed is not None
    assert mixed.cheapest["2"] > 0


def test_two_days_differ_more_than_they_show() -> None:
    """Of two days each quarter is one's or the other's; the spread around the mean is sqrt(2) times that."""
    weights = _times([[0, 1]], 2, np.random.default_rng(3), 2000)
    assert set(np.round(weights.ravel(), 6).tolist()) == {round(1 - np.sqrt(2), 6), 1.0, round(1 + np.sqrt(2), 6)}
    assert np.allclose(weights.sum(axis=1), 2)
    assert abs(float(weights.mean()) - 1) < 1e-12
    # The unbiased variance of one of n drawn values is that of the sample: 2 draws of 1/2 each, so 1/2 x 2 = 1.
    assert abs(float(weights.var()) - 1) < 0.05


def test_too_few_days_and_figures_alone() -> None:
    short = _compared(_days([True]), p50="9s")
    assert short.resampled is None
    long = _compared(_days([True] * 8), p50="9s")
    assert Comparison(long.figures).resampled is None
    assert resampled([], {}) is None


def test_days_that_the_month_names_stay_among_themselves() -> None:
    """A busy day once and thirteen quiet ones: one replica is late on the busy day alone, in every month."""
    busy = [day == 3 for day in range(14)]
    trace = replace(_days(busy), start=datetime(2031, 6, 2, tzinfo=UTC))
    month = {"days": [{"day": "2031-06-05", "times": 1}, {"day": "other", "times": 29}]}
    sure = _compared(trace, Terms(month=month), p95="1.5s").resampled
    assert sure is not None
    assert sure.cheapest == {"2": 100}  # 400 of 200 x 29 + 400 are late
    fewer = {"days": [{"day": "2031-06-05", "times": 0.5}, {"day": "other", "times": 29.5}]}
    assert _compared(trace, Terms(month=fewer), p95="1.5s").resampled.cheapest == {"1": 100}  # type: ignore[union-attr]
    alone = {"days": [{"day": "2031-06-05", "times": 1}]}
    assert _compared(trace, Terms(month=alone), p95="1.5s").resampled is None


def test_the_test_errs_no_more_often_than_it_says() -> None:
    """Simulated with chances at which either answer would be wrong: at most 5 %, give or take what 4,000 runs leave."""
    rng = np.random.default_rng(8)
    for chance, wrong in ((sequential.SURE, False), (sequential.UNSURE, True)):
        answers = []
        for _ in range(4000):
            drawn = rng.random(2000) < chance
            answers.append(sequential.verdict(drawn.tolist()))
        assert None not in answers
        share = answers.count(wrong) / len(answers)
        assert 0.001 < share <= sequential.ERROR + 3 * np.sqrt(sequential.ERROR * (1 - sequential.ERROR) / 4000)


def test_as_many_repeats_as_it_takes(tmp_path: Path) -> None:
    study = load_study(demo_in(tmp_path / "landing", "landing"))
    found = repeat(study, "auto", plans=["noon", "one_zone"])
    noon, one_zone = found.plans
    assert (len(noon.figures), noon.met, noon.holds, noon.is_clear) == (20, 20, True, True)
    assert (one_zone.holds, one_zone.is_clear) == (False, True)
    assert 2 <= len(one_zone.figures) < 20
    assert len(found.seeds) == 20
    assert found.to_dict()["plans"][1]["repeats"] == len(one_zone.figures)
    assert "sequential test" in found._repr_html_()
    with pytest.raises(ReplayError, match="repeats: found 'some'; allowed: a whole number from 1 to 100,000, or auto"):
        repeat(study, "some")  # type: ignore[arg-type]


def test_a_search_with_repeats(tmp_path: Path) -> None:
    study = load_study(demo_in(tmp_path / "landing", "landing"))
    found = search(study, "noon", replicas=[3, 4, 5], repeats=3)
    assert found.repeats is not None
    best = found.cheapest or found.nearest
    assert found.repeats.plans[0].plan == best.plan
    assert [len(plan.figures) for plan in found.repeats.plans] == [3] * len(found.repeats.plans)
    again = replay(study.trace(), study.services, found._cases[best.plan].plan, study.objectives, seed=2)
    assert found.repeats.plans[0].figures[2].bill.month == again.bill.month
    assert found.to_dict()["repeats"]["seeds"] == [0, 1, 2]
