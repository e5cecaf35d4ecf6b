"""More users are not echoes: a multiplied trace beside one that truly has so many, and what stays where it was."""

from __future__ import annotations

import math
from dataclasses import replace
from datetime import datetime
from itertools import pairwise
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from hypothesis import given, strategies as st

from builders import make_case, make_plan, make_tier, plain_study
from libramen import Objectives, Service, Trace, TraceError, load_study, read_trace, replay, shaped, write_trace
from libramen.trace.steps import Scale
from libramen.trace.stretches import BLOCK_S, stretches_of

if TYPE_CHECKING:
    from collections.abc import Callable
    from pathlib import Path

WORK_S = 0.05
BUSY = 0.85
RATE = 5 / WORK_S * BUSY


def _arrivals(seed: int, rate: Callable[[np.ndarray], np.ndarray], most: float, span_s: float) -> np.ndarray:
    rng = np.random.default_rng(seed)
    at_s = np.sort(rng.uniform(0, span_s, rng.poisson(most * span_s)))
    kept: np.ndarray = at_s[rng.random(len(at_s)) * most < rate(at_s)]
    return kept


def _trace(at_s: np.ndarray, seed: int, span_s: float, **more: Any) -> Trace:
    rng = np.random.default_rng([seed, 1])
    return Trace.from_arrays(at_s, rng.exponential(WORK_S, len(at_s)), np.zeros(len(at_s)), span_s=span_s, **more)


def _steady(seed: int, rate: float, span_s: float = 14_400.0) -> Trace:
    return _trace(_arrivals(seed, lambda at_s: np.full(len(at_s), rate), rate, span_s), seed, span_s)


def _percentiles(trace: Trace) -> np.ndarray:
    plan = make_plan(make_tier(), replicas=5, balancer="shared_queue")
    found: np.ndarray = np.quantile(replay(trace, Service(slots=1), plan).requests["latency_s"], [0.5, 0.95, 0.99])
    return found


@pytest.fixture(scope="module")
def truth() -> np.ndarray:
    found: np.ndarray = np.mean([_percentiles(_steady(seed, RATE)) for seed in (10, 11, 12)], axis=0)
    return found


@pytest.mark.parametrize("factor", [1.4, 10.0, *(pytest.param(n, marks=pytest.mark.thorough) for n in (2.0, 3.0))])
def test_a_multiplied_load_is_that_of_so_many_users(truth: np.ndarray, factor: float) -> None:
    found = [_percentiles(shaped(_steady(seed, RATE / factor), [{"scale": factor}], seed=seed)) for seed in range(3)]
    np.testing.assert_allclose(np.mean(found, axis=0), truth, rtol=0.08)


def test_a_sample_is_multiplied_back(truth: np.ndarray, tmp_path: Path) -> None:
    found = []
    for seed in range(3):
        whole = _steady(seed, RATE)
        write_trace(
            whole.take(np.flatnonzero(np.random.default_rng(seed).random(len(whole)) < 0.1)), tmp_path / "t.csv"
        )
        found.append(_percentiles(read_trace(tmp_path / "t.csv", sampled=0.1, seed=seed)))
    np.testing.assert_allclose(np.mean(found, axis=0), truth, rtol=0.08)


def _bursts(rate: float) -> Trace:
    """In five seconds of every minute thrice as much; no whole number of minutes."""
    at_s = _arrivals(1, lambda at_s: np.where(at_s % 60 < 5, 3 * rate, rate), 3 * rate, 7221.0)
    return _trace(at_s, 1, 7221.0)


@pytest.mark.parametrize("rate", [4.0, pytest.param(40.0, marks=pytest.mark.thorough)])
def test_bursts_of_all_users_stay_where_they_were(rate: float) -> None:
    """So it is for the many; small ones are seen where all minutes are laid on top of each other."""
    trace = _bursts(rate)
    assert stretches_of(trace).minute_pattern
    many = shaped(trace, [{"scale": 3}])
    assert len(np.unique(many.at_s)) == len(many)
    ten = shaped(trace, [{"scale": 10}])
    per_minute = np.bincount((ten.at_s // 60).astype(int))[:-1]
    if rate < 10:  # beyond 34 copies some are turned by as many minutes, but not by the same part of a second
        assert len(np.unique(shaped(trace, [{"scale": 36}]).at_s)) == 36 * len(trace)
    # A burst that is cut out keeps its count in each copy; copies of the others are not on top of each other.
    assert per_minute.var() < (15 if rate > 10 else 4) * per_minute.mean()

    def share(trace: Trace) -> float:
        return float((trace.at_s % 60 < 5).mean())

    assert share(many) == pytest.approx(share(trace), rel=0.05)
    assert len(many) == 3 * len(trace)
    assert _seen(trace) <= _seen(many) <= _seen(ten)
    assert ten.at_s.max() <= trace.span_s


@pytest.mark.parametrize("factor", [2, 10])
def test_counts_are_those_of_independent_users(factor: int) -> None:
    """Variance over mean around the known rate stays 1 at scales that are short beside a stretch."""
    rate, index = 2.0, {1: [], 5: []}  # type: dict[int, list[float]]
    for seed in range(8):
        many = shaped(_steady(seed, rate, 20 * BLOCK_S), [{"scale": factor}], seed=seed)
        for scale, found in index.items():
            counts = np.bincount((many.at_s // scale).astype(int), minlength=20 * BLOCK_S // scale)
            wanted = rate * factor * scale
            found.append(float(np.mean((counts - wanted) ** 2) / wanted))
    assert {scale: float(np.mean(found)) for scale, found in index.items()} == {
        scale: pytest.approx(1, abs=0.1) for scale in index
    }


def _with_a_sale(rate: float) -> Trace:
    """An hour of 20 a second; a sale of a route of its own begins on a whole second and lasts a minute."""
    usual, sale = _steady(1, 20, 3600), _steady(2, rate, 60).at_s + 1801
    at_s = np.concatenate([usual.at_s, sale])
    route = np.repeat(["/", "/sale"], [len(usual), len(sale)])
    order = np.argsort(at_s)
    return _trace(at_s[order], 3, 3600, route=route[order].tolist())


@pytest.mark.parametrize(("rate", "early_s"), [(3.0, 10.0), (60.0, 0.0)])
def test_a_sale_does_not_begin_before_it_begins(rate: float, early_s: float) -> None:
    """One that is three times the rest; the begin of a trickle beside the rest is known to ten seconds or so."""
    trace = _with_a_sale(rate)
    many = shaped(trace, [{"scale": 5}])
    sale = many.at_s[np.array(many.routes)[many.route_codes] == "/sale"]
    assert len(sale) == 5 * (np.array(trace.routes)[trace.route_codes] == "/sale").sum()
    assert sale.min() >= 1801 - early_s
    assert sale.max() < 1861 + 60


def test_stretches_cover_the_trace_on_whole_seconds() -> None:
    trace = _with_a_sale(60.0)
    cut = stretches_of(trace)
    assert cut.starts_s[0] == 0
    assert cut.ends_s[-1] == trace.span_s
    np.testing.assert_array_equal(cut.starts_s[1:], cut.ends_s[:-1])
    assert (cut.starts_s % 1 == 0).all()
    assert (cut.ends_s - cut.starts_s).max() <= BLOCK_S
    assert 1801 in cut.starts_s
    for (first, last), start_s, end_s in zip(pairwise(cut.bounds), cut.starts_s, cut.ends_s, strict=True):
        assert ((trace.at_s[first:last] >= start_s) & (trace.at_s[first:last] <= end_s)).all()
    assert len(stretches_of(_steady(4, 20, 3600))) == 2
    assert not stretches_of(_steady(4, 20, 3600)).minute_pattern
    clumped = np.repeat(_steady(5, 3, 3600).at_s, 8)
    assert len(stretches_of(_trace(clumped, 5, 3600))) == 2, "what every visitor does is no change of the rate"
    assert stretches_of(_trace(clumped, 5, 3600)).dispersion == pytest.approx(8, rel=0.15)


def _seen(trace: Trace) -> set[tuple[float, float, int]]:
    who = np.zeros(len(trace)) if trace.visitor is None else trace.visitor
    return set(zip(trace.at_s.tolist(), trace.cpu_s.tolist(), who.tolist(), strict=True))


@given(
    factors=st.lists(st.floats(0.05, 6), min_size=2, max_size=3),
    seed=st.integers(0, 99),
    known=st.booleans(),
    between=st.booleans(),
)
def test_more_has_all_of_less(factors: list[float], seed: int, *, known: bool, between: bool) -> None:
    trace = _with_a_sale(20.0).take(np.arange(30_000, 45_000, 10))
    if known:
        trace = replace(trace, visitor=(np.arange(len(trace)) // 3 % 200).astype(np.int32))
    step = {"between": ["00:10", "00:40"]} if between else {}
    if between:
        trace = replace(trace, start=datetime(2031, 6, 5, tzinfo=ZoneInfo("Europe/Lisbon")))
    traces = [shaped(trace, [{"scale": factor} | step], seed=seed) for factor in sorted(factors)]
    for less, more in pairwise(traces):
        assert _seen(less) <= _seen(more)
    for factor, found in zip(sorted(factors), traces, strict=True):
        if not between:
            # Whole visitors come or go: within four standard deviations of their number.
            each, share = len(trace) / 200 if known else 1.0, factor % 1
            spread = 4 * each * math.sqrt(len(trace) / each * share * (1 - share))
            assert len(found) == pytest.approx(factor * len(trace), rel=0.2, abs=max(30, spread))
        if factor >= 1:
            assert _seen(trace) <= _seen(found)


def test_visitors_stay_as_they_are() -> None:
    """Each stays or goes with all that it asks, but for one who sends a third of it all; those of a copy are others."""
    asks = np.repeat(_steady(1, 2, 2000).at_s, 6) + np.tile(np.linspace(0, 0.3, 6), len(_steady(1, 2, 2000)))
    robot = np.arange(0.0, 2000.0, 0.3)
    at_s, who = np.concatenate([asks, robot]), np.concatenate([1 + np.arange(len(asks)) // 6, np.zeros(len(robot))])
    order = np.argsort(at_s)
    trace = replace(_trace(at_s[order], 1, 2001.0), visitor=who[order].astype(np.int32))
    for factor in (0.5, 1.5):
        counts = np.bincount(shaped(trace, [{"scale": factor}]).visitor)
        robots, others = counts[:: trace.n_visitors], np.delete(counts, slice(None, None, trace.n_visitors))
        assert set(others.tolist()) == {0, 6}
        assert (others > 0).sum() == pytest.approx(factor * (trace.n_visitors - 1), rel=0.05)
        assert robots.tolist() == [
            pytest.approx(chance * len(robot), rel=0.1) for chance in ([1, 0.5] if factor > 1 else [0.5])
        ]


def test_steps_do_not_share_their_draws(tmp_path: Path) -> None:
    """Twice two: were the lags the same, copies of the second step would lie on those of the first."""
    trace = _steady(1, 2.0, 3600)
    write_trace(trace, tmp_path / "t.parquet")
    sample = read_trace(tmp_path / "t.parquet", sampled=0.5)
    twice = [{"scale": 2}]
    case = make_case({"service": Service(slots=1)}, make_plan(make_tier()), Objectives(), scale=2.0)
    for many in (shaped(trace, twice * 2), shaped(sample, twice), case.load(sample), case.load(shaped(trace, twice))):
        assert len(many) == 4 * len(trace)
        assert len(np.unique(many.at_s)) == len(many)


def test_a_step_that_multiplies_too_much_says_so() -> None:
    trace = _steady(1, 0.01, 3600)
    with pytest.raises(TraceError, match=r"multiplied by 2e.05; allowed: up to 100,000"):
        shaped(trace, [{"scale": 200_000}])


def test_whole_servers_are_unqueued_before_they_are_multiplied(tmp_path: Path) -> None:
    """All that two of five servers did is known: what queued there is taken out, and then the other three come."""
    whole = _steady(1, 0.6 * RATE, 3600)
    rows = replay(whole, Service(slots=1), make_plan(make_tier(), replicas=5, balancer="round_robin")).requests
    mine = rows[rows["replica"] <= 2]
    lines = [f"{row.at_s:.6f},{row.latency_s:.6f},pier{row.replica}" for row in mine.itertuples()]
    (tmp_path / "log.csv").write_text("at_s,latency_s,server\n" + "\n".join(lines) + "\n")
    said = {
        "files": ["log.csv"], "stamp": "arrival", "recorded_on": "one", "cpu_share": 1.0, "servers": [2, 5],
    }  # fmt: skip
    plans = {"one": {"replicas": 5, "balancer": "round_robin"}}
    trace = load_study(plain_study(tmp_path, said, plans, service={"slots": 1})).trace(cache=False)
    assert len(trace) == pytest.approx(len(whole), rel=0.01)
    assert float(trace.cpu_s.mean()) == pytest.approx(float(whole.cpu_s.mean()), rel=0.02)


def _sampled(tmp_path: Path, at_s: np.ndarray, there: np.ndarray, **how: Any) -> Trace:
    write_trace(_trace(at_s, 1, 7200.0).take(np.flatnonzero(there)), tmp_path / "t.csv")
    return read_trace(tmp_path / "t.csv", **how)


def test_what_a_sample_has_lost_is_said(tmp_path: Path) -> None:
    """Visitors who ask eight times at once: 4 in 10 of the requests vary 1 + 0.4 * 7 times as much as by chance."""
    rng = np.random.default_rng(1)
    clumped, steady = np.repeat(_steady(1, 2, 7200).at_s, 8), _steady(1, 16, 7200).at_s
    some = rng.random(200_000) < 0.4
    clumps = _sampled(tmp_path, clumped, some[: len(clumped)], sampled=0.4).source.notes
    (vary,) = [note for note in clumps if "by chance" in note]
    found, whole = (float(text.split(" ")[0]) for text in vary.split(" vary ")[1:])
    assert (found, whole) == (pytest.approx(3.8, rel=0.1), pytest.approx(8, rel=0.1))
    by_visitor = _sampled(tmp_path, clumped, some[: len(clumped)], sampled={"share": "40%", "by": "visitor"})
    assert len(by_visitor) == pytest.approx(len(clumped), rel=0.02)
    even = _sampled(tmp_path, steady, np.arange(len(steady)) % 5 < 2, servers=(2, 5)).source.notes
    assert any("deals in turn" in note for note in even)
    for how in ({"sampled": 0.4}, {"servers": (2, 5)}):
        notes = _sampled(tmp_path, steady, some[: len(steady)], **how).source.notes
        assert not any("by chance" in note for note in (*notes, *by_visitor.source.notes))


def test_a_sample_of_visitors_knows_them(tmp_path: Path) -> None:
    line = '192.0.2.{} - - [05/Jun/2031:10:00:{:02d} +0100] "GET / HTTP/1.1" 200 5 "-" "a" 0.1\n'
    (tmp_path / "access.log").write_text("".join(line.format(k // 4, k % 60) for k in range(240)))
    trace = read_trace(tmp_path / "access.log", sampled={"share": "40%", "by": "visitor"}, demand="observed")
    assert set(np.bincount(trace.visitor)) == {0, 4}
    assert read_trace(tmp_path / "access.log", sampled="40%", demand="observed").visitor is None


@pytest.mark.parametrize("wrong", [0, 2, {"share": 0.1, "by": "day"}, {"by": "visitor"}, {"part": 0.1}])
def test_a_sample_that_is_none(tmp_path: Path, wrong: Any) -> None:
    with pytest.raises(TraceError, match="sampled"):
        _sampled(tmp_path, np.arange(10.0), np.ones(10, bool), sampled=wrong)


@pytest.mark.parametrize("factor", [0.5, 1.0, 3.7])
def test_chunks_are_the_load_a_part_at_a_time(factor: float, monkeypatch: pytest.MonkeyPatch) -> None:
    """Also of a stretch with more requests than a chunk, and with a request at the very end."""
    monkeypatch.setattr("libramen.trace.multiply._AT_ONCE", 500)
    at_s = np.append(_arrivals(3, lambda at_s: np.full(len(at_s), 5.0), 5.0, 600.0), 600.0)
    visitor = np.arange(len(at_s)) % 70
    trace = _trace(at_s, 3, 600.0, visitor=visitor)
    whole = shaped(trace, [{"scale": factor}], seed=4)
    chunks = list(Scale(scale=factor).in_chunks(trace, 4, number=1))
    assert len(chunks) > 1
    assert max(len(chunk) for chunk in chunks) < 700
    for name in ("at_s", "cpu_s", "visitor"):
        assert np.array_equal(np.concatenate([getattr(chunk, name) for chunk in chunks]), getattr(whole, name))
