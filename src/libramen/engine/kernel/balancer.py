"""A request arrives, and is sent to a replica, held, or refused."""

from __future__ import annotations

import numpy as np

from libramen.engine.kernel.clients import fail, watch
from libramen.engine.kernel.integrals import integrate
from libramen.engine.kernel.layout import (
    DEAD,
    HOLD,
    LOST,
    NO_REPLICA,
    NONE_READY,
    READY,
    REFUSED,
    TIMED_OUT,
    apart,
    float_at,
    inner,
    int32_at,
    int_at,
    level_at,
    replica_at,
    request_at,
    seldom,
)
from libramen.engine.kernel.lists import appended
from libramen.engine.kernel.service import find_ready, is_late, kill, take_slot
from libramen.engine.kernel.settings import LEAST_BUSY, NOBODY, RANDOM, ROUND_ROBIN
from libramen.engine.kernel.trees import least_busy, update_row
from libramen.engine.kernel.uniforms import uniforms


@inner
def arrive(w, i):
    """Request `i` of the chunk arrives: its entry in `requests`."""
    index = w.free
    request = request_at(w.requests, index)
    w.free = request.link
    request.id = w.next
    w.next += 1
    w.n_open += 1
    request.cpu_s = float_at(w.chunk_cpu_s, i)
    request.wait_s = float_at(w.chunk_wait_s, i)
    request.attempt = 0
    request.watched = 0
    request.given_up = 0
    if not w.keeps:
        request.route = int32_at(w.chunk_route, i)
        request.bytes_out = float_at(w.chunk_bytes_out, i)
    return index


@inner
def lacks_slot(w):
    """Whether no slot is left for one more attempt, those that are coming counted."""
    ready = level_at(w.levels, 0)
    return w.n_ready * w.slots - ready.in_slots + w.coming_slots <= ready.waiting


@inner
def send(w, index, now_s):
    """The balancer gets an attempt: the row that it goes to; NONE_READY: it has been held or refused."""
    integrate(w, now_s)
    request = request_at(w.requests, index)
    request.at_s = now_s
    request.slot_at_s = np.nan
    request.attempt += 1
    request.order = w.attempts
    w.attempts += 1
    if w.watches and request.attempt <= w.retries:
        watch(w, index)
    row = NONE_READY
    if w.n_ready == 0:
        row = HOLD if w.holds else NONE_READY
    elif w.balancer >= LEAST_BUSY:
        row = least_busy(w)
        if w.queues and not _has_room(w, row):
            row = HOLD
    else:
        row = _choose(w, request)
    if row >= 0:
        return row
    if row == HOLD and w.n_held < w.queue_limit:
        _hold(w, index)
    else:
        fail(w, index, REFUSED, NO_REPLICA, now_s)
    return NONE_READY


@inner
def _has_room(w, row):
    """Whether a replica would take one more; a dead one looks empty."""
    replica = replica_at(w.replicas, row)
    if replica.state == DEAD or replica.in_slots < w.slots:
        return True
    return w.backlog < 0 or replica.busy - replica.in_slots < w.backlog


@inner
def put(w, row, index, now_s):
    """A replica gets a request: into a slot, into its backlog, or refused."""
    replica = replica_at(w.replicas, row)
    if replica.state == DEAD:
        fail(w, index, LOST, replica.number, now_s)
        return
    if replica.in_slots < w.slots:
        if replica.in_slots >= w.fits:
            fail(w, index, LOST, replica.number, now_s)
            kill(w, row, now_s)
        else:
            replica.busy += 1
            take_slot(w, replica, index, now_s)
    elif w.backlog < 0 or replica.busy - replica.in_slots < w.backlog:
        replica.busy += 1
        level_at(w.levels, replica.state - READY).waiting += 1
        replica.backlog_head = appended(w, replica.backlog_head, replica.backlog_tail, index)
        replica.backlog_tail = index
    else:
        fail(w, index, REFUSED, replica.number, now_s)
        return
    update_row(w, replica, row)


# -- the shared or held queue: while it is not empty, no ready replica has room -------------------


@seldom
def _hold(w, index):
    """A request waits until some replica has room."""
    apart()
    level_at(w.levels, 0).waiting += 1
    w.held_head = appended(w, w.held_head, w.held_tail, index)
    w.held_tail = index
    w.n_held += 1


@seldom
def take_held(w):
    """Take the first request out of the queue."""
    index = w.held_head
    w.held_head = request_at(w.requests, index).link
    w.n_held -= 1
    level_at(w.levels, 0).waiting -= 1
    return index


@seldom
def next_held(w):
    """The replica with free capacity gets the first of the queue: (entry, row).

    Row NONE_READY: there is nothing to hand out, or no room any more, or the first one was late and is dropped.
    """
    apart()
    row = w.room_row
    replica = replica_at(w.replicas, row)
    takes = replica.state == READY or replica.state == DEAD
    if not w.n_held or not takes or not _has_room(w, row):
        w.room_row = NONE_READY
        return NOBODY, NONE_READY
    index = take_held(w)
    if replica.in_slots < w.slots and is_late(w, index, w.now_s):
        fail(w, index, TIMED_OUT, replica.number, w.now_s)
        return NOBODY, NONE_READY
    w.last_chosen = replica.number
    return index, row


# -- balancers that do not look for the least busy replica ----------------------------------------


@seldom
def _choose(w, request):
    """The row of a ready replica by turns, at random, or the less busy of two at random.

    Where requests are held, among those with room only: a scan, for that combination alone.
    """
    apart()
    scans = w.holds and w.backlog >= 0
    n = _count_room(w) if scans else w.n_ready
    if n == 0:
        return HOLD
    if w.balancer == ROUND_ROBIN:
        at = find_ready(w, w.last_chosen)
        row = int_at(w.ready, at if at < w.n_ready else 0)
        while scans and not _has_room(w, row):
            at = find_ready(w, replica_at(w.replicas, row).number)
            row = int_at(w.ready, at if at < w.n_ready else 0)
        w.last_chosen = replica_at(w.replicas, row).number
        return row
    u, v = uniforms(w.balancer_key, request.id, request.attempt)
    first = int(u * n)
    row = _nth(w, first, scans)
    if w.balancer == RANDOM or n == 1:
        return row
    second = int(v * (n - 1))
    second += second >= first  # the others, of which there is one fewer
    other = _nth(w, second, scans)
    mine, theirs = replica_at(w.replicas, row), replica_at(w.replicas, other)
    if theirs.busy < mine.busy or (theirs.busy == mine.busy and theirs.number < mine.number):
        return other
    return row


@seldom
def _count_room(w):
    n = 0
    for k in range(w.n_ready):
        if _has_room(w, int_at(w.ready, k)):
            n += 1
    return n


@seldom
def _nth(w, n, scans):
    """The n-th ready row (from 0), or the n-th that has room."""
    if not scans:
        return int_at(w.ready, n)
    for k in range(w.n_ready):
        if _has_room(w, int_at(w.ready, k)):
            if n == 0:
                return int_at(w.ready, k)
            n -= 1
    return -1  # never: n is below their count
