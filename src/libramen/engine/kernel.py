"""The data plane, compiled: `advance` and one function per kind of event, over arrays.

The state is a few arrays, laid out in `layout`; `kernel_state` makes them, grows them and is what
the control plane talks to. What each event means is said readably in `plain`, which must agree.

How it is fast, however many replicas and requests there are:

* CPU sharing runs on virtual time. While `k` requests run on a replica, its virtual time `v`
  advances at `rate[k]`, the work that each of them gets done in a second. A request that starts its
  CPU work at `v` is done at `v + cpu_s`, whatever comes and goes meanwhile, so nothing is re-dated.
* Two winner trees (Knuth, The Art of Computer Programming 3, 5.4.1) name the replica with the
  earliest next completion and the least busy one: every inner node holds the smallest key below
  it, changing a leaf plays one path to the root again, and the winner is found from the root down.
* Integrals and virtual time advance at events only, so that a replay may be split anywhere without
  changing a byte. Virtual time is set back to 0 when nobody runs, so that it never loses digits.

Everything compiled is in this one file: the compiler's cache looks at the file of `advance` alone, and
at the types of its arguments, which are the layout.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

import numba
import numba.extending
import numpy as np

from libramen.engine.layout import ENDED, HEAP, LEVEL, NODE, REPLICA, REQUEST, WORLD
from libramen.engine.plane import EPSILON_S, Ending, Signal

if TYPE_CHECKING:
    from collections.abc import Callable

FREE, READY, DRAINING = 0, 1, 2
ROUND_ROBIN, LEAST_BUSY = 0, 1
RUNNING, WAITING = 0, 1
NOBODY: Final = 1 << 62

# Signals of the kernel that the control plane never sees: `kernel_state` makes room and goes on.
OUT_FULL, REQUESTS_FULL = 10, 11
_OK, _REFUSED, _TIMED_OUT = int(Ending.OK), int(Ending.REFUSED), int(Ending.TIMED_OUT)
_CONTROL, _CHUNK, _ENDED = int(Signal.CONTROL), int(Signal.CHUNK), int(Signal.ENDED)


def _compiled(signature: Any) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Compile at once for one signature, and keep the code on disk where any place can be written."""

    def decorate(function: Callable[..., Any]) -> Callable[..., Any]:
        options = {"nogil": True, "error_model": "numpy"}
        try:
            return numba.njit(signature, cache=True, **options)(function)  # type: ignore[call-overload, no-any-return]
        except RuntimeError:  # no place for a cache: compile in every process
            return numba.njit(signature, **options)(function)  # type: ignore[call-overload, no-any-return]

    return decorate


_inner: Final = numba.njit(error_model="numpy", forceinline=True)


def _make_unowned(_typing_context, array):
    """The same array without its owner: passing it on then counts no references.

    Counting them, atomically and in every function that is not inlined, took three quarters of the
    time of a replay (0.7 instead of 3 million requests a second). `advance` holds the owners.
    """

    def generate(context, builder, signature, arguments):
        view = context.make_array(signature.args[0])(context, builder, arguments[0])
        view.meminfo = numba.core.cgutils.get_null_value(view.meminfo.type)
        return view._getvalue()

    return array(array), generate


_unowned: Any = numba.extending.intrinsic(_make_unowned)


# -- winner trees ----------------------------------------------------------------------------------


@_inner
def _replay_due(world, tree, row, due_s):
    """The next completion of `row` is at `due_s` now: play its path to the root again."""
    node = world.leaves + row
    tree[node].due_s = due_s
    while node > 1:
        due_s = min(tree[node ^ 1].due_s, due_s)
        node >>= 1
        tree[node].due_s = due_s


@_inner
def _replay_load(world, tree, row, load):
    """The load of `row` is `load` now: play its path to the root again."""
    node = world.leaves + row
    tree[node].load = load
    while node > 1:
        load = min(tree[node ^ 1].load, load)
        node >>= 1
        tree[node].load = load


@_inner
def _first_due(world, tree):
    """The row with the earliest next completion: from the root down, to the child that has it.

    The comparison is added, not branched on: half of such branches would be guessed wrong.
    """
    node: Any = 1
    while node < world.leaves:
        node = 2 * node + np.int64(tree[2 * node + 1].due_s < tree[2 * node].due_s)
    return node - world.leaves


@_inner
def _least_busy(world, tree):
    """The ready row with the fewest requests, and the lowest number among equals."""
    node: Any = 1
    while node < world.leaves:
        node = 2 * node + np.int64(tree[2 * node + 1].load < tree[2 * node].load)
    return node - world.leaves


@_inner
def _update_row(world, replicas, heaps, rate, tree, row):
    """After an event at a replica: its next completion and its load, in both trees."""
    replica = replicas[row]
    due_s = np.inf
    if replica.n_running:
        due_s = replica.v_at_s + (heaps[RUNNING, row, 0].key - replica.v) / rate[replica.n_running]
    if replica.n_waiting:
        due_s = min(due_s, heaps[WAITING, row, 0].key)
    leaf = tree[world.leaves + row]
    if due_s != leaf.due_s:
        _replay_due(world, tree, row, due_s)
    if world.balancer == LEAST_BUSY and replica.state == READY:
        load = (replica.busy << 32) + replica.number
        if load != leaf.load:
            _replay_load(world, tree, row, load)


# -- heaps: binary, the root at 0 ------------------------------------------------------------------


@_inner
def _heap_up(heaps, kind, row, at, key, request):
    """Place an entry at `at` or above."""
    while at:
        parent = (at - 1) >> 1
        if heaps[kind, row, parent].key <= key:
            break
        heaps[kind, row, at].key = heaps[kind, row, parent].key
        heaps[kind, row, at].request = heaps[kind, row, parent].request
        at = parent
    heaps[kind, row, at].key = key
    heaps[kind, row, at].request = request


@_inner
def _heap_remove(heaps, kind, row, n, at):
    """Remove the entry at `at` of a heap of `n`; the last one takes its place."""
    n -= 1
    if at == n:
        return
    key = heaps[kind, row, n].key
    request = heaps[kind, row, n].request
    while True:  # let the smaller child rise into the hole, down to the end, then place the last entry
        child = 2 * at + 1
        if child >= n:
            break
        if child + 1 < n and heaps[kind, row, child + 1].key < heaps[kind, row, child].key:
            child += 1
        if heaps[kind, row, child].key >= key:
            break
        heaps[kind, row, at].key = heaps[kind, row, child].key
        heaps[kind, row, at].request = heaps[kind, row, child].request
        at = child
    _heap_up(heaps, kind, row, at, key, request)


# -- measures --------------------------------------------------------------------------------------


@_inner
def _integrate_level(level, fraction, passed_s):
    level.cpu_integral += passed_s * (level.below + fraction * level.above)
    level.in_slots_integral += passed_s * level.in_slots
    level.waiting_integral += passed_s * level.waiting


@_inner
def _integrate(world, levels, edges_s, series, now_s):
    """Bring the integrals up to date, before a level changes; write them down at the edges passed."""
    while now_s >= world.edge_s:
        passed_s = world.edge_s - world.now_s
        ready = levels[0]
        draining = levels[1]
        below = ready.below + draining.below
        above = ready.above + draining.above
        cpu_s = ready.cpu_integral + draining.cpu_integral
        in_slots_s = ready.in_slots_integral + draining.in_slots_integral
        waiting_s = ready.waiting_integral + draining.waiting_integral
        series[world.edge, 0] = cpu_s + passed_s * (below + world.fraction * above)
        series[world.edge, 1] = in_slots_s + passed_s * (ready.in_slots + draining.in_slots)
        series[world.edge, 2] = waiting_s + passed_s * (ready.waiting + draining.waiting)
        world.edge += 1
        world.edge_s = edges_s[world.edge] if world.edge < len(edges_s) else np.inf
    passed_s = now_s - world.now_s
    if passed_s > 0.0:
        _integrate_level(levels[0], world.fraction, passed_s)
        if levels[1].in_slots:
            _integrate_level(levels[1], world.fraction, passed_s)
        world.now_s = now_s


@_inner
def _count_running(world, levels, group, before, after):
    """Count cores in use when the requests that run on one replica go from `before` to `after`."""
    levels[group].below += min(after, world.whole) - min(before, world.whole)
    levels[group].above += (1 if after > world.whole else 0) - (1 if before > world.whole else 0)


# -- service ---------------------------------------------------------------------------------------


@_inner
def _catch_up(replica, rate, now_s):
    """Advance a replica's virtual time, before who runs changes."""
    if now_s > replica.v_at_s:
        if replica.n_running:
            replica.v += (now_s - replica.v_at_s) * rate[replica.n_running]
        replica.v_at_s = now_s
    if not replica.n_running:
        replica.v = 0.0


@_inner
def _start_cpu(world, levels, replicas, heaps, requests, rate, row, request, now_s):
    """A request in its slot gets a CPU turn."""
    replica = replicas[row]
    _catch_up(replica, rate, now_s)
    _heap_up(heaps, RUNNING, row, replica.n_running, replica.v + requests[request].cpu_s, request)
    replica.n_running += 1
    _count_running(world, levels, replica.state - READY, replica.n_running - 1, replica.n_running)


@_inner
def _start_wait(replicas, heaps, requests, row, request, now_s):
    """A request in its slot has no CPU work left, and waits for something else."""
    replica = replicas[row]
    _heap_up(heaps, WAITING, row, replica.n_waiting, now_s + requests[request].wait_s, request)
    replica.n_waiting += 1


@_inner
def _take_slot(world, levels, replicas, heaps, requests, rate, row, request, now_s):
    """A request takes a slot: it works, or waits for its CPU turn, or has no CPU work at all."""
    replica = replicas[row]
    requests[request].slot_at_s = now_s
    replica.in_slots += 1
    levels[replica.state - READY].in_slots += 1
    if requests[request].cpu_s == 0.0:
        _start_wait(replicas, heaps, requests, row, request, now_s)
    elif replica.n_running < world.threads:
        _start_cpu(world, levels, replicas, heaps, requests, rate, row, request, now_s)
    else:
        requests[request].link = -1
        if replica.turn_head < 0:
            replica.turn_head = request
        else:
            requests[replica.turn_tail].link = request
        replica.turn_tail = request


@_inner
def _end(world, out, id_, arrived_s, slot_at_s, now_s, ending, number):
    """Write down how a request ended. Its client may have given up long before."""
    latency_s = max(0.0, now_s - arrived_s)
    if ending == _OK:
        latency_s += world.overhead_s
    if latency_s > world.timeout_s + EPSILON_S:
        ending = _TIMED_OUT
        latency_s = world.timeout_s
    if np.isnan(slot_at_s):
        slot_at_s = now_s
    record = out[world.n_out]
    record.id = id_
    record.latency_s = latency_s
    record.queued_s = max(0.0, slot_at_s - arrived_s)
    record.replica = number
    record.ending = ending
    record.attempts = 1
    world.n_out += 1


@_inner
def _complete(world, levels, edges_s, series, replicas, heaps, requests, out, rate, emptied, row, kind, at, now_s):
    """The CPU work (kind RUNNING) or the wait (kind WAITING) of a request is over."""
    _integrate(world, levels, edges_s, series, now_s)
    replica = replicas[row]
    request = heaps[kind, row, at].request
    group = replica.state - READY
    if kind == RUNNING:
        _catch_up(replica, rate, now_s)
        _heap_remove(heaps, RUNNING, row, replica.n_running, at)
        replica.n_running -= 1
        _count_running(world, levels, group, replica.n_running + 1, replica.n_running)
        turn = replica.turn_head
        if turn >= 0:
            replica.turn_head = requests[turn].link
            _start_cpu(world, levels, replicas, heaps, requests, rate, row, turn, now_s)
        if requests[request].wait_s > 0.0:
            _start_wait(replicas, heaps, requests, row, request, now_s)
            return
    else:
        _heap_remove(heaps, WAITING, row, replica.n_waiting, at)
        replica.n_waiting -= 1

    done = requests[request]
    _end(world, out, done.id, done.arrived_s, done.slot_at_s, now_s, _OK, replica.number)
    done.link = world.free
    world.free = request
    replica.in_slots -= 1
    replica.busy -= 1
    levels[group].in_slots -= 1
    queued = replica.backlog_head
    if queued >= 0:
        replica.backlog_head = requests[queued].link
        levels[group].waiting -= 1
        _take_slot(world, levels, replicas, heaps, requests, rate, row, queued, now_s)
    elif replica.busy == 0 and replica.state == DRAINING:
        emptied[world.n_emptied] = replica.number
        world.n_emptied += 1
        world.emptied_s = now_s


# -- which completion comes next -------------------------------------------------------------------


@_inner
def _count_due(heaps, kind, row, n, limit):
    """How many of a heap of `n` are due before `limit`, where two stands for two or more."""
    if n == 0 or heaps[kind, row, 0].key >= limit:
        return 0
    if (n > 1 and heaps[kind, row, 1].key < limit) or (n > 2 and heaps[kind, row, 2].key < limit):
        return 2
    return 1


@_inner
def _only_one_due(world, replicas, tree, heaps, rate, row, limit_s):
    """Whether the winner's next completion is the only one in the whole fleet before `limit_s`."""
    node = world.leaves + row
    while node > 1:
        if tree[node ^ 1].due_s < limit_s:
            return False
        node >>= 1
    replica = replicas[row]
    limit_v = replica.v + (limit_s - replica.v_at_s) * rate[replica.n_running]
    due = _count_due(heaps, RUNNING, row, replica.n_running, limit_v)
    return due + _count_due(heaps, WAITING, row, replica.n_waiting, limit_s) == 1


@_inner
def _first_arrived(world, replicas, tree, heaps, requests, rate, limit_s):
    """Of all completions before `limit_s`, that of the request that arrived first: row, kind, place."""
    best_id = NOBODY
    best = (-1, -1, -1)
    for row in range(len(replicas)):
        if tree[world.leaves + row].due_s >= limit_s:
            continue
        replica = replicas[row]
        for kind in range(2):
            n = replica.n_running if kind == RUNNING else replica.n_waiting
            for at in range(n):
                due_s = heaps[kind, row, at].key
                if kind == RUNNING:
                    due_s = replica.v_at_s + (due_s - replica.v) / rate[replica.n_running]
                id_ = requests[heaps[kind, row, at].request].id
                if due_s < limit_s and id_ < best_id:
                    best_id = id_
                    best = (row, kind, at)
    return best


# -- arrival ---------------------------------------------------------------------------------------


@_inner
def _choose(world, replicas, ready, tree):
    """The row that the balancer sends the next request to, -1: none is ready."""
    if world.n_ready == 0:
        return -1
    if world.balancer == LEAST_BUSY:
        return _least_busy(world, tree)
    # Binary search in the ready rows, which stand in order of their numbers.
    low = 0
    high = world.n_ready
    while low < high:
        middle = (low + high) >> 1
        if replicas[ready[middle]].number > world.last_chosen:
            high = middle
        else:
            low = middle + 1
    row = ready[low if low < world.n_ready else 0]
    world.last_chosen = replicas[row].number
    return row


@_inner
def _arrive(world, levels, edges_s, series, replicas, heaps, requests, out, rate, ready, tree, now_s, cpu_s, wait_s):
    """A request arrives: it is sent to a replica and takes a slot, waits, or is refused."""
    _integrate(world, levels, edges_s, series, now_s)
    id_ = world.next
    world.next += 1
    row = _choose(world, replicas, ready, tree)
    if row < 0:
        _end(world, out, id_, now_s, np.nan, now_s, _REFUSED, 0)
        return
    replica = replicas[row]
    slot_is_free = replica.in_slots < world.slots
    if not slot_is_free and 0 <= world.backlog <= replica.busy - replica.in_slots:
        _end(world, out, id_, now_s, np.nan, now_s, _REFUSED, replica.number)
        return
    index = world.free
    request = requests[index]
    world.free = request.link
    request.id = id_
    request.arrived_s = now_s
    request.cpu_s = cpu_s
    request.wait_s = wait_s
    request.slot_at_s = np.nan
    request.link = -1
    replica.busy += 1
    if slot_is_free:
        _take_slot(world, levels, replicas, heaps, requests, rate, row, index, now_s)
    else:
        levels[replica.state - READY].waiting += 1
        if replica.backlog_head < 0:
            replica.backlog_head = index
        else:
            requests[replica.backlog_tail].link = index
        replica.backlog_tail = index
    _update_row(world, replicas, heaps, rate, tree, row)


# -- one instant after the other -------------------------------------------------------------------


_RECORDS: Final = numba.from_dtype
_SIGNATURE: Final = numba.int64(
    _RECORDS(WORLD)[::1],
    _RECORDS(LEVEL)[::1],
    _RECORDS(REPLICA)[::1],
    _RECORDS(HEAP)[:, :, ::1],
    _RECORDS(REQUEST)[::1],
    _RECORDS(ENDED)[::1],
    numba.float64[::1],  # rate: work done per second for each of k running requests, k = 0..slots
    numba.int64[::1],  # ready: rows of the ready replicas, in order of their numbers
    numba.int64[::1],  # emptied: numbers of draining replicas that have emptied
    numba.float64[::1],  # edges_s: instants at which the integrals are written down
    numba.float64[:, ::1],  # series: what they were then: cores, slots in use, requests waiting
    _RECORDS(NODE)[::1],  # tree
    *(numba.types.Array(numba.float64, 1, "C", readonly=True),) * 3,  # at_s, cpu_s, wait_s of the chunk
    numba.int64,  # first: number of the chunk's first request
    numba.boolean,  # last: the trace ends with this chunk
    numba.float64,  # until_s
)


@_compiled(_SIGNATURE)
def advance(
    worlds, levels, replicas, heaps, requests, out, rate, ready, emptied, edges_s, series, tree,
    at_s, cpu_s, wait_s, first, last, until_s,
):  # fmt: skip
    """Let everything happen that comes before a control event at `until_s`; return a signal.

    Overwrites all arrays but the chunk's and `rate`. Checks nothing: `kernel_state` and `Trace` do.
    At one instant come first completions, in the order in which their requests arrived, then control
    events, then arrivals. A draining replica that empties is a control event of that instant.
    """
    world = _unowned(worlds)[0]
    levels = _unowned(levels)
    replicas = _unowned(replicas)
    heaps = _unowned(heaps)
    requests = _unowned(requests)
    out = _unowned(out)
    rate = _unowned(rate)
    ready = _unowned(ready)
    emptied = _unowned(emptied)
    edges_s = _unowned(edges_s)
    series = _unowned(series)
    tree = _unowned(tree)
    at_s = _unowned(at_s)
    cpu_s = _unowned(cpu_s)
    wait_s = _unowned(wait_s)
    while True:
        if world.n_emptied:
            until_s = min(until_s, world.emptied_s)
        if world.n_out == len(out):
            return OUT_FULL
        i = world.next - first
        arrival_s = np.inf
        if i < len(at_s):
            arrival_s = at_s[i]
        elif not last:
            return _CHUNK
        due_s = tree[1].due_s
        instant_s = min(due_s, arrival_s, until_s)
        limit_s = instant_s + EPSILON_S
        if due_s < limit_s:
            row = _first_due(world, tree)
            if _only_one_due(world, replicas, tree, heaps, rate, row, limit_s):
                waits = replicas[row].n_waiting > 0 and heaps[WAITING, row, 0].key == due_s
                kind = WAITING if waits else RUNNING
                at = 0
            else:
                row, kind, at = _first_arrived(world, replicas, tree, heaps, requests, rate, limit_s)
                due_s = heaps[kind, row, at].key
                if kind == RUNNING:
                    replica = replicas[row]
                    due_s = replica.v_at_s + (due_s - replica.v) / rate[replica.n_running]
            _complete(
                world, levels, edges_s, series, replicas, heaps, requests, out, rate, emptied, row, kind, at, due_s
            )  # fmt: skip
            _update_row(world, replicas, heaps, rate, tree, row)
        elif np.isinf(instant_s):
            return _ENDED
        elif until_s < limit_s:
            world.control_s = until_s
            return _CONTROL
        else:
            if world.free < 0:
                return REQUESTS_FULL
            _arrive(
                world, levels, edges_s, series, replicas, heaps, requests, out, rate, ready, tree,
                arrival_s, cpu_s[i], wait_s[i],
            )  # fmt: skip
