"""`replay`: the public call."""

from __future__ import annotations

import itertools
from typing import TYPE_CHECKING

import numpy as np

from libramen import units
from libramen.bill.bill import bill
from libramen.engine import control
from libramen.errors import ReplayError, TraceError
from libramen.outcome.counted_requests import CountedRequests
from libramen.outcome.counts import Setting
from libramen.outcome.kept_requests import KeptRequests
from libramen.outcome.measures import Asked
from libramen.outcome.outcome import Outcome
from libramen.study.objectives import Objectives
from libramen.trace.trace import Trace

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable

    from libramen.study.plan import Plan
    from libramen.study.service import Service


def replay(
    trace: Trace | Iterable[Trace],
    service: Service,
    plan: Plan,
    objectives: Objectives | None = None,
    seed: int = 0,
    data_plane: control.DataPlaneName = "compiled",
    *,
    keep_requests: bool | None = None,
    settle: float = 0.0,
    window_s: float = 60.0,
    span_s: float | None = None,
    currency: str = "EUR",
    records: np.ndarray | None = None,
    progress: Callable[[float], None] | None = None,
) -> Outcome:
    """Replay a trace against a plan, and see what comes of it.

    Args:
        trace: the requests; or chunks of them in order of time, for traces that are too long for the memory.
            What a chunk's times are counted from is its `start` where that is known, else the start of the first.
        service: how one replica works.
        plan: what it runs on.
        objectives: what it should achieve. Default: nothing.
        seed: random seed: of balancers that draw, and of the jitter of retries. Every request has
            numbers of its own, so plans that are replayed with one seed get the same random numbers.
        data_plane: `"compiled"`, or `"plain"`: readable Python, about 1000 times slower, the same result.
        keep_requests: whether what became of each request is kept: `outcome.requests` and exact percentiles,
            for 32 bytes a request. Else percentiles are within 0.5 %. Default: yes for a trace, no for chunks.
        settle: requests that arrive before this are replayed but not measured [s].
        window_s: width of the windows of `outcome.series` [s].
        span_s: the time that chunks cover [s], for progress. Default: that of the last chunk.
        currency: what the prices of the plan's tier are in.
        records: where to write what became of each request, for instance memory that processes share:
            `engine.plane.RESULT` (n,). Default: a new array.
        progress: called now and then with the share of the trace that is replayed, from 0 to 1.

    Raises:
        ReplayError: an argument is not allowed.
        StudyError: a rollout is due at a time that is not in the trace, or that only a whole trace can tell;
            an objective is about a route that is not in it.
        TraceError: chunks are not in order of time.

    Example:
        >>> outcome = replay(trace, service, plan)  # doctest: +SKIP
        >>> outcome.latency_s["p95"]  # doctest: +SKIP
        0.213
        >>> replay((read_trace(file) for file in files), service, plan).endings["ok"]  # doctest: +SKIP
        104211872
    """
    objectives, service = objectives or Objectives(), plan.service_of(service)
    for name, value in (("settle", settle), ("window_s", window_s), ("span_s", span_s)):
        is_number = isinstance(value, int | float | np.number) and not isinstance(value, bool)
        if value is not None and not (is_number and 0 <= value <= units.LONGEST_S):
            raise ReplayError(f"{name}: found {value!r}; allowed: a number of seconds of 0 or more, at most ten years")
    whole = trace if isinstance(trace, Trace) else None
    if whole is None and keep_requests:
        raise ReplayError("keep_requests: found True with chunks of a trace; allowed: False, or one whole trace")
    if whole is not None:
        objectives.check(whole.routes, whole.start)
    tally: CountedRequests | None = None
    chunks: Iterable[Trace] = ()
    first = whole
    if first is None or keep_requests is False:
        first, chunks = _peek([trace] if isinstance(trace, Trace) else trace)
    if whole is None:
        objectives.check(objectives.routes, first.start)
        span_known_s = units.LONGEST_S if span_s is None else span_s
    else:
        span_known_s = whole.span_s
    asked = Asked.of(objectives, first.start, span_known_s)
    setting = Setting(plan, asked, settle, window_s, first.into_hour_s)
    if whole is None or keep_requests is False:
        tally = CountedRequests(setting)
    run = control.run(
        chunks if whole is None else whole,
        service,
        plan,
        seed=seed,
        data_plane=data_plane,
        window_s=window_s,
        span_s=span_s,
        sink=tally,
        records=records,
        progress=progress,
    )
    measured: CountedRequests | KeptRequests
    if tally is not None:
        tally.routes = run.routes
        measured = tally
    else:
        assert whole is not None
        assert run.results is not None
        measured = KeptRequests(whole, run.results, setting, len(run.edges_s) - 1)
    return Outcome(
        trace=whole,
        service=service,
        plan=plan,
        run=run,
        measured=measured,
        bill=bill(run, plan, measured, currency),
        asked=asked,
        seed=seed,
        settle_s=settle,
    )


def _peek(chunks: Iterable[Trace]) -> tuple[Trace, Iterable[Trace]]:
    """The first of some chunks, and all of them."""
    iterator = iter(chunks)
    first = next(iterator, None)
    if not isinstance(first, Trace):
        raise TraceError(f"trace: found {first!r}; allowed: a Trace, or one or more of them as chunks")
    return first, itertools.chain([first], iterator)
