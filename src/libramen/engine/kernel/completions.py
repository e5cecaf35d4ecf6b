"""The CPU work or the wait of a request is over; and which of those comes next."""

from __future__ import annotations

import numpy as np

from libramen.engine.kernel.clients import answer, fail
from libramen.engine.kernel.heaps import heap_remove
from libramen.engine.kernel.integrals import integrate
from libramen.engine.kernel.layout import (
    LESS,
    READY,
    RUNNING,
    TIMED_OUT,
    WAITING,
    apart,
    entry_at,
    float_at,
    heap_of,
    inner,
    level_at,
    node_at,
    replica_at,
    request_at,
    seldom,
)
from libramen.engine.kernel.service import (
    catch_up,
    change_running,
    emptied,
    end_forced,
    is_late,
    runs_forced,
    start_cpu,
    start_wait,
    take_slot,
)
from libramen.engine.kernel.settings import NOBODY
from libramen.engine.kernel.trees import running_due_s, update_row
from libramen.engine.kernel.use import end_use


@inner
def complete(w, row, kind, at, now_s):
    """The CPU work (kind RUNNING) or the wait (kind WAITING) of the request at this place of a heap is over."""
    integrate(w, now_s)
    replica = replica_at(w.replicas, row)
    heap = heap_of(replica, kind)
    index = entry_at(heap, at).request
    if kind == RUNNING:
        catch_up(w, replica, now_s)
        heap_remove(heap, replica.n_running, at)
        change_running(w, replica, LESS)
        turn = replica.turn_head
        if turn >= 0:
            replica.turn_head = request_at(w.requests, turn).link
            start_cpu(w, replica, turn, now_s)
        if request_at(w.requests, index).wait_s > 0.0:
            start_wait(w, replica, index, now_s)
            update_row(w, replica, row)
            return
    else:
        heap_remove(heap, replica.n_waiting, at)
        replica.n_waiting -= 1
        if w.forced and runs_forced(w, index):
            end_forced(w, replica, index, now_s)
            start_wait(w, replica, index, now_s)
            update_row(w, replica, row)
            return
    answer(w, index, replica.number, now_s)
    replica.in_slots -= 1
    replica.busy -= 1
    level_at(w.levels, replica.state - READY).in_slots -= 1
    _refill(w, replica, row, now_s)
    if w.meters and replica.in_slots == 0:
        end_use(w, replica, now_s)
    emptied(w, replica, now_s)
    update_row(w, replica, row)


@inner
def _refill(w, replica, row, now_s):
    """A slot has become free: the next one in the backlog takes it, then the queue may move up."""
    while replica.backlog_head >= 0:
        index = replica.backlog_head
        replica.backlog_head = request_at(w.requests, index).link
        level_at(w.levels, replica.state - READY).waiting -= 1
        if not is_late(w, index, now_s):
            take_slot(w, replica, index, now_s)
            break
        replica.busy -= 1
        fail(w, index, TIMED_OUT, replica.number, now_s)
    if w.n_held:
        w.room_row = row


# -- which completion comes next -------------------------------------------------------------------


@inner
def only_one_due(w, replica, second_s, limit_s):
    """Whether the winner's next completion is the only one before `limit_s`; other rows' next is at `second_s`."""
    running = heap_of(replica, RUNNING)
    waiting = heap_of(replica, WAITING)
    limit_v = replica.v + (limit_s - replica.v_at_s) * float_at(
        w.rate, replica.empty * (w.places + 1) + replica.n_running
    )
    runs = entry_at(running, 0).key < limit_v
    waits = entry_at(waiting, 0).key < limit_s
    heap = waiting if waits else running
    limit = limit_s if waits else limit_v
    following = min(entry_at(heap, 1).key, entry_at(heap, 2).key)
    return second_s >= limit_s and following >= limit and not (runs and waits)


@seldom
def first_arrived(w, limit_s):
    """Of all completions before `limit_s`, that of the request that arrived first: row, kind, place, time."""
    apart()
    best_order = NOBODY
    best = (-1, -1, -1, np.inf)
    for row in range(w.leaves):
        if node_at(w.tree, w.leaves + row).due_s >= limit_s:
            continue
        replica = replica_at(w.replicas, row)
        for kind in range(2):
            n = replica.n_running if kind == RUNNING else replica.n_waiting
            for at in range(n):
                due_s = entry_at(heap_of(replica, kind), at).key
                if kind == RUNNING:
                    due_s = running_due_s(w, replica, due_s)
                if due_s >= limit_s:
                    continue
                order = request_at(w.requests, entry_at(heap_of(replica, kind), at).request).order
                if order < best_order:
                    best_order = order
                    best = (row, kind, at, due_s)
    return best
