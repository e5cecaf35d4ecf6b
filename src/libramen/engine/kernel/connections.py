"""Connections from a replica to what it calls, and the calls of a visit that ends early.

> **Connections**: with `pool` a call needs one of so many of its replica for as long as it lasts, pauses between
> its attempts included; without one it waits, first come first served. After `pool_timeout` it has failed, was no
> visit, and is counted as unsent. A process that is gone takes its pool along.
>
> A visit that ends early leaves its calls: what waits for a connection is never sent, and is gone before any
> connection is handed on; the attempt under way runs on, its time-out included, and counts as if it were awaited;
> nothing is sent again, and a call in a pause ends as its last attempt did.
"""

from __future__ import annotations

import numpy as np

from libramen.engine.kernel import layout, lists, reach
from libramen.engine.kernel.clients import free, give_up_for_good, plan
from libramen.engine.kernel.heaps import find, heap_remove, turn_out
from libramen.engine.kernel.trees import replay_time


@reach.inner
def push(w, index):
    """This visit goes on within the event, before those that were to go on before."""
    w.attention = 1
    reach.set_int(w.stack, w.n_stack, index)
    w.n_stack += 1


@reach.inner
def _pool_of(f, client, row):
    return reach.pool_at(f.pools, row * f.n_pools + client.pool)


@reach.apart
def connect(w, f, client, index, row, now_s):
    """A call takes a connection of its replica, or waits for one."""
    call = reach.visit_at(w, index)
    pool = _pool_of(f, client, row)
    if pool.in_use < client.pool_limit:
        pool.in_use += 1
        _has_connection(w, f, call, index, row)
        return
    call.phase = layout.QUEUED_UP
    call.pool_row = row
    call.pool_fleet = f.index
    plan(w, call)
    call.queued_at_s = now_s
    lists.to_pool(w, pool, index)
    if client.pool_timeout_s < np.inf and lists.to_impatient(w, client, index):
        _tell_patience(w, client)


@reach.inner
def _has_connection(w, f, call, index, row):
    call.pool_row = row
    call.pool_fleet = f.index
    call.pool_epoch = reach.replica_at(f, row).epoch
    call.phase = layout.TO_SEND
    push(w, index)


@reach.inner
def _tell_patience(w, client):
    head = client.queue_head
    until_s = reach.visit_at(w, head).queued_at_s + client.pool_timeout_s if head >= 0 else np.inf
    replay_time(w.patience, w.client_leaves + client.number, until_s)


@reach.apart
def leave_queue(w, f, client, index):
    """A call waits for a connection no longer."""
    call = reach.visit_at(w, index)
    lists.from_pool(w, _pool_of(f, client, call.pool_row), index)
    call.pool_row = -1
    if client.pool_timeout_s < np.inf and lists.from_impatient(w, client, index):
        _tell_patience(w, client)


@reach.apart
def hand_on(w, index):
    """A call has ended: its connection is free, or the call that has waited longest takes it and is to be sent."""
    call = reach.visit_at(w, index)
    row = call.pool_row
    if row < 0:
        return
    call.pool_row = -1
    client = reach.client_at(w.clients, call.client)
    f = reach.fleet_at(w, call.pool_fleet)
    if reach.replica_at(f, row).epoch != call.pool_epoch:
        return  # of a process that is gone
    pool = _pool_of(f, client, row)
    following = pool.head
    if following < 0:
        pool.in_use -= 1
        return
    other = reach.visit_at(w, following)
    leave_queue(w, f, reach.client_at(w.clients, other.client), following)
    _has_connection(w, f, other, following, row)


@reach.apart
def forget_unsent(w, index):
    """A visit ends early: those of its calls that wait for a connection are never sent."""
    visit = reach.visit_at(w, index)
    call_index = visit.calls_head
    while call_index >= 0:
        call = reach.visit_at(w, call_index)
        following = call.sibling
        if call.phase == layout.QUEUED_UP:
            client = reach.client_at(w.clients, call.client)
            leave_queue(w, reach.fleet_at(w, call.pool_fleet), client, call_index)
            w.n_open -= 1
            lists.from_calls(w, visit, call_index)
            free(w, call_index)
        call_index = following


@reach.apart
def abandon(w, index):
    """A visit ends early: what waits for a connection is never sent, what is under way runs on, nothing is repeated."""
    forget_unsent(w, index)
    visit = reach.visit_at(w, index)
    while visit.calls_head >= 0:
        call_index = visit.calls_head
        call = reach.visit_at(w, call_index)
        lists.from_calls(w, visit, call_index)
        call.caller = -1
        if call.phase == layout.PAUSED:
            at = find(w.repeats, w.n_repeats, call_index)
            if w.n_repeats and reach.entry_at(w.repeats, at).request == call_index:
                heap_remove(w, w.repeats, w.n_repeats, at)
                w.n_repeats -= 1
            else:
                turn_out(w, find(w.repeating, w.n_repeating, call_index))
            give_up_for_good(w, reach.fleet_at(w, call.fleet), call_index)


@reach.apart
def heard(w, index):
    """The visit that waits for this call does so no longer. Returns it."""
    call = reach.visit_at(w, index)
    caller = call.caller
    lists.from_calls(w, reach.visit_at(w, caller), index)
    call.caller = -1
    return caller


@reach.apart
def forget_connections(f, row):
    """A process is gone, and its connections with it."""
    reach.replica_at(f, row).epoch += 1
    for k in range(f.n_pools):
        pool = reach.pool_at(f.pools, row * f.n_pools + k)
        pool.in_use = 0
        pool.head = pool.tail = -1
