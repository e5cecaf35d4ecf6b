"""What the control plane orders between two instants: replicas to add, drain, withdraw or remove."""

from __future__ import annotations

import numpy as np

from libramen.engine.kernel.balancer import take_held
from libramen.engine.kernel.clients import fail
from libramen.engine.kernel.integrals import count_cores, integrate
from libramen.engine.kernel.layout import (
    ADD,
    CARRIED_OUT,
    CUT,
    DEAD,
    DISMISS,
    DRAIN,
    DRAINING,
    FAIL,
    FAIL_FOUND,
    FREE,
    LOST,
    NO_REPLICA,
    OUT,
    READY,
    REFUSED,
    REMOVE,
    TIMED_OUT,
    WITHDRAW,
)
from libramen.engine.kernel.reach import (
    apart,
    client_at,
    fleet_at,
    inner,
    int_at,
    level_at,
    replica_at,
    seldom,
    set_int,
    visit_at,
)
from libramen.engine.kernel.service import end_all, find_ready, move_over, withdraw
from libramen.engine.kernel.settings import NOBODY
from libramen.engine.kernel.trees import update_row
from libramen.engine.kernel.use import forget_use


@seldom
def carry_out(w):
    """Carry out the order in `w`."""
    apart()
    order = w.order
    w.order = CARRIED_OUT
    w.event_s = w.order_s
    if order == DISMISS:
        _dismiss(w, w.order_s)
        return
    f = fleet_at(w, w.order_fleet)
    integrate(w, f, w.order_s)
    if order == ADD:
        _add(w, f, w.order_row, w.order_s)
    elif order == DRAIN:
        _drain(w, f, w.order_row)
    elif order == FAIL:
        _fail(w, f, w.order_row, w.order_s, 0)
    elif order == FAIL_FOUND:
        _fail(w, f, w.order_row, w.order_s, 1)
    elif order == WITHDRAW:
        replica = replica_at(f, w.order_row)
        replica.state = OUT
        withdraw(f, w.order_row)
        update_row(w, f, replica, w.order_row)
        move_over(w, f)
    elif order == REMOVE:
        _remove(w, f, w.order_row, w.order_s)


@inner
def _add(w, f, row, now_s):
    """A replica is ready: for the first time, or again after it died."""
    replica = replica_at(f, row)
    if replica.state == FREE:
        replica.number = w.order_number
        replica.bank = f.bank_at_start
        replica.core_s = 0.0
    replica.state = READY
    replica.empty = 1 if f.lends and replica.bank <= 0.0 else 0
    replica.v = 0.0
    replica.v_at_s = now_s  # a bank stands still while its replica is down
    replica.ready_at_s = -np.inf if w.order_warm else now_s
    f.least_fits = min(f.least_fits, replica.fits)
    if f.meters:
        forget_use(f, row, now_s)
    at = find_ready(f, replica.number)
    for k in range(f.n_ready, at, -1):
        set_int(f.ready, k, int_at(f.ready, k - 1))
    set_int(f.ready, at, row)
    f.n_ready += 1
    if f.other >= 0:
        move_over(w, fleet_at(w, f.other))
    w.attention = 1
    w.room_fleet = f.index
    w.room_row = row
    update_row(w, f, replica, row)


@inner
def _drain(w, f, row):
    """A replica takes nothing new: from the first group of levels to the second."""
    replica = replica_at(f, row)
    for group in range(2):
        level = level_at(f.levels, group)
        sign = 2 * group - 1
        count_cores(f, level, replica.n_running, replica.empty, sign)
        level.in_slots += sign * replica.in_slots
        level.waiting += sign * (replica.busy - replica.in_slots)
    replica.state = DRAINING
    withdraw(f, row)
    update_row(w, f, replica, row)
    move_over(w, f)


@inner
def _fail(w, f, row, now_s, found):
    """A process dies with its visits. A draining one is removed next; a ready one looks empty until it is found."""
    replica = replica_at(f, row)
    end_all(w, f, row, LOST, now_s)
    if replica.state == READY:
        replica.state = OUT if found else DEAD
        if found:
            withdraw(f, row)
            move_over(w, f)
        else:
            w.attention = 1
            w.room_fleet = f.index
            w.room_row = row
    update_row(w, f, replica, row)


@inner
def _remove(w, f, row, now_s):
    """A replica is gone, and what is left in it is cut. Its row is free."""
    replica = replica_at(f, row)
    if replica.state == READY or replica.state == DRAINING:
        end_all(w, f, row, CUT, now_s)
    if replica.state == READY or replica.state == DEAD:
        withdraw(f, row)
    replica.state = FREE
    if f.meters:
        forget_use(f, row, now_s)
    update_row(w, f, replica, row)
    move_over(w, f)


@inner
def _dismiss(w, now_s):
    """Nothing will ever take what these fleets hold: it ends by its time-out, or as refused, in order of arrival."""
    while True:
        best = NOBODY
        chosen = np.int64(-1)
        for k in range(w.n_fleets):
            f = fleet_at(w, k)
            if f.dismissed and f.n_held and visit_at(w, f.held_head).order < best:
                best = visit_at(w, f.held_head).order
                chosen = np.int64(k)
        if chosen < 0:
            break
        f = fleet_at(w, chosen)
        integrate(w, f, now_s)
        index = take_held(w, f)
        client = client_at(w.clients, visit_at(w, index).client)
        fail(w, f, index, TIMED_OUT if client.timeout_s < np.inf else REFUSED, NO_REPLICA, now_s)
    for k in range(w.n_fleets):
        fleet_at(w, k).dismissed = 0
