"""Requests that are answered at the edge.

> A hit is answered `ok` after `time` (timed out where that is too late), meets no fleet, also while none works, and is
> in availability and objectives; a miss reaches the balancer at `at_s`.
"""

from __future__ import annotations

import numpy as np

from libramen.engine.border import records
from libramen.engine.kernel import layout, reach

_AT_THE_EDGE = np.int64(records.AT_THE_EDGE)


@reach.apart
def answer_at_the_edge(w, i, now_s):
    """Request `i` of the chunk meets no fleet."""
    f = reach.fleet_at(w, reach.int32_at(w.chunk_server, i) if w.n_services > 1 else layout.FIRST)
    request = w.next
    w.next += 1
    w.event_s = now_s
    latency_s = w.edge_s
    ending = layout.OK
    if latency_s > f.timeout_s + reach.tolerance_s(now_s):
        latency_s = f.timeout_s
        ending = layout.TIMED_OUT
    if w.keeps:
        record = reach.result_at(w.out, request)
        record.latency_s = latency_s
        record.queued_s = 0.0
        record.before_s = 0.0
        record.replica = 0
        record.ending = ending
        record.attempts = 1
        record.server = _AT_THE_EDGE
    if w.tallies:
        more = reach.ended_at(w.ended, w.n_ended)
        more.latency_s = latency_s
        more.queued_s = 0.0
        more.before_s = 0.0
        more.at_s = now_s
        more.cpu_s = 0.0
        more.wait_s = 0.0
        more.bytes_out = reach.float_at(w.chunk_bytes_out, i)
        more.called_s = 0.0
        more.connecting_s = 0.0
        more.trip_s = w.edge_s - f.overhead_s
        more.id = request
        more.replica = 0
        more.route = reach.int32_at(w.chunk_route, i)
        more.server = _AT_THE_EDGE
        more.call = f.user
        more.ending = ending
        more.attempts = 1
        more.area = reach.int32_at(w.chunk_area, i) if w.places else 0
        w.n_ended += 1
        if w.n_ended >= w.ended_full:
            w.attention = 1
            w.full = 1
