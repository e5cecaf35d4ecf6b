"""What the control plane orders between two instants: replicas to add, drain, withdraw or remove."""

from __future__ import annotations

import numpy as np

from libramen.engine.kernel.balancer import take_held
from libramen.engine.kernel.clients import fail
from libramen.engine.kernel.integrals import count_cores, integrate
from libramen.engine.kernel.layout import (
    ADD,
    CUT,
    DEAD,
    DRAIN,
    DRAINING,
    FREE,
    NO_ORDER,
    NO_REPLICA,
    OUT,
    READY,
    REFUSED,
    REMOVE,
    TIMED_OUT,
    WITHDRAW,
    apart,
    inner,
    int_at,
    level_at,
    replica_at,
    seldom,
    set_int,
)
from libramen.engine.kernel.service import end_all, find_ready, withdraw
from libramen.engine.kernel.trees import update_row
from libramen.engine.kernel.use import forget_use


@seldom
def carry_out(w):
    """Carry out the order in `w`."""
    apart()
    order = w.order
    w.order = NO_ORDER
    integrate(w, w.order_s)
    if order == ADD:
        _add(w, w.order_row, w.order_s)
    elif order == DRAIN:
        _drain(w, w.order_row)
    elif order == WITHDRAW:
        replica = replica_at(w.replicas, w.order_row)
        replica.state = OUT
        withdraw(w, w.order_row)
        update_row(w, replica, w.order_row)
    elif order == REMOVE:
        _remove(w, w.order_row, w.order_s)
    else:
        _dismiss(w, w.order_s)


@inner
def _add(w, row, now_s):
    """A replica is ready: for the first time, or again after it died."""
    replica = replica_at(w.replicas, row)
    if replica.state == FREE:
        replica.number = w.order_number
        replica.bank = w.bank_at_start
        replica.core_s = 0.0
    replica.state = READY
    replica.empty = 1 if w.lends and replica.bank <= 0.0 else 0
    replica.v = 0.0
    replica.v_at_s = now_s  # a bank stands still while its replica is down
    replica.ready_at_s = -np.inf if w.order_warm else now_s
    if w.meters:
        forget_use(w, row, now_s)
    at = find_ready(w, replica.number)
    for k in range(w.n_ready, at, -1):
        set_int(w.ready, k, int_at(w.ready, k - 1))
    set_int(w.ready, at, row)
    w.n_ready += 1
    w.room_row = row
    update_row(w, replica, row)


@inner
def _drain(w, row):
    """A replica takes nothing new: from the first group of levels to the second."""
    replica = replica_at(w.replicas, row)
    for group in range(2):
        level = level_at(w.levels, group)
        sign = 2 * group - 1
        count_cores(w, level, replica.n_running, replica.empty, sign)
        level.in_slots += sign * replica.in_slots
        level.waiting += sign * (replica.busy - replica.in_slots)
    replica.state = DRAINING
    withdraw(w, row)
    update_row(w, replica, row)


@inner
def _remove(w, row, now_s):
    """A replica is gone, and what is left in it is cut. Its row is free."""
    replica = replica_at(w.replicas, row)
    if replica.state == READY or replica.state == DRAINING:
        end_all(w, row, CUT, now_s)
    if replica.state == READY or replica.state == DEAD:
        withdraw(w, row)
    replica.state = FREE
    if w.meters:
        forget_use(w, row, now_s)
    update_row(w, replica, row)


@inner
def _dismiss(w, now_s):
    """Nothing will ever take the held requests: they end by their time-out, or as refused."""
    while w.n_held:
        fail(w, take_held(w), TIMED_OUT if w.timeout_s < np.inf else REFUSED, NO_REPLICA, now_s)
