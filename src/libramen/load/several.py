"""The work in a log that several services were behind: what was queueing further down is taken out, too.

What a request waited for at the service at which it arrived is known once that service's own queueing is taken out: it
is what was left of its wait, and the time in its calls. The calls are replayed, with the queueing that they meet on the
recorded plan, and the wait is corrected until both together are what the log says.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace
from functools import reduce
from typing import Final

import numpy as np

from libramen.base import units
from libramen.engine import simulation
from libramen.engine.border.records import PARTS, Results
from libramen.load.bottleneck import Estimate, find_bottleneck
from libramen.load.exchange import error_of
from libramen.load.unqueue import estimate
from libramen.study.system import System
from libramen.trace.demand import latencies_of
from libramen.trace.steps import mixed
from libramen.trace.trace import Trace

_PASSES: Final = 16
"""Corrections of the waits, at most."""
_EXACT: Final = 0.005
"""An error of the waits, on average and as a share of them, that is good enough."""

_OWN, _CONNECTING = PARTS.index("waiting"), PARTS.index("connecting")
_WORK: Final = [PARTS.index(part) for part in ("cpu", "waiting", "overhead")]


def unqueue_several(
    trace: Trace,
    system: System,
    *,
    cpu_share: float | Mapping[str, float] | None = None,
    seed: int = 0,
    server: np.ndarray | None = None,
) -> Trace:
    """Give a logged trace the work that, replayed on a recorded plan of several services, gives its latencies.

    Args:
        trace: the log; `latency_s` is needed.
        system: the services as the recorded plan hosted them.
        cpu_share: as in `unqueue`.
        seed: random seed.
        server: as in `unqueue`.

    Returns:
        the trace with `cpu_s` and `wait_s`, the time in its calls as the calls say: with it where they take a share of
        the wait, without it where they have work of their own.

    Raises:
        TraceError: there are no latencies, or the plan cannot have served this log.
        StudyError: requests match no service, or the work of a call is not known.

    Example:
        >>> unqueue_several(log, study.system("today")).wait_s  # doctest: +SKIP
    """
    latencies_of(trace, "demand = 'unqueued'")
    arrives = system.servers_of(trace.routes)[trace.route_codes]
    parts: list[Estimate] = []
    for number in np.unique(arrives).tolist():
        hosted, rows = system.hosted[number], np.flatnonzero(arrives == number)
        alone = hosted.service.replace(calls=(), routes=())
        part = estimate(
            replace(trace.take(rows), span_s=trace.span_s),
            alone,
            hosted.hosting.replace(service={}),  # what it says of the service is in there, its calls too
            cpu_share=cpu_share,
            seed=seed,
            server=None if server is None else server[rows],
        )
        parts.append(part)
    whole = reduce(mixed, [part.trace for part in parts])
    speed = system.hosted[int(arrives[0])].hosting.size.speed
    whole = replace(whole, source=replace(whole.source, recorded_speed=speed, calls_apart=True))
    if system.calls:
        whole = _with_calls(whole, system, seed)
    return whole.knowing(bottleneck=find_bottleneck(parts, _places(parts), whole, _without_limits(system), seed))


def _places(parts: list[Estimate]) -> list[np.ndarray]:
    """Where the logged requests of each part are in the whole, which is sorted by time, equals part by part."""
    order = np.argsort(np.concatenate([part.trace.at_s for part in parts]), kind="stable")
    place = np.empty(len(order), np.int64)
    place[order] = np.arange(len(order))
    firsts = np.cumsum([0, *(len(part.trace) for part in parts[:-1])])
    return [place[first + part.at] for first, part in zip(firsts, parts, strict=True)]


def _with_calls(trace: Trace, system: System, seed: int) -> Trace:
    """Correct the waits until they and the calls are together what was waited for at the service of arrival."""
    assert trace.latency_s is not None
    system = _without_limits(system)
    arrives = system.servers_of(trace.routes)[trace.route_codes]
    alone = np.array([hosted.hosting.size.speed for hosted in system.hosted])[arrives]
    in_slot_s = trace.cpu_s / alone + trace.wait_s
    share = trace.cpu_s / alone / np.maximum(in_slot_s, 1e-12)
    best: tuple[float, Trace, np.ndarray, Results] | None = None
    # From below: where a service further down is nearly full, a little too much work is a lot too much queueing.
    guess, step = replace(trace, cpu_s=0.5 * trace.cpu_s, wait_s=0.5 * trace.wait_s), 1.0
    for _ in range(_PASSES):
        results = _replayed(guess, system, seed)
        waited_s, worked_s = _waited(results, system, arrives)
        # Of all work, the queueing left out, that share is CPU work; what is left of the time in the slot is waited.
        cpu_s = np.where(share < 1, share / np.maximum(1 - share, 1e-9) * worked_s, in_slot_s)
        cpu_s = np.minimum(in_slot_s, cpu_s)
        off_s = np.where(results.ending == 0, in_slot_s - cpu_s - waited_s, 0.0)
        error = float(np.abs(off_s).mean())
        if best is None or error < best[0]:
            best = error, replace(guess, cpu_s=cpu_s * alone), off_s, results
        else:  # too far
            step /= 2
        if best[0] <= _EXACT * float(in_slot_s.mean()):
            break
        guess = replace(best[1], wait_s=np.maximum(0.0, best[1].wait_s + step * best[2]))
    assert best is not None
    _, found, _, results = best
    ok = results.ending == 0
    waited_s, _ = _waited(results, system, arrives)
    error = error_of(results.latency_s[ok], trace.latency_s[ok]) if ok.any() else 1.0
    spent_s = float(results.spent_s[ok].sum())
    at_entry = np.zeros(len(trace))
    for number in np.unique(arrives).tolist():
        here = arrives == number
        at_entry[here] = results.spent_s[here, system.parts[number][0]].sum(axis=1)
    below = 1 - float(at_entry[ok].sum()) / max(spent_s, 1e-12)
    said = (
        f"what was queueing at other services is taken out of the waits (unqueued): {units.show_share(below)} of the "
        f"time of the requests is spent there; how nearly a replay on plan {system.name!r} gives the log's latencies, "
        "`libramen backtest` says"
    )
    notes = [said]
    short = float(np.mean(waited_s[ok] > in_slot_s[ok] + 1e-3)) if ok.any() else 0.0
    if short > 0.1 and error > 0.1:
        notes.append(
            f"{units.show_share(short)} of the requests took less time in the log than their calls take: is that much "
            "work of calls right?"
        )
    return found.noted(*notes)


def _without_limits(system: System) -> System:
    """The same services, which refuse nobody, and whose callers do not give up: what the log shows has happened."""
    patient = {"timeout": None, "retries": 0}
    hosted = tuple(
        one._replace(
            service=one.service.model_copy(
                update={
                    **patient,
                    "backlog": None,
                    "memory_per_request": 0,
                    "calls": tuple(call.model_copy(update=patient) for call in one.service.calls),
                }
            )
        )
        for one in system.hosted
    )
    calls = tuple(
        made._replace(call=made.call.model_copy(update=patient), pool_timeout=math.inf) for made in system.calls
    )
    return replace(system, hosted=hosted, calls=calls)


def _replayed(trace: Trace, system: System, seed: int) -> Results:
    return simulation.run(trace, system, seed=seed, spends=True, window_s=max(60.0, trace.span_s)).kept


def _waited(results: Results, system: System, arrives: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """What each request waited for at the service at which it arrived, and what of that was work and no queueing [s].

    On its own, for connections, and in calls.
    """
    waited_s, worked_s = np.zeros(len(results)), np.zeros(len(results))
    for number in np.unique(arrives).tolist():
        here, place = arrives == number, system.parts[number][0]
        spent_s = results.spent_s[here]
        own_s = spent_s[:, place]
        waited_s[here] = spent_s.sum(axis=(1, 2)) - own_s.sum(axis=1) + own_s[:, _OWN] + own_s[:, _CONNECTING]
        worked_s[here] = spent_s[:, :, _WORK].sum(axis=(1, 2)) - own_s[:, _WORK].sum(axis=1) + own_s[:, _OWN]
    return waited_s, worked_s
