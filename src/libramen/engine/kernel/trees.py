"""Winner trees name the fleet and replica with the earliest next completion, and the least busy replica.

Every inner node holds the smallest key below it (Knuth, The Art of Computer Programming 3, 5.4.1), and whose it is:
changing a leaf plays one path to the root again. Comparisons are not branched on: half of such branches would be
guessed wrong.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from libramen.engine.kernel import layout, reach, settings


def _winner_tree(time_at: Any, set_time: Any) -> tuple[Any, Any]:
    """The verbs of a tree of times and of whose they are.

    The first: the time of a leaf is `time_s` now, its path to the root is played again. The second: the leaf with the
    earliest time, and the earliest of all others [s]: the smallest of the keys beside the winner's path. They can be
    read all at once; on a way down from the root each comparison would wait for the one before.
    """

    @reach.inner
    def replay(tree, winners, leaves, leaf, time_s):
        node = leaves + leaf
        set_time(tree, node, time_s)
        while node > 1:
            other_s, other = time_at(tree, node ^ 1), reach.int32_at(winners, node ^ 1)
            leaf = other if other_s < time_s else leaf
            time_s = reach.lesser(other_s, time_s)
            node >>= 1
            set_time(tree, node, time_s)
            reach.set_int32(winners, node, leaf)

    @reach.inner
    def first(tree, winners, leaves):
        leaf = reach.int32_at(winners, 1)
        node = leaves + leaf
        second_s = np.inf
        while node > 1:
            second_s = reach.lesser(second_s, time_at(tree, node ^ 1))
            node >>= 1
        return leaf, second_s

    return replay, first


@reach.inner
def _due_at(tree, node):
    return reach.node_at(tree, node).due_s


@reach.inner
def _set_due(tree, node, due_s):
    reach.node_at(tree, node).due_s = due_s


_replay_row, _first_row = _winner_tree(_due_at, _set_due)
_replay_fleet, _first_fleet = _winner_tree(reach.float_at, reach.set_float)


@reach.inner
def replay_time(tree, node, time_s):
    """The same in a tree of times alone."""
    reach.set_float(tree, node, time_s)
    while node > 1:
        time_s = reach.lesser(reach.float_at(tree, node ^ 1), time_s)
        node >>= 1
        reach.set_float(tree, node, time_s)


@reach.inner
def first_fleet(w):
    """The fleet with the earliest next completion, and when another one has its next [s]."""
    if w.fleet_leaves == 1:
        return layout.FIRST, np.inf
    return _first_fleet(w.dues, w.due_fleets, w.fleet_leaves)


@reach.inner
def replay_load(tree, node, load):
    """The load of a leaf is `load` now: play its path to the root again."""
    reach.node_at(tree, node).load = load
    while node > 1:
        load = reach.lesser(reach.node_at(tree, node ^ 1).load, load)
        node >>= 1
        reach.node_at(tree, node).load = load


@reach.inner
def first_due(f):
    """The row with the earliest next completion, and when another row has its next [s]."""
    return _first_row(f.tree, f.due_rows, f.leaves)


@reach.inner
def least_busy(f):
    """The row with the fewest requests among those that the balancer believes ready; ties: chosen longest ago.

    The root's key ends in when that was, so nothing is searched.
    """
    chosen = reach.node_at(f.tree, 1).load & (2 * settings.CHOSEN - 1)
    if chosen < settings.CHOSEN:
        return reach.int_at(f.row_of, chosen)
    return reach.int32_at(f.chosen_rows, chosen & f.choice_mask)


@reach.inner
def choose(f, replica, row):
    """Write down that a replica was chosen: of equally busy ones the next is that with the lowest number of a choice.

    A number is skipped where its place in `chosen_rows` is that of another replica.
    """
    rows, mask, choice = f.chosen_rows, f.choice_mask, f.choices + 1
    while True:
        other = reach.int32_at(rows, choice & mask)
        if other == row or (reach.replica_at(f, other).chosen ^ choice) & mask:
            break
        choice += 1
    f.choices = choice
    replica.chosen = choice
    reach.set_int32(rows, choice & mask, row)


@reach.inner
def bank_due_s(f, replica):
    """When the bank of a replica runs empty if nothing else happens [s]; infinity: it does not."""
    if not f.lends or replica.empty:
        return np.inf
    used = min(float(replica.n_running), f.whole + f.fraction)
    if used <= f.steady:
        return np.inf
    return replica.v_at_s + replica.bank / (used - f.steady)


@reach.inner
def running_due_s(f, replica, key):
    """When a running request whose virtual time of completion is `key` will be done [s]."""
    return replica.v_at_s + (key - replica.v) * reach.float_at(
        f.pace, replica.empty * (f.places + 1) + replica.n_running
    )


@reach.inner
def way_due_s(w, f):
    """When the next answer reaches its caller [s]; infinity: none is on its way."""
    return reach.visit_at(w, f.way_head).answered_s if f.way_head >= 0 else np.inf


@reach.inner
def tell_due(w, f):
    """After an event at a fleet: its next completion, in the tree of all fleets."""
    due_s = reach.node_at(f.tree, 1).due_s
    if w.calls:
        due_s = reach.lesser(due_s, way_due_s(w, f))
    _replay_fleet(w.dues, w.due_fleets, w.fleet_leaves, f.index, due_s)


@reach.inner
def update_row(w, f, replica, row):
    """After an event at a replica: its next completion and its load, in all trees."""
    # An empty heap has infinity at its root.
    due_s = running_due_s(f, replica, reach.entry_at(reach.heap_of(replica, layout.RUNNING), 0).key)
    due_s = reach.lesser(due_s, reach.entry_at(reach.heap_of(replica, layout.WAITING), 0).key)
    if f.lends:
        due_s = reach.lesser(due_s, bank_due_s(f, replica))
    tree = f.tree
    leaf = f.leaves + row
    if due_s != reach.node_at(tree, leaf).due_s:
        _replay_row(tree, f.due_rows, f.leaves, row, due_s)
        tell_due(w, f)
    if f.by_load:
        load = settings.NOBODY
        if replica.state == layout.READY or replica.state == layout.DEAD:  # a dead one looks empty
            load = (replica.busy << settings.CHOSEN_BITS) + replica.chosen
        if load != reach.node_at(tree, leaf).load:
            replay_load(tree, leaf, load)
