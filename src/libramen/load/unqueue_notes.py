"""What is said of work that was found by running a log backwards."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from libramen.base import units
from libramen.load.exchange import (
    Logged,
)
from libramen.load.instants import by_route
from libramen.load.recorded import Recorded
from libramen.study.hosting import Hosting
from libramen.trace.source import RouteDemand
from libramen.trace.trace import Trace


@dataclass(frozen=True)
class Fit:
    """How far the work that was found explains the log on the recorded plan.

    Attributes:
        each: whether each request has its own work; else it is its own only as a sample of its route.
        late: share of the requests that cannot have left when the log says, on this plan.
        waited: share of the requests that waited for a slot longer than they worked.
        error: greatest relative difference of p50, p95 and p99, replayed against logged.
        unsure: share of the requests in stretches in which over 5 % of all were cut off by a time-out.
        evenly: share of the requests whose whole-second stamps were spread evenly, because drawn ones left no time.
    """

    each: bool
    late: float
    waited: float
    error: float
    unsure: float
    evenly: float


def _cannot_be(recorded: Recorded, logged: Logged, late: float) -> str:
    """That no work explains the log: many requests left before the plan can have had a slot for them."""
    latency_s = np.sort(logged.latency_s)
    longest = latency_s[-max(1, len(latency_s) // 100) :]
    held, limit_s = float(longest.sum() / latency_s.sum()), float(longest[0])
    progress = float(latency_s.sum()) / float(logged.at_s[-1] - logged.at_s[0] + latency_s[-1])
    sentence = (
        f"the plan {recorded.hosting.plan!r} cannot have served this log: {units.show_share(late)} of its requests "
        "left "
        "before they could have had a slot"
    )
    if held > 0.5:
        return (
            f"{sentence}. One request in a hundred took longer than {units.show_duration(limit_s)}, and they take up "
            f"{units.show_share(held)} of all time in progress: slow lines of clients, uploads or downloads? allowed: "
            f'leave_out = [{{ longer = "{units.show_duration(limit_s)}" }}], or a log of the time in the service itself'
        )
    return (
        f"{sentence}. It has {recorded.slots} slots, and the log has {progress:.3g} requests in progress on average; "
        "allowed: the replicas, slots and threads that there were, in the plan or in [plans.NAME.service]"
    )


def _notes(fit: Fit, served: np.ndarray, gave_up: np.ndarray, hosting: Hosting) -> list[str]:
    said = (
        f"the queueing of plan {hosting.plan!r} is taken out of the latencies (unqueued): what is left, replayed "
        "there, "
        "gives the log's, and `libramen backtest` says how nearly"
    )
    if not fit.each:
        said += "; which request had which work is drawn, since time stamps or the balancer do not tell"
    notes = [said]
    if fit.evenly:
        notes.append(
            f"whole-second time stamps of {units.show_share(fit.evenly)} of the requests are spread evenly within "
            "their second: drawn ones left requests no time to be served in"
        )
    refused, gone = int(np.count_nonzero(~served)), int(np.count_nonzero(gave_up))
    if refused:
        notes.append(
            f"{refused:,} requests took no slot in the log (429, 502 to 504, or no server answered): each has the work "
            "of another request of its route"
        )
    if gone:
        notes.append(f"in {gone:,} requests the client gave up (408, 499): each has at least the work it got by then")
    if fit.unsure:
        notes.append(
            f"in stretches with {units.show_share(fit.unsure)} of the requests over 5 % were cut off by a time-out: "
            "what they took says little of how much work there was"
        )
    if fit.waited > 0.9:
        notes.append(
            f"the log is overloaded throughout: {units.show_share(fit.waited)} of its requests waited longer than they "
            "worked, so it tells little of the work of each; a log of a quieter time tells more"
        )
    if fit.error > 0.1:
        notes.append(
            "the recorded plan does not quite explain the log: are its replicas, slots, threads and balancer those "
            "that there were? `libramen backtest` shows where it differs, and by how much"
        )
    if fit.waited < 0.001:
        notes.append(
            f"hardly a request of the log waited, so it tells nothing of how many slots the plan {hosting.plan!r} has"
        )
    return notes


def _routes(trace: Trace, work_s: np.ndarray, served: np.ndarray) -> Iterator[RouteDemand]:
    assert trace.latency_s is not None
    for code, rows in by_route(trace.route_codes):
        mean_s = float(trace.latency_s[rows].mean())
        yield RouteDemand(
            trace.routes[code],
            len(rows),
            int(np.count_nonzero(served[rows])),
            "all",
            mean_s,
            float(work_s[rows].mean()),
        )
