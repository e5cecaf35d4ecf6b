"""The CPU work or the wait of a visit is over; and which of those comes next.

> At one instant come first completions, in the order in which their attempts arrived (a freed slot or CPU turn is
> handed on at that instant; the end of the CPU work is a completion too)
>
> An attempt without CPU work that fails takes its slot and leaves it at the same instant, as a completion of its
> own.
"""

from __future__ import annotations

import numpy as np

from libramen.engine.kernel import clients, heaps, integrals, layout, reach, service, settings, trees


@reach.inner
def complete(w, f, row, kind, at, now_s):
    """The CPU work (kind RUNNING) or the wait (kind WAITING) of the visit at this place of a heap is over."""
    integrals.integrate(w, f, now_s)
    w.event_s = now_s
    replica = reach.replica_at(f, row)
    heap = reach.heap_of(replica, kind)
    index = reach.entry_at(heap, at).request
    if kind == layout.RUNNING:
        service.catch_up(f, replica, now_s)
        heaps.heap_remove(w, heap, replica.n_running, at)
        service.change_running(f, replica, layout.LESS)
        service.next_turn(w, f, replica, now_s)
        if f.errs and service.errs(w, f, replica, index):
            clients.errored(w, f, index, replica.number, now_s)
            service.leave_slot(w, f, replica, row, now_s)
            return
        if f.n_calls:
            service.begin_calls(w, replica, row, index)
            trees.update_row(w, f, replica, row)
            return
        if reach.visit_at(w, index).wait_s > 0.0:
            service.start_wait(w, f, replica, index, now_s)
            trees.update_row(w, f, replica, row)
            return
    else:
        heaps.heap_remove(w, heap, replica.n_waiting, at)
        replica.n_waiting -= 1
        if w.forced and service.runs_forced(w, index):
            service.end_forced(w, f, replica, index, now_s)
            service.start_wait(w, f, replica, index, now_s)
            trees.update_row(w, f, replica, row)
            return
        if f.errs and reach.visit_at(w, index).fails:
            clients.errored(w, f, index, replica.number, now_s)
            service.leave_slot(w, f, replica, row, now_s)
            return
    clients.answer(w, f, index, replica.number, now_s)
    service.leave_slot(w, f, replica, row, now_s)


# -- which completion comes next -------------------------------------------------------------------


@reach.inner
def only_one_due(f, replica, second_s, limit_s):
    """Whether the winner's next completion is the only one before `limit_s`; other rows' next is at `second_s`."""
    running = reach.heap_of(replica, layout.RUNNING)
    waiting = reach.heap_of(replica, layout.WAITING)
    limit_v = replica.v + (limit_s - replica.v_at_s) * reach.float_at(
        f.rate, replica.empty * (f.places + 1) + replica.n_running
    )
    runs = reach.entry_at(running, 0).key < limit_v
    waits = reach.entry_at(waiting, 0).key < limit_s
    heap = waiting if waits else running
    limit = limit_s if waits else limit_v
    following = reach.lesser(reach.entry_at(heap, 1).key, reach.entry_at(heap, 2).key)
    return second_s >= limit_s and following >= limit and not (runs and waits)


@reach.inner
def only_answer_due(w, f, second_s, limit_s):
    """The same for the first of the answers on their way; other fleets' next completion is at `second_s`."""
    following = reach.visit_at(w, f.way_head).link
    if second_s < limit_s or reach.node_at(f.tree, 1).due_s < limit_s:
        return False
    return following < 0 or reach.visit_at(w, following).answered_s >= limit_s


@reach.apart
def first_arrived(w, limit_s):
    """Of all completions before `limit_s`, that of the visit that arrived first: fleet, row, kind, place, time.

    Kind WAY: an answer reaches its caller, and the place is that of the visit.
    """
    best_order = settings.NOBODY
    best = (-1, -1, -1, -1, np.inf)
    for k in range(w.n_fleets):
        if reach.float_at(w.dues, w.fleet_leaves + k) >= limit_s:
            continue
        f = reach.fleet_at(w, k)
        index = f.way_head
        while index >= 0 and reach.visit_at(w, index).answered_s < limit_s:
            visit = reach.visit_at(w, index)
            if visit.order < best_order:
                best_order = visit.order
                best = (k, -1, int(layout.WAY), index, visit.answered_s)
            index = visit.link
        for row in range(f.leaves):
            if reach.node_at(f.tree, f.leaves + row).due_s >= limit_s:
                continue
            replica = reach.replica_at(f, row)
            for kind in range(2):
                n = replica.n_running if kind == layout.RUNNING else replica.n_waiting
                for at in range(n):
                    due_s = reach.entry_at(reach.heap_of(replica, kind), at).key
                    if kind == layout.RUNNING:
                        due_s = trees.running_due_s(f, replica, due_s)
                    if due_s >= limit_s:
                        continue
                    order = reach.visit_at(w, reach.entry_at(reach.heap_of(replica, kind), at).request).order
                    if order < best_order:
                        best_order = order
                        best = (k, row, kind, at, due_s)
    return best
