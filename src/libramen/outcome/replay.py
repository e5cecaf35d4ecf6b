"""`replay`: the public call."""

from __future__ import annotations

from typing import TYPE_CHECKING

from libramen.bill.bill import bill
from libramen.engine import control
from libramen.outcome.outcome import Outcome
from libramen.study.plan import Objectives

if TYPE_CHECKING:
    from collections.abc import Callable

    from libramen.study.plan import Plan
    from libramen.study.service import Service
    from libramen.trace.trace import Trace


def replay(
    trace: Trace,
    service: Service,
    plan: Plan,
    objectives: Objectives | None = None,
    seed: int = 0,
    data_plane: control.DataPlaneName = "compiled",
    *,
    settle: float = 0.0,
    window_s: float = 60.0,
    currency: str = "EUR",
    progress: Callable[[float], None] | None = None,
) -> Outcome:
    """Replay a trace against a plan, and see what comes of it.

    Args:
        trace: the requests.
        service: how one replica works.
        plan: what it runs on.
        objectives: what it should achieve. Default: nothing.
        seed: of all that is left to luck in a replay. At present nothing is: start-up times are
            constant and the balancers draw nothing. It is kept in the outcome.
        data_plane: `"compiled"`, or `"plain"`: readable Python, about 1000 times slower, the same result.
        settle: requests that arrive before this are replayed but not measured [s].
        window_s: width of the windows of `outcome.series` [s].
        currency: what the prices of the plan's tier are in.
        progress: called now and then with the share of the trace that is replayed, from 0 to 1.

    Raises:
        ReplayError: an argument is not allowed.
        StudyError: a rollout is due at a time that is not in the trace.

    Example:
        >>> outcome = replay(trace, service, plan)  # doctest: +SKIP
        >>> outcome.latency_s["p95"]  # doctest: +SKIP
        0.213
    """
    run = control.run(trace, service, plan, seed=seed, data_plane=data_plane, window_s=window_s, progress=progress)
    return Outcome(
        trace=trace,
        plan=plan,
        run=run,
        bill=bill(run, trace, plan, currency),
        wanted=(objectives or Objectives()).wanted(),
        seed=seed,
        settle_s=settle,
    )
