"""A request arrives, and is sent to a replica, held, or refused.

> It takes a slot of its replica if one is free, else waits in the replica's first-in-first-out backlog, else is
> **refused**.
>
> It sends to a replica that it believes ready; with none the request is refused.
>
> `least_busy`: fewest requests in slots and backlog; ties to the one that was chosen longest ago, one that never was
> before all others, of these the lowest number, so that an idle fleet is used in turn.
>
> `pinned`: the replica to which the last request of this visitor was sent, while it is ready; else, and without a
> visitor, as `least_busy`, and from then on there.
>
> `shared_queue`: nothing waits at replicas; a request goes to the one with the most free slots, or into one queue
> of at most `queue_limit` until any slot is free.
>
> On a tier with `holds_requests` nothing waits at replicas either, and `backlog` has no effect: a request goes to a
> ready replica with a free slot, by the balancer's rule among these, or waits in such a queue; it is handed out in
> order, by the same rule, the moment a replica becomes ready or a slot is free. Later arrivals queue up behind.
>
> Of the attempts that reach the balancer since a step began the k-th (from 1) goes to the new version when floor(k
> share + 1e-9) is more than for k - 1.
"""

from __future__ import annotations

import numpy as np

from libramen.base.times import EPSILON_S
from libramen.engine.kernel import layout, lists, reach, settings
from libramen.engine.kernel.clients import ask_for_room, fail, take, watch
from libramen.engine.kernel.integrals import integrate
from libramen.engine.kernel.places import begin_place, enter, refuse
from libramen.engine.kernel.service import find_ready, is_dropped, kill, move_over, take_slot
from libramen.engine.kernel.trees import choose, least_busy, update_row
from libramen.engine.kernel.uniforms import lineage_of, uniforms

_ROUND_ROBIN, _RANDOM = settings.CODES["round_robin"], settings.CODES["random"]


@reach.inner
def arrive(w, f, i, now_s):
    """Request `i` of the chunk arrives: its entry in `visits`."""
    index = take(w)
    visit = reach.visit_at(w, index)
    visit.id = w.next
    w.next += 1
    w.n_open += 1
    visit.cpu_s = reach.float_at(w.chunk_cpu_s, i)
    visit.wait_s = reach.float_at(w.chunk_wait_s, i)
    visit.attempt = 0
    visit.watched = 0
    visit.given_up = 0
    visit.fleet = f.index
    visit.client = f.user
    visit.is_call = 0
    if w.extras:
        _bring(w, visit, index, i)
        if w.places:
            begin_place(w, f, index, np.int64(reach.int32_at(w.chunk_area, i)), now_s)
    return index


@reach.inner
def _bring(w, visit, index, i):
    """What a request brings with it beside its work, where it matters."""
    if w.codes:
        visit.route = reach.int32_at(w.chunk_route, i)
    if w.tallies:
        visit.bytes_out = reach.float_at(w.chunk_bytes_out, i)
    if w.pins:
        visit.visitor = reach.int32_at(w.chunk_visitor, i)
    if w.calls:
        visit.place = 0
        visit.caller = -1
        visit.lineage = 0
        visit.pool_row = -1
        visit.phase = layout.UNDER_WAY
        for column in range(w.columns):
            reach.set_float(w.given, w.columns * index + column, reach.float_at(w.chunk_given, w.columns * i + column))


@reach.apart
def lacks_slot(w, f):
    """Whether no slot is left for one more attempt, those that are coming counted."""
    ready = reach.level_at(f.levels, 0)
    left = f.n_ready * f.slots - ready.in_slots + f.coming_slots - ready.waiting
    if f.other >= 0:
        other = reach.fleet_at(w, f.other)
        ready = reach.level_at(other.levels, 0)
        left += other.n_ready * f.slots - ready.in_slots - ready.waiting
    return left <= 0.0


@reach.inner
def asks(w, f):
    """Whether the control plane is to be asked for a slot first: once for each attempt, by coming back to it."""
    if not f.asks or w.asked == w.attempts or not lacks_slot(w, f):
        return False
    w.asked = w.attempts
    f.asks_now = 1
    return True


# -- two sides of a service, each of one version -----------------------------------------------------


@reach.inner
def first_side(w, f):
    """What both sides of a service have in common is at the first one."""
    return f if f.other < 0 else reach.fleet_at(w, f.service)


@reach.inner
def side_for(w, f, index):
    """The side of a service that gets the next attempt, and the visit with it."""
    if f.other < 0:
        return f
    # Nearly always all of them go to one version, and it has ready replicas.
    side = reach.fleet_at(w, f.whole_side)
    if f.split_share == f.whole_share and side.n_ready:
        reach.visit_at(w, index).fleet = f.whole_side
        return side
    return reach.fleet_at(w, _choose_side(w, f, index))


@reach.apart
def _choose_side(w, f, index):
    """As the split says, unless only the other side has a ready replica."""
    f.n_split += 1
    after = np.floor(f.n_split * f.split_share + EPSILON_S)
    before = np.floor((f.n_split - 1) * f.split_share + EPSILON_S)
    side = f.split_side
    if after <= before:
        side = reach.fleet_at(w, side).other
    chosen = reach.fleet_at(w, side)
    if chosen.n_ready == 0 and reach.fleet_at(w, chosen.other).n_ready:
        side = chosen.other
    reach.visit_at(w, index).fleet = side
    return side


@reach.apart
def note_sent(w, f, index):
    """It will be written down how this attempt ends."""
    visit = reach.visit_at(w, index)
    main = first_side(w, f)
    visit.sent = main.n_forgotten + main.n_sent
    entry = reach.sent_at(main.sent, main.n_sent)
    entry.timeout_s = visit.at_s + reach.client_at(w.clients, visit.client).timeout_s
    entry.ended_s = np.inf
    entry.failed = 0
    main.n_sent += 1
    if main.n_sent == main.sent_size:
        ask_for_room(w)


@reach.inner
def get(w, f, index, now_s):
    """The balancer gets an attempt: the row that it goes to; NONE_READY: it has been held or refused."""
    integrate(w, f, now_s)
    visit = reach.visit_at(w, index)
    is_new = not (w.places and visit.away)  # else another region has turned it away
    if is_new:
        visit.at_s = now_s
        visit.slot_at_s = np.nan
        visit.attempt += 1
        visit.order = w.attempts
        w.attempts += 1
    f.attempts += 1
    if f.counts and visit.is_call:
        _count_call(f, now_s)
    if f.judges:
        visit.sent = -1
        if f.notes:
            note_sent(w, f, index)
    if f.errs:
        visit.fails = 0
    if w.calls:
        visit.called_s = 0.0
        visit.connecting_s = 0.0
    if w.parts:
        for part in range(f.part, f.parts_end):
            reach.set_float(w.spent, w.parts * index + part, 0.0)
    if is_new and (f.watches or visit.is_call):
        client = reach.client_at(w.clients, visit.client)
        if client.watches and (visit.is_call or visit.attempt <= client.retries):
            watch(w, client, index)
    if w.places and not enter(w, f, index, now_s):
        return layout.NONE_READY
    # In a region that is closed what is held stays, though a replica be ready: who comes later queues up behind.
    stays = w.places and f.closed and f.n_held > 0
    row = layout.HOLD if stays else _row_for(w, f, visit)
    if row >= 0:
        return row
    if row == layout.HOLD and _may_wait(w, f):
        _hold(w, f, index)
    else:
        refuse(w, f, index, layout.NO_REPLICA, now_s)
    return layout.NONE_READY


@reach.apart
def _count_call(f, now_s):
    """Calls may come before a control event of their instant, which is not to see them."""
    if now_s - f.call_s > reach.tolerance_s(now_s):
        f.call_s = now_s
        f.n_called = 0
    f.n_called += 1


@reach.inner
def _row_for(w, f, visit):
    """The balancer's rule: a row; HOLD: the visit may wait; NONE_READY: it may not."""
    if f.n_ready == 0:
        return layout.HOLD if f.holds else layout.NONE_READY
    if not f.by_load:
        return _choose(w, f, visit)
    if f.pins:
        return _where_pinned(w, f, visit)
    row = least_busy(f)
    if f.queues and not _has_free_slot(f, row):
        return layout.HOLD
    return row


@reach.seldom
def _may_wait(w, f):
    """Whether there is room in the queue, which has one limit for both sides."""
    n = f.n_held
    if f.other >= 0:
        n += reach.fleet_at(w, f.other).n_held
    return n < f.queue_limit


@reach.inner
def _has_free_slot(f, row):
    """Whether a replica has a free slot, where nothing waits at replicas; a dead one looks empty."""
    return reach.replica_at(f, row).in_slots < f.slots


@reach.inner
def put(w, f, row, index, now_s):
    """A replica gets a visit: into a slot, into its backlog, or refused."""
    replica = reach.replica_at(f, row)
    if f.by_load:
        choose(f, replica, row)
    if f.judged and f.judged == replica.version and not (f.spills and _turns_away(f, replica)):
        note_sent(w, f, index)
    if replica.state == layout.DEAD:
        fail(w, f, index, layout.LOST, replica.number, now_s)
    elif replica.in_slots < f.slots:
        if replica.in_slots >= f.least_fits and replica.in_slots >= replica.fits:
            kill(w, f, row, now_s)
            fail(w, f, index, layout.LOST, replica.number, now_s)
            move_over(w, f)
        else:
            replica.busy += 1
            take_slot(w, f, replica, row, index, now_s)
    elif f.backlog < 0 or replica.busy - replica.in_slots < f.backlog:
        replica.busy += 1
        reach.level_at(f.levels, replica.state - layout.READY).waiting += 1
        lists.to_backlog(w, replica, index)
    else:
        refuse(w, f, index, replica.number, now_s)
    update_row(w, f, replica, row)


@reach.seldom
def _turns_away(f, replica):
    """Whether a replica has no room for one more."""
    if replica.state == layout.DEAD or replica.in_slots < f.slots or f.backlog < 0:
        return False
    return replica.busy - replica.in_slots >= f.backlog


# -- the shared or held queue: while it is not empty, no ready replica has room, but where a region is closed -----


@reach.apart
def _hold(w, f, index):
    """A visit waits until some replica has room."""
    reach.level_at(f.levels, 0).waiting += 1
    lists.hold(w, f, index)
    f.n_held += 1


@reach.seldom
def take_held(w, f):
    """Take the first visit out of the queue."""
    f.n_held -= 1
    reach.level_at(f.levels, 0).waiting -= 1
    return lists.unhold(w, f)


@reach.apart
def next_held(w, f):
    """The replica with free capacity gets the first of the queue: (entry, row).

    Row NONE_READY: there is nothing to hand out, or no room any more, or the first one was late and is dropped.
    """
    row = w.room_row
    if w.places and (f.lost or f.closed):
        w.room_row = layout.NONE_READY
        return settings.NOBODY, layout.NONE_READY
    replica = reach.replica_at(f, row)
    takes = replica.state == layout.READY or replica.state == layout.DEAD
    if not f.n_held or not takes or not _has_free_slot(f, row):
        w.room_row = layout.NONE_READY
        return settings.NOBODY, layout.NONE_READY
    index = take_held(w, f)
    if is_dropped(w, f, index, w.event_s):
        fail(w, f, index, layout.TIMED_OUT, replica.number, w.event_s)
        return settings.NOBODY, layout.NONE_READY
    f.last_chosen = replica.number
    if f.pins:
        _pin(w, f, reach.visit_at(w, index), replica.number)
    return index, row


@reach.apart
def next_scattered(w, f):
    """What waited for the other side is handed out by the balancer's rule: (entry, row) as of `next_held`.

    `w.stack` has this side on top until nothing is left that has room.
    """
    if f.n_held and not (w.places and (f.lost or f.closed)):
        late_at = layout.NO_REPLICA
        if is_dropped(w, f, f.held_head, w.event_s):
            late_at = _where_late(f)
        if late_at:
            fail(w, f, take_held(w, f), layout.TIMED_OUT, late_at, w.event_s)
            return settings.NOBODY, layout.NONE_READY
        row = _row_for(w, f, reach.visit_at(w, f.held_head))
        if row >= 0:
            f.last_chosen = reach.replica_at(f, row).number
            return take_held(w, f), row
    w.n_stack -= 1
    return settings.NOBODY, layout.NONE_READY


@reach.seldom
def _where_late(f):
    """The first replica that has room; else none."""
    for k in range(f.n_ready):
        if _has_free_slot(f, reach.int_at(f.ready, k)):
            return reach.replica_at(f, reach.int_at(f.ready, k)).number
    return layout.NO_REPLICA


# -- balancers that do not look for the least busy replica ----------------------------------------


@reach.seldom
def _pin(w, f, visit, number):
    """From now on this visitor goes to that replica; whoever had another one has moved."""
    if visit.visitor < 0:
        return
    before = reach.int_at(f.pinned, visit.visitor)
    now = number + (np.int64(f.service) << layout.PIN_BITS)
    if before and before != now:
        moved = reach.fleet_at(w, before >> layout.PIN_BITS).moved
        number = before & layout.PIN_MASK
        reach.set_int(moved, number, reach.int_at(moved, number) + 1)
    reach.set_int(f.pinned, visit.visitor, now)


@reach.apart
def _where_pinned(w, f, visit):
    """The row to which this visitor's last request was sent, while it is ready; else that of the least busy replica."""
    if visit.visitor >= 0:
        pinned = reach.int_at(f.pinned, visit.visitor)
        number = pinned & layout.PIN_MASK
        if number and pinned >> layout.PIN_BITS == f.service:
            row = reach.int_at(f.row_of, number)
            replica = reach.replica_at(f, row)
            there = replica.number == number and (replica.state == layout.READY or replica.state == layout.DEAD)
            if there and not (f.queues and not _has_free_slot(f, row)):
                return row
    row = least_busy(f)
    if f.queues and not _has_free_slot(f, row):
        return layout.HOLD
    _pin(w, f, visit, reach.replica_at(f, row).number)
    return row


@reach.apart
def _choose(w, f, visit):
    """The row of a ready replica by turns, at random, or the less busy of two at random.

    Where requests are held, among those with room only: a scan, for that combination alone.
    """
    scans = f.holds != 0
    n = _count_room(f) if scans else f.n_ready
    if n == 0:
        return layout.HOLD
    if f.balancer == _ROUND_ROBIN:
        at = find_ready(f, f.last_chosen)
        row = reach.int_at(f.ready, at if at < f.n_ready else 0)
        while scans and not _has_free_slot(f, row):
            at = find_ready(f, reach.replica_at(f, row).number)
            row = reach.int_at(f.ready, at if at < f.n_ready else 0)
        f.last_chosen = reach.replica_at(f, row).number
        return row
    u, v = uniforms(w.balancer_key, visit.id, lineage_of(visit), visit.place)
    first = int(u * n)
    row = _nth(f, first, scans)
    if f.balancer == _RANDOM or n == 1:
        return row
    second = int(v * (n - 1))
    second += second >= first  # the others, of which there is one fewer
    other = _nth(f, second, scans)
    return other if reach.replica_at(f, other).busy < reach.replica_at(f, row).busy else row


@reach.seldom
def _count_room(f):
    n = 0
    for k in range(f.n_ready):
        if _has_free_slot(f, reach.int_at(f.ready, k)):
            n += 1
    return n


@reach.seldom
def _nth(f, n, scans):
    """The n-th ready row (from 0), or the n-th that has room."""
    if not scans:
        return reach.int_at(f.ready, n)
    for k in range(f.n_ready):
        if _has_free_slot(f, reach.int_at(f.ready, k)):
            if n == 0:
                return reach.int_at(f.ready, k)
            n -= 1
    return -1  # never: n is below their count
