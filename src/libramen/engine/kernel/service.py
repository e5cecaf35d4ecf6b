"""Slots, CPU turns, waits, lent CPU, and the death of a replica.

CPU sharing runs on virtual time. While `k` requests run on a replica, its virtual time `v` advances at
`rate[k]`, the work that each of them gets done in a second. A request that starts its CPU work at `v` is
done at `v + cpu_s`, whatever comes and goes meanwhile, so nothing is re-dated. Virtual time is set back to
0 when no request runs, so that it never loses digits.
"""

from __future__ import annotations

import numpy as np

from libramen.engine.kernel.clients import fail
from libramen.engine.kernel.heaps import heap_remove, heap_up
from libramen.engine.kernel.integrals import count_cores, count_turn, integrate
from libramen.engine.kernel.layout import (
    DEAD,
    DRAINING,
    LESS,
    LOST,
    MORE,
    OUT,
    READY,
    RUNNING,
    SAME,
    WAITING,
    apart,
    entry_at,
    float_at,
    heap_of,
    inner,
    int_at,
    level_at,
    replica_at,
    request_at,
    seldom,
    set_float,
    set_int,
    tolerance_s,
)
from libramen.engine.kernel.lists import appended
from libramen.engine.kernel.trees import update_row
from libramen.engine.kernel.use import begin_use, end_use


@inner
def catch_up(w, replica, now_s):
    """Advance a replica's virtual time, its core-seconds and its bank, before who runs changes."""
    if now_s > replica.v_at_s:
        if w.lends:
            _fill_bank(w, replica, now_s - replica.v_at_s)
        if replica.n_running:
            replica.core_s += (now_s - replica.v_at_s) * _cores_used(w, replica)
            replica.v += (now_s - replica.v_at_s) * float_at(w.rate, replica.empty * (w.places + 1) + replica.n_running)
        replica.v_at_s = now_s
    if not replica.n_running:
        replica.v = 0.0


@inner
def _cores_used(w, replica):
    cores = w.whole + w.fraction
    if replica.empty:
        cores = min(cores, w.steady)
    return min(float(replica.n_running), cores)


@inner
def _fill_bank(w, replica, passed_s):
    change = (w.steady - _cores_used(w, replica)) * passed_s
    replica.bank = min(max(replica.bank + change, 0.0), w.bank)


@inner
def change_running(w, replica, change):
    """One request more or fewer runs from now on; the virtual time is caught up."""
    level = level_at(w.levels, replica.state - READY)
    before = replica.n_running
    replica.n_running += change
    if w.lends:
        count_cores(w, level, before, replica.empty, LESS)
        # Empty only for as long as it stays so: whatever is in the bank may be spent.
        replica.empty = 1 if replica.bank <= 0.0 else 0
        count_cores(w, level, replica.n_running, replica.empty, MORE)
    else:
        count_turn(w, level, max(before, replica.n_running), change)


@seldom
def empty_bank(w, row, now_s):
    """The bank of a replica has run empty: from now on it has only the cores that it earns."""
    apart()
    integrate(w, now_s)
    replica = replica_at(w.replicas, row)
    catch_up(w, replica, now_s)
    replica.bank = 0.0
    change_running(w, replica, SAME)
    update_row(w, replica, row)


@inner
def _slower(w, replica, now_s):
    """By how much more CPU work begins now, on a replica that may not be warm."""
    cold = 1.0 - (now_s - replica.ready_at_s) / w.warm_up_s
    return 1.0 + (w.warm_up_factor - 1.0) * max(0.0, cold)


@seldom
def _note_turn(w, replica, index, now_s):
    """A CPU turn whose end is known: it stands in both heaps, in that of the running without a time of its own."""
    apart()
    request = request_at(w.requests, index)
    set_float(w.turns, 3 * request.id, now_s)
    set_float(w.turns, 3 * request.id + 2, replica.v)
    ends_s = now_s + request.cpu_s * max(0.0, request.wait_s - now_s)
    heap_up(heap_of(replica, WAITING), replica.n_waiting, ends_s, index)
    replica.n_waiting += 1


@inner
def runs_forced(w, index):
    """Whether a request whose departure is forced is in its CPU turn."""
    at = 3 * request_at(w.requests, index).id
    return not np.isnan(float_at(w.turns, at)) and np.isnan(float_at(w.turns, at + 1))


@inner
def start_cpu(w, replica, index, now_s):
    """A request in its slot gets a CPU turn; on a replica that is not warm it needs more work."""
    catch_up(w, replica, now_s)
    work = request_at(w.requests, index).cpu_s * w.work_scale
    if w.warm_up_s > 0.0:
        work *= _slower(w, replica, now_s)
    heap_up(heap_of(replica, RUNNING), replica.n_running, replica.v + work, index)
    change_running(w, replica, MORE)
    if w.forced:
        _note_turn(w, replica, index, now_s)


@seldom
def end_forced(w, replica, index, now_s):
    """The CPU turn of such a request is over: how much it got is written down, and the next one has its turn."""
    apart()
    catch_up(w, replica, now_s)
    at = 0
    while entry_at(heap_of(replica, RUNNING), at).request != index:
        at += 1
    heap_remove(heap_of(replica, RUNNING), replica.n_running, at)
    place = 3 * request_at(w.requests, index).id
    done = replica.v - float_at(w.turns, place + 2)
    if w.warm_up_s > 0.0:
        done /= _slower(w, replica, float_at(w.turns, place))
    change_running(w, replica, LESS)
    set_float(w.turns, place + 1, now_s)
    set_float(w.turns, place + 2, done)
    turn = replica.turn_head
    if turn >= 0:
        replica.turn_head = request_at(w.requests, turn).link
        start_cpu(w, replica, turn, now_s)


@inner
def start_wait(w, replica, index, now_s):
    """A request in its slot has no CPU work left, and waits for something else."""
    ends_s = max(now_s, w.wait_from * now_s + request_at(w.requests, index).wait_s)
    heap_up(heap_of(replica, WAITING), replica.n_waiting, ends_s, index)
    replica.n_waiting += 1


@inner
def take_slot(w, replica, index, now_s):
    """A request takes a slot: it works, or waits for its CPU turn, or has no CPU work at all."""
    request = request_at(w.requests, index)
    request.slot_at_s = now_s
    if w.meters and replica.in_slots == 0:
        begin_use(w, replica, now_s)
    replica.in_slots += 1
    w.fullest = max(w.fullest, replica.in_slots)
    level_at(w.levels, replica.state - READY).in_slots += 1
    if request.cpu_s == 0.0:
        start_wait(w, replica, index, now_s)
    elif replica.n_running < w.threads:
        start_cpu(w, replica, index, now_s)
    else:
        replica.turn_head = appended(w, replica.turn_head, replica.turn_tail, index)
        replica.turn_tail = index


# -- the end of a replica --------------------------------------------------------------------------


@seldom
def end_all(w, row, ending, now_s):
    """Every request in a replica ends so."""
    apart()
    replica = replica_at(w.replicas, row)
    level = level_at(w.levels, replica.state - READY)
    catch_up(w, replica, now_s)
    count_cores(w, level, replica.n_running, replica.empty, LESS)
    level.in_slots -= replica.in_slots
    level.waiting -= replica.busy - replica.in_slots
    _end_heap(w, heap_of(replica, RUNNING), replica.n_running, ending, replica.number, now_s)
    _end_heap(w, heap_of(replica, WAITING), replica.n_waiting, ending, replica.number, now_s)
    _end_list(w, replica.turn_head, ending, replica.number, now_s)
    _end_list(w, replica.backlog_head, ending, replica.number, now_s)
    if w.meters and replica.in_slots:
        end_use(w, replica, now_s)
    replica.n_running = 0
    replica.n_waiting = 0
    replica.in_slots = 0
    replica.busy = 0
    replica.turn_head = -1
    replica.backlog_head = -1


@seldom
def _end_heap(w, heap, n, ending, number, now_s):
    for at in range(n):
        entry = entry_at(heap, at)
        entry.key = np.inf
        fail(w, entry.request, ending, number, now_s)


@seldom
def _end_list(w, index, ending, number, now_s):
    while index >= 0:
        following = request_at(w.requests, index).link
        fail(w, index, ending, number, now_s)
        index = following


@seldom
def kill(w, row, now_s):
    """A replica dies: its requests are lost. The balancer knows at once, or when it is told."""
    apart()
    replica = replica_at(w.replicas, row)
    end_all(w, row, LOST, now_s)
    replica.state = DEAD
    if w.detects_at_once:
        replica.state = OUT
        withdraw(w, row)
    set_int(w.killed, w.n_killed, replica.number)
    w.n_killed += 1
    w.notice_s = now_s


@inner
def find_ready(w, number):
    """How many of the ready rows have a number up to this one: they stand in order of their numbers."""
    low = 0
    high = w.n_ready
    while low < high:
        middle = (low + high) >> 1
        if replica_at(w.replicas, int_at(w.ready, middle)).number > number:
            high = middle
        else:
            low = middle + 1
    return low


@seldom
def withdraw(w, row):
    """The balancer sends nothing to this row any more."""
    at = find_ready(w, replica_at(w.replicas, row).number) - 1
    w.n_ready -= 1
    for k in range(at, w.n_ready):
        set_int(w.ready, k, int_at(w.ready, k + 1))


@inner
def emptied(w, replica, now_s):
    """Tell the control plane of a draining replica that has nothing left."""
    if replica.busy == 0 and replica.state == DRAINING:
        set_int(w.emptied, w.n_emptied, replica.number)
        w.n_emptied += 1
        w.notice_s = now_s


@inner
def is_late(w, index, now_s):
    """Whether a request is past its deadline where such are dropped."""
    return bool(w.drops and now_s - request_at(w.requests, index).at_s > w.timeout_s + tolerance_s(now_s))
