"""Two winner trees name the replica with the earliest next completion and the least busy one.

Every inner node holds the smallest key below it (Knuth, The Art of Computer Programming 3, 5.4.1):
changing a leaf plays one path to the root again, and the winner is found from the root down.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from libramen.engine.kernel.layout import (
    DEAD,
    READY,
    RUNNING,
    WAITING,
    entry_at,
    float_at,
    heap_of,
    inner,
    int_at,
    node_at,
)
from libramen.engine.kernel.settings import LEAST_BUSY, NOBODY


@inner
def replay_due(tree, node, due_s):
    """The next completion of a leaf is at `due_s` now: play its path to the root again."""
    node_at(tree, node).due_s = due_s
    while node > 1:
        due_s = min(node_at(tree, node ^ 1).due_s, due_s)
        node >>= 1
        node_at(tree, node).due_s = due_s


@inner
def replay_load(tree, node, load):
    """The load of a leaf is `load` now: play its path to the root again."""
    node_at(tree, node).load = load
    while node > 1:
        load = min(node_at(tree, node ^ 1).load, load)
        node >>= 1
        node_at(tree, node).load = load


@inner
def first_due(w):
    """The row with the earliest next completion, and when another row has its next [s].

    From the root down, to the child that has it. The comparison is added, not branched on: half of such
    branches would be guessed wrong. Of the children that are passed by, the smallest is the second.
    """
    tree = w.tree
    leaves = w.leaves
    node: Any = 1
    second_s = np.inf
    while node < leaves:
        left_s = node_at(tree, 2 * node).due_s
        right_s = node_at(tree, 2 * node + 1).due_s
        second_s = min(second_s, max(left_s, right_s))
        node = 2 * node + np.int64(right_s < left_s)
    return node - leaves, second_s


@inner
def least_busy(w):
    """The row with the fewest requests among those that the balancer believes ready; ties: lowest number.

    The root's key ends in the number of that replica, so nothing is searched.
    """
    return int_at(w.row_of, node_at(w.tree, 1).load & 0xFFFFFFFF)


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
    return replica.v_at_s + (key - replica.v) * float_at(w.pace, replica.empty * (w.places + 1) + replica.n_running)


@inner
def update_row(w, replica, row):
    """After an event at a replica: its next completion and its load, in both trees."""
    # An empty heap has infinity at its root.
    due_s = running_due_s(w, replica, entry_at(heap_of(replica, RUNNING), 0).key)
    due_s = min(due_s, entry_at(heap_of(replica, WAITING), 0).key)
    if w.lends:
        due_s = min(due_s, bank_due_s(w, replica))
    tree = w.tree
    leaf = w.leaves + row
    if due_s != node_at(tree, leaf).due_s:
        replay_due(tree, leaf, due_s)
    if w.balancer >= LEAST_BUSY:
        load = NOBODY
        if replica.state == READY or replica.state == DEAD:  # a dead one looks empty
            load = (replica.busy << 32) + replica.number
        if load != node_at(tree, leaf).load:
            replay_load(tree, leaf, load)
