"""Requests that are answered at the edge.

> A hit is answered `ok` after `time` (timed out where that is too late), meets no fleet, also while none works, and is
> in availability and objectives; a miss reaches the balancer at `at_s`.
"""

from __future__ import annotations

import numpy as np

from libramen.engine.border import records
from libramen.engine.kernel import balancer, clients, layout, reach

_AT_THE_EDGE = np.int64(records.AT_THE_EDGE)


@reach.apart
def answer_at_the_edge(w, i, now_s):
    """Request `i` of the chunk meets no fleet: it is a visit that ends at once, and of which nobody has any work."""
    f = reach.fleet_at(w, reach.int32_at(w.chunk_server, i) if w.n_services > 1 else layout.FIRST)
    w.event_s = now_s
    index = balancer.arrive(w, f, i, now_s)
    visit = reach.visit_at(w, index)
    visit.attempt = 1
    visit.at_s = now_s
    visit.slot_at_s = now_s
    visit.cpu_s = 0.0
    visit.wait_s = 0.0
    visit.left_s = 0.0
    visit.called_s = 0.0
    visit.connecting_s = 0.0
    if w.edge_s > f.timeout_s + reach.tolerance_s(now_s):
        clients.end(w, f, index, f.timeout_s, layout.TIMED_OUT, layout.NO_REPLICA, now_s)
    else:
        clients.end(w, f, index, w.edge_s, layout.OK, layout.NO_REPLICA, now_s)
    if w.keeps:
        reach.result_at(w.out, visit.id).server = _AT_THE_EDGE
    if w.tallies:
        ended = reach.ended_at(w.ended, w.n_ended - 1)
        ended.server = _AT_THE_EDGE
        ended.trip_s = w.edge_s - f.overhead_s
    clients.free(w, index)
