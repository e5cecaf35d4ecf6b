"""Two winner trees name the replica with the earliest next completion and the least busy one.

Every inner node holds the smallest key below it (Knuth, The Art of Computer Programming 3, 5.4.1):
changing a leaf plays one path to the root again, and the winner is found from the root down.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from libramen.engine.kernel.layout import (
    DEAD,
    LEAST_BUSY,
    NOBODY,
    READY,
    RUNNING,
    WAITING,
    entry_at,
    float_at,
    heap_of,
    inner,
    node_at,
    replica_at,
)


@inner
def replay_due(w, row, due_s):
    """The next completion of `row` is at `due_s` now: play its path to the root again."""
    node = w.leaves + row
    node_at(w.tree, node).due_s = due_s
    while node > 1:
        due_s = min(node_at(w.tree, node ^ 1).due_s, due_s)
        node >>= 1
        node_at(w.tree, node).due_s = due_s


@inner
def replay_load(w, row, load):
    """The load of `row` is `load` now: play its path to the root again."""
    node = w.leaves + row
    node_at(w.tree, node).load = load
    while node > 1:
        load = min(node_at(w.tree, node ^ 1).load, load)
        node >>= 1
        node_at(w.tree, node).load = load


@inner
def first_due(w):
    """The row with the earliest next completion: from the root down, to the child that has it.

    The comparison is added, not branched on: half of such branches would be guessed wrong.
    """
    node: Any = 1
    while node < w.leaves:
        node = 2 * node + np.int64(node_at(w.tree, 2 * node + 1).due_s < node_at(w.tree, 2 * node).due_s)
    return node - w.leaves


@inner
def least_busy(w):
    """The row with the fewest requests among those that the balancer believes ready; ties: lowest number."""
    node: Any = 1
    while node < w.leaves:
        node = 2 * node + np.int64(node_at(w.tree, 2 * node + 1).load < node_at(w.tree, 2 * node).load)
    return node - w.leaves


@inner
def bank_due_s(w, replica):
    """When the bank of a replica runs empty if nothing else happens [s]; infinity: it does not."""
    if not w.lends or replica.empty:
        return np.inf
    used = min(float(replica.n_running), w.whole + w.fraction)
    if used <= w.steady:
        return np.inf
    return replica.v_at_s + replica.bank / (used - w.steady)


@inner
def running_due_s(w, replica, key):
    """When a running request whose virtual time of completion is `key` will be done [s]."""
    return replica.v_at_s + (key - replica.v) / float_at(w.rate, replica.empty * (w.slots + 1) + replica.n_running)


@inner
def update_row(w, row):
    """After an event at a replica: its next completion and its load, in both trees."""
    replica = replica_at(w.replicas, row)
    due_s = np.inf
    if replica.n_running:
        due_s = running_due_s(w, replica, entry_at(heap_of(w, RUNNING, row), 0).key)
        if w.lends:
            due_s = min(due_s, bank_due_s(w, replica))
    if replica.n_waiting:
        due_s = min(due_s, entry_at(heap_of(w, WAITING, row), 0).key)
    leaf = node_at(w.tree, w.leaves + row)
    if due_s != leaf.due_s:
        replay_due(w, row, due_s)
    if w.balancer >= LEAST_BUSY:
        load = NOBODY
        if replica.state == READY or replica.state == DEAD:  # a dead one looks empty
            load = (replica.busy << 32) + replica.number
        if load != leaf.load:
            replay_load(w, row, load)
