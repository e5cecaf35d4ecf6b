"""Slots, CPU turns, waits, lent CPU, and the death of a replica.

> In its slot it first does its CPU work, then waits, then is answered.
>
> Of the requests doing CPU work the first `threads`, in the order in which they took their slots, run. Each
> advances at `speed * min(1, cores / running)`.
>
> `steady_cores` and `bank`: a replica's bank changes at `steady_cores` less the cores in use, between 0 and `bank`;
> while it is empty, the replica has `min(cores, steady_cores)` cores.
>
> `warm_up`, `warm_up_factor`: a request that gets its CPU turn on a replica of age `a` needs `1 + (factor - 1) *
> max(0, 1 - a / warm_up)` times its work.
>
> `memory`: a request that would take `memory_base + memory_per_request * (requests with a slot)` above the size's
> memory kills the replica. Every request in it, that one included, is **lost**.
>
> Without a ready replica of the version chosen the other gets the attempt, which is counted all the same; what
> waits goes over as soon as the other has a ready one, all in order of arrival, and is handed out at once.

CPU sharing runs on virtual time. While `k` requests run on a replica, its virtual time `v` advances at
`rate[k]`, the work that each of them gets done in a second. A request that starts its CPU work at `v` is
done at `v + cpu_s`, whatever comes and goes meanwhile, so nothing is re-dated. Virtual time is set back to
0 when no request runs, so that it never loses digits.
"""

from __future__ import annotations

import numpy as np

from libramen.engine.kernel import layout, lists, reach
from libramen.engine.kernel.clients import ask_for_room, fail
from libramen.engine.kernel.connections import abandon, forget_connections, push
from libramen.engine.kernel.heaps import heap_remove, heap_up
from libramen.engine.kernel.integrals import count_cores, count_turn, integrate
from libramen.engine.kernel.trees import update_row
from libramen.engine.kernel.uniforms import lineage_of, uniforms
from libramen.engine.kernel.use import begin_use, end_use


@reach.inner
def catch_up(f, replica, now_s):
    """Advance a replica's virtual time, its core-seconds and its bank, before who runs changes."""
    if now_s > replica.v_at_s:
        if f.lends:
            _fill_bank(f, replica, now_s - replica.v_at_s)
        if replica.n_running:
            replica.core_s += (now_s - replica.v_at_s) * _cores_used(f, replica)
            replica.v += (now_s - replica.v_at_s) * reach.float_at(
                f.rate, replica.empty * (f.places + 1) + replica.n_running
            )
        replica.v_at_s = now_s
    if not replica.n_running:
        replica.v = 0.0


@reach.inner
def _cores_used(f, replica):
    cores = f.whole + f.fraction
    if replica.empty:
        cores = reach.lesser(cores, f.steady)
    return reach.lesser(float(replica.n_running), cores)


@reach.inner
def _fill_bank(f, replica, passed_s):
    change = (f.steady - _cores_used(f, replica)) * passed_s
    replica.bank = min(max(replica.bank + change, 0.0), f.bank)


@reach.inner
def change_running(f, replica, change):
    """One request more or fewer runs from now on; the virtual time is caught up."""
    level = reach.level_at(f.levels, replica.state - layout.READY)
    before = replica.n_running
    replica.n_running += change
    if f.lends:
        count_cores(f, level, before, replica.empty, layout.LESS)
        # Empty only for as long as it stays so: whatever is in the bank may be spent.
        replica.empty = 1 if replica.bank <= 0.0 else 0
        count_cores(f, level, replica.n_running, replica.empty, layout.MORE)
    else:
        count_turn(f, level, max(before, replica.n_running), change)


@reach.apart
def empty_bank(w, f, row, now_s):
    """The bank of a replica has run empty: from now on it has only the cores that it earns."""
    integrate(w, f, now_s)
    replica = reach.replica_at(f, row)
    catch_up(f, replica, now_s)
    replica.bank = 0.0
    change_running(f, replica, layout.SAME)
    update_row(w, f, replica, row)


@reach.inner
def _slower(f, replica, now_s):
    """By how much more CPU work begins now, on a replica that may not be warm."""
    cold = 1.0 - (now_s - replica.ready_at_s) / f.warm_up_s
    return 1.0 + (f.warm_up_factor - 1.0) * max(0.0, cold)


@reach.inner
def _wait_until(w, replica, index, ends_s):
    heap_up(w, reach.heap_of(replica, layout.WAITING), replica.n_waiting, ends_s, index)
    replica.n_waiting += 1


@reach.apart
def _note_turn(w, replica, index, now_s):
    """A CPU turn whose end is known: it stands in both heaps, in that of the running without a time of its own."""
    request = reach.visit_at(w, index)
    reach.set_float(w.turns, 5 * request.id, now_s)
    reach.set_float(w.turns, 5 * request.id + 4, replica.v)
    _wait_until(w, replica, index, now_s + request.cpu_s * max(0.0, request.wait_s - now_s))


@reach.inner
def runs_forced(w, index):
    """Whether a request whose departure is forced is in its CPU turn."""
    at = 5 * reach.visit_at(w, index).id
    return not np.isnan(reach.float_at(w.turns, at)) and np.isnan(reach.float_at(w.turns, at + 1))


@reach.inner
def start_cpu(w, f, replica, index, now_s):
    """A request in its slot gets a CPU turn; on a replica that is not warm it needs more work."""
    catch_up(f, replica, now_s)
    factor = replica.work
    if f.warm_up_s > 0.0:
        factor *= _slower(f, replica, now_s)
    work = reach.visit_at(w, index).cpu_s * factor
    if w.forced:  # it ends by time alone
        reach.set_float(w.turns, 5 * reach.visit_at(w, index).id + 3, factor)
        work = np.inf
    heap_up(w, reach.heap_of(replica, layout.RUNNING), replica.n_running, replica.v + work, index)
    change_running(f, replica, layout.MORE)
    if w.forced:
        _note_turn(w, replica, index, now_s)


@reach.inner
def next_turn(w, f, replica, now_s):
    """A CPU turn is over: who has waited longest for one has the next."""
    if replica.turn_head >= 0:
        start_cpu(w, f, replica, lists.from_turns(w, replica), now_s)


@reach.apart
def end_forced(w, f, replica, index, now_s):
    """The CPU turn of such a request is over: how much it got is written down, and the next one has its turn."""
    catch_up(f, replica, now_s)
    at = 0
    while reach.entry_at(reach.heap_of(replica, layout.RUNNING), at).request != index:
        at += 1
    heap_remove(w, reach.heap_of(replica, layout.RUNNING), replica.n_running, at)
    turn = 5 * reach.visit_at(w, index).id
    done = (replica.v - reach.float_at(w.turns, turn + 4)) / reach.float_at(w.turns, turn + 3)
    reach.set_float(w.turns, turn + 1, now_s)
    reach.set_float(w.turns, turn + 2, done)
    change_running(f, replica, layout.LESS)
    next_turn(w, f, replica, now_s)


@reach.inner
def start_wait(w, f, replica, index, now_s):
    """A visit in its slot has no CPU work left, and no calls, and waits for something else."""
    visit = reach.visit_at(w, index)
    wait_s = (visit.left_s if f.n_calls else visit.wait_s) * f.slower
    _wait_until(w, replica, index, max(now_s, f.wait_from * now_s + wait_s))


@reach.apart
def errs(w, f, replica, index):
    """Whether an attempt fails by itself: since its version does, or what it waits for."""
    if replica.error_rate == 0.0 and f.errors == 0.0:
        return False
    visit = reach.visit_at(w, index)
    u, v = uniforms(w.error_key, visit.id, lineage_of(visit), visit.place)
    return u < replica.error_rate or v < f.errors


@reach.inner
def take_slot(w, f, replica, row, index, now_s):
    """A visit takes a slot: it works, or waits for its CPU turn, or has no CPU work at all."""
    visit = reach.visit_at(w, index)
    visit.slot_at_s = now_s
    if f.meters and replica.in_slots == 0:
        begin_use(f, replica, now_s)
    replica.in_slots += 1
    if replica.in_slots > f.fullest:
        f.fullest = replica.in_slots
        if f.fullest >= f.places_left_at:
            ask_for_room(w)
    reach.level_at(f.levels, replica.state - layout.READY).in_slots += 1
    if visit.cpu_s == 0.0:
        if f.errs and errs(w, f, replica, index):  # a completion of its own, at this instant
            visit.fails = 1
            _wait_until(w, replica, index, now_s)
        elif f.n_calls:
            begin_calls(w, replica, row, index)
        else:
            start_wait(w, f, replica, index, now_s)
    elif replica.n_running < f.threads:
        start_cpu(w, f, replica, index, now_s)
    else:
        lists.to_turns(w, replica, index)


@reach.apart
def begin_calls(w, replica, row, index):
    """A visit in its slot has no CPU work left: it makes its calls, within this event."""
    visit = reach.visit_at(w, index)
    visit.phase = layout.CALLING
    visit.row = row
    visit.step = 0
    visit.nth = 0
    visit.pending = 0
    visit.group = -1
    visit.made = 0
    visit.calls_head = -1
    visit.left_s = visit.wait_s
    lists.to_calling(w, replica, index)
    push(w, index)


@reach.apart
def end_calls(w, replica, index):
    """A visit has made all its calls, or calls no more."""
    lists.from_calling(w, replica, index)


@reach.inner
def offer(w, f, row):
    """A replica has room for what is held, which is handed out within this event."""
    w.attention = 1
    w.room_fleet = f.index
    w.room_row = row


@reach.inner
def leave_slot(w, f, replica, row, now_s):
    """A visit has left its slot: the next one in the backlog takes it, then the queue may move up."""
    replica.in_slots -= 1
    replica.busy -= 1
    reach.level_at(f.levels, replica.state - layout.READY).in_slots -= 1
    while replica.backlog_head >= 0:
        index = lists.from_backlog(w, replica)
        reach.level_at(f.levels, replica.state - layout.READY).waiting -= 1
        if not is_dropped(w, f, index, now_s):
            take_slot(w, f, replica, row, index, now_s)
            break
        replica.busy -= 1
        fail(w, f, index, layout.TIMED_OUT, replica.number, now_s)
    if f.n_held:
        offer(w, f, row)
    if f.meters and replica.in_slots == 0:
        end_use(w, f, replica, now_s)
    if replica.busy == 0 and replica.state == layout.DRAINING:  # the control plane is told that it has nothing left
        reach.set_int(f.emptied, f.n_emptied, replica.number)
        f.n_emptied += 1
        w.notice_s = now_s
    update_row(w, f, replica, row)


# -- the end of a replica --------------------------------------------------------------------------


@reach.apart
def end_all(w, f, row, ending, now_s):
    """Every visit in a replica ends so, in the order of their arrival."""
    replica = reach.replica_at(f, row)
    # There is room for all of them behind what is on the stack.
    first = w.n_stack
    last = _empty(w, f, replica, first, now_s)
    if w.forced:
        last = _without_doubles(w, first, last)
    _sort_by_arrival(w, first, last)
    if f.n_calls:
        _abandon_all(w, first, last)
        forget_connections(f, row)
    for at in range(first, last):
        fail(w, f, reach.int_at(w.stack, at), ending, replica.number, now_s)


@reach.apart
def lose_all(w, now_s):
    """Everything that the struck fleets have is lost as one event, in order of arrival, what they hold included."""
    first = w.n_stack
    last = first
    for k in range(w.n_fleets):
        f = reach.fleet_at(w, k)
        if f.struck:
            integrate(w, f, now_s)
            last = _take_lost(w, f, last, now_s)
    _sort_by_arrival(w, first, last)
    _abandon_all(w, first, last)
    for k in range(w.n_fleets):
        f = reach.fleet_at(w, k)
        for row in range(f.leaves if f.struck and f.n_calls else 0):
            forget_connections(f, row)
        f.struck = 0
    for at in range(first, last):
        index = reach.int_at(w.stack, at)
        visit = reach.visit_at(w, index)
        fail(w, reach.fleet_at(w, visit.fleet), index, layout.LOST, visit.number, now_s)


@reach.seldom
def _take_lost(w, f, last, now_s):
    """Write down all that a fleet has behind what is on the stack; returns its end."""
    for row in range(f.leaves):
        replica = reach.replica_at(f, row)
        if replica.state == layout.READY or replica.state == layout.DRAINING:
            before = last
            last = _empty(w, f, replica, last, now_s)
            for at in range(before, last):
                reach.visit_at(w, reach.int_at(w.stack, at)).number = replica.number
            update_row(w, f, replica, row)
    while f.n_held and not f.outlives:
        f.n_held -= 1
        reach.level_at(f.levels, 0).waiting -= 1
        index = lists.unhold(w, f)
        reach.visit_at(w, index).number = layout.NO_REPLICA
        reach.set_int(w.stack, last, index)
        last += 1
    return last


@reach.seldom
def _abandon_all(w, first, last):
    """Those of some visits that call leave their calls."""
    for at in range(first, last):
        visit = reach.visit_at(w, reach.int_at(w.stack, at))
        calls = reach.fleet_at(w, visit.fleet).n_calls
        if calls and visit.phase == layout.CALLING and not np.isnan(visit.slot_at_s):
            abandon(w, reach.int_at(w.stack, at))


@reach.seldom
def _empty(w, f, replica, last, now_s):
    """Nothing is in a replica any more: what was is written down behind what is on the stack; returns its end."""
    level = reach.level_at(f.levels, replica.state - layout.READY)
    catch_up(f, replica, now_s)
    count_cores(f, level, replica.n_running, replica.empty, layout.LESS)
    level.in_slots -= replica.in_slots
    level.waiting -= replica.busy - replica.in_slots
    last = _take_heap(w, reach.heap_of(replica, layout.RUNNING), replica.n_running, last)
    last = _take_heap(w, reach.heap_of(replica, layout.WAITING), replica.n_waiting, last)
    last = _take_list(w, replica.turn_head, last)
    last = _take_list(w, replica.calling, last)
    last = _take_list(w, replica.backlog_head, last)
    if f.meters and replica.in_slots:
        end_use(w, f, replica, now_s)
    replica.n_running = 0
    replica.n_waiting = 0
    replica.in_slots = 0
    replica.busy = 0
    replica.turn_head = -1
    replica.backlog_head = -1
    replica.calling = -1
    return last


@reach.seldom
def _take_heap(w, heap, n, last):
    for at in range(n):
        entry = reach.entry_at(heap, at)
        entry.key = np.inf
        reach.set_int(w.stack, last + at, entry.request)
    return last + n


@reach.seldom
def _take_list(w, index, last):
    while index >= 0:
        reach.set_int(w.stack, last, index)
        last += 1
        index = reach.visit_at(w, index).link
    return last


@reach.seldom
def _without_doubles(w, first, last):
    """Where departures are forced, a visit in its CPU turn stands in both heaps."""
    _sort_by_arrival(w, first, last)
    kept = first
    for at in range(first, last):
        if at == first or reach.int_at(w.stack, at) != reach.int_at(w.stack, at - 1):
            reach.set_int(w.stack, kept, reach.int_at(w.stack, at))
            kept += 1
    return kept


@reach.seldom
def _sort_by_arrival(w, first, last):
    """Shell's sort, with Knuth's gaps (The Art of Computer Programming 3, 5.2.1): what is there is nearly in order."""
    gap = 1
    while gap < (last - first) // 3:
        gap = 3 * gap + 1
    while gap:
        for at in range(first + gap, last):
            index = reach.int_at(w.stack, at)
            order = reach.visit_at(w, index).order
            to = at
            while to >= first + gap and reach.visit_at(w, reach.int_at(w.stack, to - gap)).order > order:
                reach.set_int(w.stack, to, reach.int_at(w.stack, to - gap))
                to -= gap
            reach.set_int(w.stack, to, index)
        gap //= 3


@reach.apart
def kill(w, f, row, now_s):
    """A replica dies: its requests are lost. The balancer knows at once, or when it is told."""
    replica = reach.replica_at(f, row)
    end_all(w, f, row, layout.LOST, now_s)
    replica.state = layout.DEAD
    if f.detects_at_once:
        replica.state = layout.OUT
        withdraw(f, row)
    reach.set_int(f.killed, f.n_killed, replica.number)
    f.n_killed += 1
    w.notice_s = now_s


@reach.inner
def find_ready(f, number):
    """How many of the ready rows have a number up to this one: they stand in order of their numbers."""
    low = 0
    high = f.n_ready
    while low < high:
        middle = (low + high) >> 1
        if reach.replica_at(f, reach.int_at(f.ready, middle)).number > number:
            high = middle
        else:
            low = middle + 1
    return low


@reach.seldom
def withdraw(f, row):
    """The balancer sends nothing to this row any more."""
    at = find_ready(f, reach.replica_at(f, row).number) - 1
    f.n_ready -= 1
    for k in range(at, f.n_ready):
        reach.set_int(f.ready, k, reach.int_at(f.ready, k + 1))


@reach.apart
def move_over(w, f):
    """What waits for a side without a ready replica goes over to the other, if that has one, in order of arrival."""
    if f.other < 0 or f.n_ready or not f.n_held:
        return
    to = reach.fleet_at(w, f.other)
    if not to.n_ready:
        return
    integrate(w, f, w.event_s)
    integrate(w, to, w.event_s)
    reach.level_at(f.levels, 0).waiting -= f.n_held
    reach.level_at(to.levels, 0).waiting += f.n_held
    mine, theirs = f.held_head, to.held_head
    to.held_head = -1
    for _ in range(f.n_held + to.n_held):
        if theirs < 0 or (mine >= 0 and reach.visit_at(w, mine).order < reach.visit_at(w, theirs).order):
            index = mine
            mine = reach.visit_at(w, index).link
            reach.visit_at(w, index).fleet = to.index
        else:
            index = theirs
            theirs = reach.visit_at(w, index).link
        lists.hold(w, to, index)
    to.n_held += f.n_held
    f.n_held = 0
    f.held_head = -1
    push(w, -1 - to.index)


@reach.inner
def is_dropped(w, f, index, now_s):
    """Whether a visit is past its deadline where such are dropped."""
    if not f.drops:
        return False
    visit = reach.visit_at(w, index)
    return bool(now_s - visit.at_s > reach.client_at(w.clients, visit.client).timeout_s + reach.tolerance_s(now_s))
