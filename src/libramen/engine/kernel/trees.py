"""Winner trees name the fleet and replica with the earliest next completion, and the least busy replica.

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
)
from libramen.engine.kernel.reach import (
    entry_at,
    float_at,
    heap_of,
    inner,
    int_at,
    lesser,
    node_at,
    set_float,
    visit_at,
)
from libramen.engine.kernel.settings import LEAST_BUSY, NOBODY


@inner
def replay_due(tree, node, due_s):
    """The next completion of a leaf is at `due_s` now: play its path to the root again."""
    node_at(tree, node).due_s = due_s
    while node > 1:
        due_s = lesser(node_at(tree, node ^ 1).due_s, due_s)
        node >>= 1
        node_at(tree, node).due_s = due_s


@inner
def replay_time(tree, node, time_s):
    """The same in a tree of times alone."""
    set_float(tree, node, time_s)
    while node > 1:
        time_s = lesser(float_at(tree, node ^ 1), time_s)
        node >>= 1
        set_float(tree, node, time_s)


@inner
def first_fleet(w):
    """The fleet with the earliest next completion, and when another one has its next [s]."""
    node: Any = 1
    second_s = np.inf
    while node < w.fleet_leaves:
        left_s, right_s = float_at(w.dues, 2 * node), float_at(w.dues, 2 * node + 1)
        second_s = lesser(second_s, max(right_s, left_s))
        node = 2 * node + np.int64(right_s < left_s)
    return node - w.fleet_leaves, second_s


@inner
def replay_load(tree, node, load):
    """The load of a leaf is `load` now: play its path to the root again."""
    node_at(tree, node).load = load
    while node > 1:
        load = lesser(node_at(tree, node ^ 1).load, load)
        node >>= 1
        node_at(tree, node).load = load


@inner
def first_due(f):
    """The row with the earliest next completion, and when another row has its next [s].

    From the root down, to the child that has it. The comparison is added, not branched on: half of such
    branches would be guessed wrong. Of the children that are passed by, the smallest is the second.
    """
    tree = f.tree
    leaves = f.leaves
    node: Any = 1
    second_s = np.inf
    while node < leaves:
        left_s = node_at(tree, 2 * node).due_s
        right_s = node_at(tree, 2 * node + 1).due_s
        second_s = lesser(second_s, max(right_s, left_s))
        node = 2 * node + np.int64(right_s < left_s)
    return node - leaves, second_s


@inner
def least_busy(f):
    """The row with the fewest requests among those that the balancer believes ready; ties: lowest number.

    The root's key ends in the number of that replica, so nothing is searched.
    """
    return int_at(f.row_of, node_at(f.tree, 1).load & 0xFFFFFFFF)


@inner
def bank_due_s(f, replica):
    """When the bank of a replica runs empty if nothing else happens [s]; infinity: it does not."""
    if not f.lends or replica.empty:
        return np.inf
    used = min(float(replica.n_running), f.whole + f.fraction)
    if used <= f.steady:
        return np.inf
    return replica.v_at_s + replica.bank / (used - f.steady)


@inner
def running_due_s(f, replica, key):
    """When a running request whose virtual time of completion is `key` will be done [s]."""
    return replica.v_at_s + (key - replica.v) * float_at(f.pace, replica.empty * (f.places + 1) + replica.n_running)


@inner
def way_due_s(w, f):
    """When the next answer reaches its caller [s]; infinity: none is on its way."""
    return visit_at(w, f.way_head).due_s if f.way_head >= 0 else np.inf


@inner
def tell_due(w, f):
    """After an event at a fleet: its next completion, in the tree of all fleets."""
    due_s = node_at(f.tree, 1).due_s
    if w.calls:
        due_s = lesser(due_s, way_due_s(w, f))
    replay_time(w.dues, f.leaf, due_s)


@inner
def update_row(w, f, replica, row):
    """After an event at a replica: its next completion and its load, in all trees."""
    # An empty heap has infinity at its root.
    due_s = running_due_s(f, replica, entry_at(heap_of(replica, RUNNING), 0).key)
    due_s = lesser(due_s, entry_at(heap_of(replica, WAITING), 0).key)
    if f.lends:
        due_s = lesser(due_s, bank_due_s(f, replica))
    tree = f.tree
    leaf = f.leaves + row
    if due_s != node_at(tree, leaf).due_s:
        replay_due(tree, leaf, due_s)
        tell_due(w, f)
    if f.balancer >= LEAST_BUSY:
        load = NOBODY
        if replica.state == READY or replica.state == DEAD:  # a dead one looks empty
            load = (replica.busy << 32) + replica.number
        if load != node_at(tree, leaf).load:
            replay_load(tree, leaf, load)
