"""The state of the compiled data plane: its arrays, record by record, and what it is compiled with.

Times are seconds from the start of the trace. Everything is written by the compiled functions, and
between two calls of them by `state`; the rest of the engine sees none of it.
"""

from __future__ import annotations

from typing import Any, Final
from weakref import WeakValueDictionary

import numba
import numba.extending
import numpy as np

from libramen.engine.kernel.settings import SETTINGS
from libramen.engine.plane import RESULT, Ending, Signal
from libramen.times import EPSILON_S, EXACT_S

CHECKED: Final[bool] = bool(numba.config.DISABLE_JIT)  # type: ignore[attr-defined]
"""Whether nothing is compiled: see the end of this file."""

FREE, READY, DRAINING, DEAD, OUT = np.arange(5)
"""States of a row. DEAD: the balancer does not know yet. OUT: it knows; the row waits for a restart."""

RUNNING, WAITING = np.arange(2)
"""The two heaps of a replica: by virtual time, and by time."""

NO_ORDER, ADD, DRAIN, WITHDRAW, REMOVE, DISMISS = np.arange(6)
"""What the control plane orders."""

NONE_READY, HOLD = np.int64(-1), np.int64(-2)
"""Instead of a row: no replica takes requests, or none has room and the request may wait for it."""

FIRST, NO_REPLICA, LESS, SAME, MORE = np.array([0, 0, -1, 0, 1])
"""Numbers that are passed on. Like all above they have a NumPy type: for a plain Python number the compiler
makes a copy of the function for each value (102 functions instead of 60, and 40 s instead of 10)."""

# Signals of `advance` that the control plane never sees: `state` makes room and goes on.
OUT_FULL, REQUESTS_FULL, SLOTS_FULL = 10, 11, 12
OK, REFUSED, TIMED_OUT, LOST, CUT = (
    np.int64(e) for e in (Ending.OK, Ending.REFUSED, Ending.TIMED_OUT, Ending.LOST, Ending.CUT)
)
CONTROL, CHUNK, ENDED = int(Signal.CONTROL), int(Signal.CHUNK), int(Signal.ENDED)

CACHE_LINE: Final = 64


def _lines(*fields: Any) -> np.dtype[Any]:
    """A record of these fields, filled up to whole cache lines, or to a share of one that leaves no rest."""
    bare = np.dtype(list(fields)).itemsize
    size = next((share for share in (16, 32) if bare <= share), -(-bare // CACHE_LINE) * CACHE_LINE)
    return np.dtype([*fields, ("padding", "u1", size - bare)]) if size > bare else np.dtype(list(fields))


# One record: the clock, the counts, the lists' ends, and what does not change during a replay.
WORLD: Final = np.dtype(
    [
        ("now_s", "f8"),  # integrals are up to date to here: the latest event [s]
        ("control_s", "f8"),  # the instant at which the control plane must act [s]
        ("notice_s", "f8"),  # when the last of `emptied` or `killed` came about, infinity: there is none [s]
        ("edge_s", "f8"),  # next instant at which the integrals are written down, infinity: none [s]
        ("repeating_s", "f8"),  # the instant of the attempts in `repeating` [s]
        ("edge", "i8"),  # number of the next edge
        ("next", "i8"),  # number of the next request to arrive
        ("attempts", "i8"),  # that have arrived
        ("n_open", "i8"),  # requests that have arrived and not ended
        ("n_out", "i8"),  # filled entries of `out` (where nothing is kept: since the last collection)
        ("free", "i8"),  # first free entry of `requests`, -1: none
        ("n_ready", "i8"),  # filled entries of `ready`
        ("n_emptied", "i8"),  # draining replicas that have emptied since they were last asked for
        ("n_killed", "i8"),  # replicas killed since they were last asked for
        ("last_chosen", "i8"),  # number of the replica that round robin chose last
        ("held_head", "i8"),  # requests in the shared or held queue: a linked list, -1: none
        ("held_tail", "i8"),
        ("n_held", "i8"),
        ("room_row", "i8"),  # a row that has just got room, for those held; NONE_READY: none
        ("n_idled", "i8"),  # replicas that have become idle, of those that the control plane asked about
        ("n_answers", "i8"),  # filled entries of `answers`
        ("billed", "f8"),  # periods of use that are over, each rounded up [units of the granularity, or s]
        ("asked", "i8"),  # the attempt for which the control plane was last asked for a slot
        ("asks_now", "i8"),  # 1: it is being asked
        ("clients_head", "i8"),  # attempts that may be repeated and whose client still waits, by deadline
        ("clients_tail", "i8"),
        ("n_repeats", "i8"),  # entries of the heap `repeats`
        ("n_repeating", "i8"),  # entries of the heap `repeating`
        ("fullest", "i8"),  # most requests that any replica has had in slots at once
        ("places", "i8"),  # requests in slots that the heaps of each replica have room for
        ("places_left_at", "i8"),  # `fullest` from which there must be more places; NOBODY: there are as many as slots
        # Where the arrays begin (addresses), and how long they are.
        ("levels", "i8"),  # LEVEL (2,)
        ("replicas", "i8"),  # REPLICA (leaves,)
        ("heaps", "i8"),  # HEAP (leaves, places + 2), and one more
        ("tree", "i8"),  # NODE (2 * leaves,)
        ("requests", "i8"),  # REQUEST (m,)
        ("repeats", "i8"),  # HEAP (m,): attempts to come, by time
        ("repeating", "i8"),  # HEAP (m,): those of this instant, by number
        ("out", "i8"),  # RESULT (out_size,): one a request where they are kept, else a buffer
        ("out_size", "i8"),  # where they are kept: NOBODY, it never fills
        ("carried", "i8"),  # CARRIED (out_size,) where requests are not kept
        ("rate", "i8"),  # float64 (2, places + 1): work a second by each of k running requests; [1]: bank empty
        ("pace", "i8"),  # float64 (2, places + 1): 1 / rate; to multiply is quicker than to divide
        ("row_of", "i8"),  # int64 (numbers,): the row of each replica, by number
        ("ready", "i8"),  # int64 (leaves,): rows that the balancer sends to, by number
        ("emptied", "i8"),  # int64 (leaves,): numbers of draining replicas that have emptied
        ("killed", "i8"),  # int64 (leaves,): numbers of replicas that have died
        ("uses", "i8"),  # USE (leaves,)
        ("idled", "i8"),  # int64 (leaves,): numbers of replicas that have become idle
        ("answers", "i8"),  # float64 (answers_size,): latencies of ok answers, each of its own attempt [s]
        ("answers_size", "i8"),  # where no rule reads them: NOBODY
        (
            "turns",
            "i8",
        ),  # float64 (n, 3) where departures are forced, see `plane`; in the third first `v` at the beginning
        ("edges_s", "i8"),  # float64 (n_edges,): instants at which the integrals are written down [s]
        ("n_edges", "i8"),
        ("series", "i8"),  # float64 (n_edges, 4): what they were then: cores, slots in use, requests waiting, throttled
        ("chunk_at_s", "i8"),  # float64 (chunk_n,), and so are the next two; the chunk is only read
        ("chunk_cpu_s", "i8"),
        ("chunk_wait_s", "i8"),
        ("chunk_route", "i8"),  # int32 (chunk_n,) where requests are not kept
        ("chunk_bytes_out", "i8"),  # float64 (chunk_n,) where requests are not kept
        ("chunk_n", "i8"),
        ("chunk_first", "i8"),  # number of the chunk's first request
        ("chunk_last", "i8"),  # 1: the trace ends with this chunk
        # What the control plane orders, for the next call.
        ("order", "i8"),  # NO_ORDER, ADD, ...
        ("order_row", "i8"),
        ("order_number", "i8"),
        ("order_s", "f8"),
        ("order_warm", "i8"),  # ADD: 1, it needs no warm-up
        ("asks", "i8"),  # 1: come back when an attempt arrives for which no slot is left
        ("coming_slots", "i8"),  # slots of the replicas that are on their way
        # Fixed during a replay; those that come of the study are in `settings`.
        ("leaves", "i8"),  # rows, and leaves of a winner tree: a power of two, at least 2
        ("keeps", "i8"),  # 1: `out` has one entry a request of the trace; 0: it is a buffer
        ("ends_at_most", "i8"),  # requests that one event can end
        *((setting.name, *setting.kind) for setting in SETTINGS),
    ]
)

# Two records, over the ready replicas and over the draining ones: levels now, integrals up to `now_s`.
# Cores in use are min(running, cores) = below + fraction * above (+ the same for an empty bank): counts,
# so exact; they are floats only because they are multiplied by floats all the time.
LEVEL: Final = np.dtype(
    [
        ("below", "f8"),  # sum of min(running, whole cores)
        ("above", "f8"),  # replicas with more running than whole cores
        ("above_steady", "f8"),  # the same of those with an empty bank, which have `steady` cores
        ("in_slots", "f8"),
        ("waiting", "f8"),  # in backlogs; in the first record also those held or in the shared queue
        ("cpu_integral", "f8"),  # [core-seconds]
        ("in_slots_integral", "f8"),  # [s]
        ("waiting_integral", "f8"),  # [s]
        ("throttled_integral", "f8"),  # of `above_steady` [s]
    ]
)

# One record a row; a replica that is gone gives its row back.
REPLICA: Final = _lines(
    ("number", "i8"),
    ("state", "i8"),  # FREE, READY, DRAINING, DEAD or OUT
    ("busy", "i8"),  # requests in slots and backlog
    ("in_slots", "i8"),
    ("n_running", "i8"),  # entries of its heap RUNNING
    ("n_waiting", "i8"),  # entries of its heap WAITING
    ("turn_head", "i8"),  # requests in slots that wait for a CPU turn: a linked list, -1: none
    ("turn_tail", "i8"),
    ("backlog_head", "i8"),  # requests that wait for a slot: a linked list, -1: none
    ("backlog_tail", "i8"),
    ("v", "f8"),  # virtual time [core-seconds]
    ("v_at_s", "f8"),  # the instant at which it was `v`, and the bank `bank` [s]
    ("empty", "i8"),  # 1: its bank is empty
    ("heap", "i8"),  # where its heaps begin (address)
    ("core_s", "f8"),  # cores in use integrated up to `v_at_s` [core-seconds]
    ("ready_at_s", "f8"),  # when its warm-up began, -infinity: it is warm [s]
    ("bank", "f8"),  # [core-seconds]; from here on only where CPU is lent
)

# One record a row, looked at only where use is metered: its latest period with a slot in use.
USE: Final = _lines(
    ("begin_s", "f8"),  # NaN: there was none that is not yet in `billed` [s]
    ("end_s", "f8"),  # infinity: it goes on; without a period: when it became ready [s]
    ("tell", "i8"),  # 1: the control plane wants to know when it ends
)

# One record a node of the two winner trees, which have one shape: the root is 1, the children of k
# are 2k and 2k + 1, and row r is the leaf `leaves + r`.
NODE: Final = np.dtype(
    [
        ("due_s", "f8"),  # the earliest next completion below [s], infinity: none
        ("load", "i8"),  # the least of requests * 2**32 + number among the ready below, else NOBODY
    ]
)

# One record a request that is in a replica, held, or to be repeated (a copy: its chunk may be gone), or a
# link of the free list. What every request needs stands in one cache line.
REQUEST: Final = _lines(
    ("id", "i8"),
    ("at_s", "f8"),  # arrival of this attempt [s]
    ("cpu_s", "f8"),
    ("wait_s", "f8"),
    ("slot_at_s", "f8"),  # NaN while it has no slot
    ("order", "i8"),  # of this attempt among all attempts, by arrival
    ("link", "i8"),  # next in its list, -1: last
    ("attempt", "i4"),  # 1 for the first
    ("watched", "i2"),  # 1: it is in the list of clients
    ("given_up", "i2"),  # 1: its client has gone and sends it again: no client waits for this attempt
    ("first_s", "f8"),  # arrival of the first attempt, where this is another one [s]
    ("earlier", "i8"),  # neighbours in the list of clients, -1: none
    ("later", "i8"),
    ("route", "i8"),  # these two only where requests are not kept
    ("bytes_out", "f8"),
)

# What is known of a request beside that, where requests are not kept: parallel to `out`.
CARRIED: Final = np.dtype(
    [
        ("id", "i8"),
        ("at_s", "f8"),
        ("cpu_s", "f8"),
        ("wait_s", "f8"),
        ("bytes_out", "f8"),
        ("route", "i8"),
    ]
)

# One record an entry of a heap. In a replica's two heaps what ties is sorted out by `advance`, so that
# they need no second key.
# The two heaps of a replica lie in each other's gaps: what is looked at together, their first entries, is then in
# one cache line. The other two heaps leave the gaps empty.
HEAP: Final = np.dtype([("key", "f8"), ("request", "i8"), ("other_key", "f8"), ("other_request", "i8")])
_NEXT_HEAP: Final = HEAP.fields["other_key"][1] if HEAP.fields else 0
"""Where the other heap begins, from the first [bytes]."""


_OPTIONS: Final[dict[str, Any]] = {
    "error_model": "numpy",
    # Nothing but compiled code calls them: without wrappers for other callers they compile sooner.
    "no_cpython_wrapper": True,
    "no_cfunc_wrapper": True,
    "_nrt": False,
}
inner: Final[Any] = numba.njit(forceinline=True, **_OPTIONS)
"""For what happens at every request: it becomes part of `advance`."""

seldom: Final[Any] = numba.njit(forceinline=False, **_OPTIONS)
"""For what is called seldom, or from many places: a function of its own, so that compiling stays quick."""


def _make_apart(_typing_context):
    def generate(context, builder, _signature, _arguments):
        builder.function.attributes.add("noinline")
        return context.get_dummy_value()

    return numba.void(), generate


apart: Any = (lambda: None) if CHECKED else numba.extending.intrinsic(_make_apart)
"""Keeps the function that calls it out of its callers: what is seldom needed must not stand in the way."""


# -- how the compiled functions reach into arrays --------------------------------------------------
#
# They pass on one record, `w`, and reach everything through the addresses in it, as C would. Passing
# arrays instead costs: each is a structure of seven words that counts its owners, atomically. A function that is
# handed twenty of them takes some 80 ns more for each call, with three 10 ns, where a request takes 250 ns and some ten
# calls; all of them in one tuple took 105 s to compile instead of 10.
# `state` keeps the arrays alive and the addresses true.


# Under NUMBA_DISABLE_JIT=1 everything here is ordinary Python, slow and checked: an address or an index
# that is wrong then raises an error instead of reading what does not belong to it.

ARRAYS: Final[WeakValueDictionary[int, np.ndarray]] = WeakValueDictionary()
"""Where the arrays of all data planes that are alive begin, for the checked way only."""

if CHECKED:
    np.seterr(over="ignore")  # random numbers are made of products that wrap around


def _found(address: int, index: int, kind: Any) -> np.ndarray:
    """What an index from an address means in the array that it points into: one of `kind`."""
    start = max(begin for begin in ARRAYS if begin <= address)
    raw = ARRAYS[start].reshape(-1).view(np.uint8)
    at, size = address - start + index * np.dtype(kind).itemsize, np.dtype(kind).itemsize
    if not 0 <= at <= len(raw) - size:
        raise IndexError(f"byte {at} in an array of {len(raw)} bytes: {ARRAYS[start].dtype}")
    return raw[at : at + size].view(kind)


def _records(dtype: np.dtype[Any]) -> Any:
    """A function (address, index) -> that record of an array of them."""
    if CHECKED:

        def look_up(address: int, index: int) -> Any:
            return _found(address, index, dtype).view(np.recarray)[0]

        return look_up
    record = numba.from_dtype(dtype)

    def reach(_typing_context, _address, _index):
        def generate(context, builder, _signature, arguments):
            first = builder.inttoptr(arguments[0], context.get_value_type(record))
            return builder.gep(first, [arguments[1]])

        return record(numba.int64, numba.int64), generate

    return numba.extending.intrinsic(reach)


def _reader(kind: Any, dtype: str) -> Any:
    """A function (address, index) -> that number of an array of them."""
    if CHECKED:

        def look_up(address: int, index: int) -> Any:
            return _found(address, index, dtype)[0]

        return look_up

    def read(_typing_context, _address, _index):
        def generate(context, builder, _signature, arguments):
            first = builder.inttoptr(arguments[0], context.get_value_type(kind).as_pointer())
            return builder.load(builder.gep(first, [arguments[1]]))

        return kind(numba.int64, numba.int64), generate

    return numba.extending.intrinsic(read)


def _writer(kind: Any, dtype: str) -> Any:
    """A function (address, index, number) that writes it there."""
    if CHECKED:

        def put(address: int, index: int, number: Any) -> None:
            _found(address, index, dtype)[0] = number

        return put

    def write(_typing_context, _address, _index, _number):
        def generate(context, builder, _signature, arguments):
            first = builder.inttoptr(arguments[0], context.get_value_type(kind).as_pointer())
            builder.store(arguments[2], builder.gep(first, [arguments[1]]))
            return context.get_dummy_value()

        return numba.void(numba.int64, numba.int64, kind), generate

    return numba.extending.intrinsic(write)


level_at, replica_at, node_at = _records(LEVEL), _records(REPLICA), _records(NODE)
request_at, entry_at, use_at = _records(REQUEST), _records(HEAP), _records(USE)
result_at, carried_at = _records(RESULT), _records(CARRIED)
float_at, int_at, int32_at = _reader(numba.float64, "f8"), _reader(numba.int64, "i8"), _reader(numba.int32, "i4")
set_float, set_int = _writer(numba.float64, "f8"), _writer(numba.int64, "i8")


@inner
def tolerance_s(at_s):
    """How little apart two instants are that count as one [s]; see `plane.tolerance_s`."""
    if EXACT_S < at_s < np.inf:
        return 2.0 * np.spacing(at_s)
    return EPSILON_S


@inner
def heap_of(replica, kind):
    """Where a heap of a replica begins."""
    return replica.heap + _NEXT_HEAP * kind
