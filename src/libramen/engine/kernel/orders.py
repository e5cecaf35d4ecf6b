"""What the control plane orders between two instants: replicas to add, drain, withdraw or remove.

> Until the tier's `detect` has passed the balancer still sends to it (it looks empty), and what it sends is lost at
> once, held requests too.
>
> What is left in a replica when its `drain` is over is **cut**.
>
> What is still held when nothing is left to happen ends by its time-out, or as refused at the instant of the last
> thing that happened;
"""

from __future__ import annotations

import numpy as np

from libramen.engine.kernel import layout, lists, reach
from libramen.engine.kernel.balancer import take_held
from libramen.engine.kernel.clients import fail
from libramen.engine.kernel.connections import push
from libramen.engine.kernel.integrals import count_cores, integrate
from libramen.engine.kernel.places import find_silent
from libramen.engine.kernel.service import end_all, find_ready, lose_all, move_over, offer, withdraw
from libramen.engine.kernel.trees import update_row
from libramen.engine.kernel.use import forget_use


@reach.apart
def carry_out(w):
    """Carry out the order in `w`."""
    order = w.order
    w.order = layout.CARRIED_OUT
    w.event_s = w.order_s
    if order == layout.DISMISS:
        _dismiss(w, w.order_s)
        return
    if order == layout.LOSE:
        lose_all(w, w.order_s)
        return
    if order == layout.FIND_SILENT:
        find_silent(w, w.order_s)
        return
    f = reach.fleet_at(w, w.order_fleet)
    integrate(w, f, w.order_s)
    if order == layout.ADD:
        _add(w, f, w.order_row, w.order_s)
    elif order == layout.DRAIN:
        _drain(w, f, w.order_row)
    elif order == layout.FAIL or order == layout.FAIL_FOUND:
        _fail(w, f, w.order_row, w.order_s, order == layout.FAIL_FOUND)
    elif order == layout.WITHDRAW:
        replica = reach.replica_at(f, w.order_row)
        replica.state = layout.OUT
        withdraw(f, w.order_row)
        update_row(w, f, replica, w.order_row)
        move_over(w, f)
    elif order == layout.HAND_OUT:
        push(w, -1 - f.index)
    elif order == layout.REMOVE:
        _remove(w, f, w.order_row, w.order_s)


@reach.inner
def _add(w, f, row, now_s):
    """A replica is ready: for the first time, or again after it died."""
    replica = reach.replica_at(f, row)
    was = replica.state
    if was == layout.DRAINING:  # it was taken out, and works
        _regroup(f, replica, -1)
    else:
        if was == layout.FREE:
            replica.number = w.order_number
            replica.chosen = w.order_number
            replica.bank = f.bank_at_start
            replica.core_s = 0.0
        _begin(w, f, replica, row, now_s)
    replica.state = layout.READY
    if was != layout.DEAD:  # else nobody has noticed that it was
        at = find_ready(f, replica.number)
        for k in range(f.n_ready, at, -1):
            reach.set_int(f.ready, k, reach.int_at(f.ready, k - 1))
        reach.set_int(f.ready, at, row)
        f.n_ready += 1
        if f.other >= 0:
            move_over(w, reach.fleet_at(w, f.other))
    offer(w, f, row)
    update_row(w, f, replica, row)


@reach.inner
def _begin(w, f, replica, row, now_s):
    """A process begins."""
    replica.empty = 1 if f.lends and replica.bank <= 0.0 else 0
    replica.v = 0.0
    replica.v_at_s = now_s  # a bank stands still while its replica is down
    replica.ready_at_s = -np.inf if w.order_warm else now_s
    f.least_fits = min(f.least_fits, replica.fits)
    if f.meters:
        forget_use(f, row, now_s)


@reach.seldom
def _regroup(f, replica, way):
    """What is in a replica goes from the first group of levels to the second (`way` 1), or back (-1)."""
    for group in range(2):
        level = reach.level_at(f.levels, group)
        sign = way * (2 * group - 1)
        count_cores(f, level, replica.n_running, replica.empty, sign)
        level.in_slots += sign * replica.in_slots
        level.waiting += sign * (replica.busy - replica.in_slots)


@reach.inner
def _drain(w, f, row):
    """A replica takes nothing new."""
    replica = reach.replica_at(f, row)
    _regroup(f, replica, 1)
    replica.state = layout.DRAINING
    withdraw(f, row)
    update_row(w, f, replica, row)
    move_over(w, f)


@reach.inner
def _fail(w, f, row, now_s, found):
    """A process dies with its visits. A draining one is removed next; a ready one looks empty until it is found."""
    replica = reach.replica_at(f, row)
    end_all(w, f, row, layout.LOST, now_s)
    if replica.state == layout.READY:
        replica.state = layout.OUT if found else layout.DEAD
        if found:
            withdraw(f, row)
            move_over(w, f)
        else:
            offer(w, f, row)
    update_row(w, f, replica, row)


@reach.inner
def _remove(w, f, row, now_s):
    """A replica is gone, and what is left in it is cut. Its row is free."""
    replica = reach.replica_at(f, row)
    if replica.state == layout.READY or replica.state == layout.DRAINING:
        end_all(w, f, row, layout.CUT, now_s)
    if replica.state == layout.READY or replica.state == layout.DEAD:
        withdraw(f, row)
    replica.state = layout.FREE
    if f.meters:
        forget_use(f, row, now_s)
    update_row(w, f, replica, row)
    move_over(w, f)


@reach.inner
def _dismiss(w, now_s):
    """Nothing will ever take what these fleets hold: it ends by its time-out, or as refused, in order of arrival."""
    while True:
        chosen = lists.first_dismissed(w)
        if chosen < 0:
            break
        f = reach.fleet_at(w, chosen)
        integrate(w, f, now_s)
        index = take_held(w, f)
        client = reach.client_at(w.clients, reach.visit_at(w, index).client)
        fail(w, f, index, layout.TIMED_OUT if client.timeout_s < np.inf else layout.REFUSED, layout.NO_REPLICA, now_s)
    for k in range(w.n_fleets):
        reach.fleet_at(w, k).dismissed = 0
