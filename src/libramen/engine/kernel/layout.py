"""The state of the compiled data plane: its arrays, record by record, and what it is compiled with.

Times are seconds from the start of the trace. Everything is written by the compiled functions, and
between two calls of them by `state`; the rest of the engine sees none of it.
"""

from __future__ import annotations

from typing import Any, Final

import numpy as np

from libramen.engine.border.records import Ending, Signal
from libramen.engine.kernel.fields import address, known, lines, of_settings, record
from libramen.engine.kernel.settings import CLIENT_SETTINGS, KEYS, SETTINGS

FREE, READY, DRAINING, DEAD, OUT = np.arange(5)
"""States of a row. DEAD: the balancer does not know yet. OUT: it knows; the row waits for a restart."""

RUNNING, WAITING, WAY = np.arange(3)
"""The two heaps of a replica: by virtual time, and by time; and answers on their way to their callers."""

(
    NO_ORDER, ADD, DRAIN, FAIL, FAIL_FOUND, WITHDRAW, REMOVE, DISMISS, LOSE, FIND_SILENT, HAND_OUT, CARRIED_OUT,
) = np.arange(12)  # fmt: skip
"""What the control plane orders. CARRIED_OUT: what it sets off goes on."""

NONE_READY, HOLD = np.int64(-1), np.int64(-2)
"""Instead of a row: no replica takes requests, or none has room and the request may wait for it."""

NOTHING, ASK = np.int64(-1), np.int64(-2)
"""Instead of a visit: there is nothing to be sent, or the control plane must be asked for a slot first."""

CALLING, TO_SEND, QUEUED_UP, UNDER_WAY, PAUSED, HEARD, PASSED_ON = np.arange(7)
"""Phases. Of a visit that calls; of a call: it has its connection, it waits for one, it has been sent, it is going to
be sent again, its end has been heard. Of any: a region has turned it away, and the next one gets it."""

AT_ONCE, SILENT = np.arange(1, 3)
"""How what is sent to a lost region is lost: at once, or it hears nothing."""

FIRST, NO_REPLICA, LESS, SAME, MORE = np.array([0, 0, -1, 0, 1])
"""Numbers that are passed on. Like all above they have a NumPy type: for a plain Python number the compiler
makes a copy of the function for each value (102 functions instead of 60, and 40 s instead of 10)."""

PIN_BITS: Final = np.int64(40)
PIN_MASK: Final = (np.int64(1) << PIN_BITS) - 1
"""Where a visitor is pinned: the number of the replica, and above it that of the fleet."""

# Signals of `advance` that the control plane never sees: `state` makes room and goes on.
VISITS_FULL, FULL, ASKING = 10, 11, 12
OK, REFUSED, TIMED_OUT, LOST, CUT, ERRORED = (np.int64(ending) for ending in Ending)
CONTROL, CHUNK, OVER = int(Signal.CONTROL), int(Signal.CHUNK), int(Signal.ENDED)


# One record: the clock, the trace, and what all services share.
WORLD: Final = record(
    "WORLD",
    ("event_s", "f8"),  # the latest event, which may still go on [s]
    ("control_s", "f8"),  # the instant at which the control plane must act [s]
    ("notice_s", "f8"),  # when the last of what the control plane must know came about, infinity: nothing [s]
    ("repeating_s", "f8"),  # the instant of the attempts in `repeating` [s]
    ("next", "i8"),  # number of the next request to arrive
    ("attempts", "i8"),  # that have arrived, at all services
    ("n_open", "i8"),  # requests and calls that have not ended; where there are calls, all that is still served
    ("n_ended", "i8"),  # filled entries of `ended`
    ("free", "i8"),  # first free entry of `visits`, -1: none
    ("past_timeouts", "i8"),  # 1: of the present instant time-outs come now, or arrivals
    ("attention", "i8"),  # 1: an event goes on, or something is full: look at all that follows here
    ("full", "i8"),  # 1: the heaps or the answers of a fleet must have more room, or `ended`
    ("asked", "i8"),  # the attempt for which the control plane was last asked for a slot
    ("planned", "i8"),  # repeated attempts, and calls that wait for a connection, numbered as they were planned
    ("n_repeats", "i8"),  # entries of the heap `repeats`
    ("n_repeating", "i8"),  # entries of the heap `repeating`
    ("room_fleet", "i8"),  # the fleet of `room_row`
    ("room_row", "i8"),  # a row that has just got room, for those held; NONE_READY: none
    ("n_stack", "i8"),  # entries of `stack`
    ("news_head", "i8"),  # calls that have ended, and whose callers are to hear of it: a linked list
    ("news_tail", "i8"),
    # Where the arrays begin (addresses), and how long they are.
    address("fleets"),  # FLEET (n_fleets,)
    known("n_fleets", "i8", 1),
    known("n_services", "i8", 1),  # of the fleets; behind them come the second sides
    address("clients"),  # CLIENT (n_clients,): the users of each service, and the calls
    ("n_clients", "i8"),
    address("dues"),  # float64 (2 * fleet_leaves,): a winner tree of the next completion of each fleet [s]
    address("due_fleets"),  # int32 (2 * fleet_leaves,): whose that is
    known("fleet_leaves", "i8", 1),
    address("deadlines"),  # float64 (2 * client_leaves,): one of the next time-out of each client [s]
    address("patience"),  # float64 (2 * client_leaves,): one of the next call that waits for a connection no longer
    ("client_leaves", "i8"),
    address("visits"),  # VISIT (m,)
    address("repeats"),  # HEAP (m,): attempts to come, by time
    address("repeating"),  # HEAP (m,): those of this instant, by request and place
    address("stack"),  # int64 (m,): visits that go on within this event, the latest first
    address("given"),  # float64 (m, columns): what the trace says of the work at other services [s]
    address("spent"),  # float64 (m, parts): where the time of a visit went, and that of its calls [s]
    address("out"),  # RESULT (n,): one a request, where requests are kept
    address("out_spent"),  # float64 (n, parts) where requests are kept
    address("ended"),  # ENDED_VISIT (ended_size,)
    ("ended_full", "i8"),  # so many entries of which one more event might not find room for all that it ends
    # float64 (n, 5) where departures are forced: three as in `plane`, then by how much more CPU work it had, and the
    # virtual time of its replica when its CPU turn began [core-seconds]
    address("turns"),
    address("edges_s"),  # float64 (n_edges,): instants at which the integrals are written down [s]
    ("n_edges", "i8"),
    address("chunk_at_s"),  # float64 (chunk_n,), and so are the next two; the chunk is only read
    address("chunk_cpu_s"),
    address("chunk_wait_s"),
    address("chunk_route"),  # int32 (chunk_n,) where `codes`
    address("chunk_server"),  # int32 (chunk_n,) where there are several services
    address("chunk_visitor"),  # int32 (chunk_n,) where visitors are pinned
    address("chunk_bytes_out"),  # float64 (chunk_n,) where requests are not kept
    address("chunk_given"),  # float64 (chunk_n, columns)
    ("chunk_n", "i8"),
    ("chunk_first", "i8"),  # number of the chunk's first request
    ("chunk_last", "i8"),  # 1: the trace ends with this chunk
    address("chunk_hit"),  # int32 (chunk_n,) where `edge`
    address("chunk_area"),  # int32 (chunk_n,) where `places`
    address("trips_s"),  # float64 (origins, n_services) where `places`: round trips, for the nearest region to be found
    address("ways_s"),  # of the same shape: by how much later that makes an answer
    address("applies"),  # int64 (n_clients, n_routes): 1, requests of this route make this call
    ("n_routes", "i8"),
    # What the control plane orders, for the next call.
    ("order", "i8"),  # NO_ORDER, ADD, ...
    ("order_fleet", "i8"),  # of DISMISS: those that are `dismissed`
    ("order_row", "i8"),
    ("order_number", "i8"),
    ("order_s", "f8"),
    ("order_warm", "i8"),  # ADD: 1, it needs no warm-up
    # Fixed during a replay; what comes of a service and its plan is in FLEET.
    known("keeps", "i8", 1),  # 1: `out` has one entry a request of the trace
    known("tallies", "i8", 0),  # 1: what ends is written to `ended`
    known("calls", "i8", 0),  # 1: some service calls another one
    known("codes", "i8", 0),  # 1: the route of a request is looked at
    known("pins", "i8", 0),  # 1: the visitor of a request is looked at
    known("edge", "i8", 0),  # 1: some requests meet no fleet
    ("edge_s", "f8"),  # what they take [s]
    known("places", "i8", 0),  # 1: users and fleets are somewhere
    ("finds_none", "i8"),  # 1: whoever sends the next attempt knows of no region that is open
    ("spill_asked", "i8"),  # 1: the control plane has been asked for a slot for the attempt that is passed on
    known("columns", "i8", 0),  # of `given`
    known("parts", "i8", 0),  # of `spent`; 0: nobody wants to know
    ("ends_at_most", "i8"),  # requests that one event can end
    ("repeats_any", "i8"),  # 1: some client sends again what failed
    ("clocks", "i8"),  # 1: there are time-outs of clients or repeated attempts that are events
    known("extras", "i8", 0),  # 1: a request brings more with it than its work
    known("forced", "i8", 0),  # `wait_s` is when a request leaves, `cpu_s` the share of its turn
    *((key, "u8", 2) for key in KEYS),  # of the random streams
)

# One record a service: its replicas behind a balancer, and what does not change during a replay. Where traffic may be
# split between two versions, there is a second record, behind those of all services: its other side.
_FLEET_FIELDS: Final[tuple[Any, ...]] = (
    known("index", "i8", 0),
    known("service", "i8", 0),  # the first side of its service: what both have in common is there
    known("other", "i8", -1),  # its other side, -1: there is none
    ("first_site", "i8"),  # the first of the fleets of its service, which stand next to each other, one a region
    ("n_sites", "i8"),  # how many these are
    ("origin", "i8"),  # the row of its region in `trips_s`, for what it calls
    ("lost", "i8"),  # its region is: AT_ONCE or SILENT, how what is sent there is lost; 0: it is not
    ("closed", "i8"),  # 1: it is known that its region does not work
    ("struck", "i8"),  # 1: the order of the control plane is about it
    ("outlives", "i8"),  # 1: what it holds outlives the loss of its region
    ("quiet_head", "i8"),  # attempts that hear nothing and will not give up: a linked list, -1: none
    ("quiet_tail", "i8"),
    address("changes_s"),  # float64 (changes,): when it changed which regions are open, at the first one [s]
    address("changes"),  # int64 (changes,): which are from then on, a bit each
    ("n_changes", "i8"),
    address("looked_s"),  # float64 (visitors,): when each visitor looked which are open, NaN: he has not come yet [s]
    address("seen"),  # int64 (visitors,): what he saw
    ("split_share", "f8"),  # of attempts that go to `split_side`
    ("split_side", "i8"),
    ("whole_side", "i8"),  # where all of them go if `split_share` is `whole_share`: 1, or 0 for the other side
    ("whole_share", "f8"),
    ("n_split", "i8"),  # attempts since that is so
    known("judged", "i8", 0),  # it is written down how the attempts end that replicas of this version get, 0: of none
    known("notes", "i8", 0),  # 1: how all end that are sent to this side
    address("sent"),  # SENT (sent_size,)
    ("sent_size", "i8"),
    ("n_sent", "i8"),
    ("n_forgotten", "i8"),  # entries that were before the first one
    address("timed"),  # TIMED (timed_size,)
    ("timed_size", "i8"),
    ("n_timed", "i8"),
    ("judgement", "i8"),  # so many versions have been judged
    ("least_fits", "i8"),  # requests in slots for which the memory of any replica has room
    ("errors", "f8"),  # share of attempts that fail because of what they wait for
    ("slower", "f8"),  # by how much longer waits are that begin now
    ("now_s", "f8"),  # its integrals are up to date to here: the latest event that concerns it [s]
    ("edge_s", "f8"),  # next instant at which the integrals are written down, infinity: none [s]
    ("edge", "i8"),  # number of the next edge
    ("attempts", "i8"),  # that its balancer has got
    ("call_s", "f8"),  # when it got the latest call [s]
    ("n_called", "i8"),  # calls that it got at that instant
    ("n_ready", "i8"),  # filled entries of `ready`
    ("n_emptied", "i8"),  # draining replicas that have emptied since they were last asked for
    ("n_killed", "i8"),  # replicas killed since they were last asked for
    ("n_idled", "i8"),  # replicas that have become idle, of those that the control plane asked about
    ("last_chosen", "i8"),  # number of the replica that round robin chose last
    ("choices", "i8"),  # number of the latest choice of a replica, where it is by load
    ("choice_mask", "i8"),  # the end of such a number is the place in `chosen_rows`
    address("chosen_rows"),  # int32 (choice_mask + 1,): the row that was chosen then
    ("held_head", "i8"),  # visits in the shared or held queue: a linked list, -1: none
    ("held_tail", "i8"),
    ("n_held", "i8"),
    ("way_head", "i8"),  # answers on their way to those that called, by time: a linked list, -1: none
    ("way_tail", "i8"),
    ("n_answers", "i8"),  # filled entries of `answers`
    ("billed", "f8"),  # periods of use that are over, each rounded up [units of the granularity, or s]
    ("lasted_s", "f8"),  # the same, not rounded, where there is a granularity [s]
    ("asks_now", "i8"),  # 1: the control plane is being asked for a slot
    ("asks", "i8"),  # 1: come back when an attempt arrives for which no slot is left
    ("coming_slots", "i8"),  # slots of the replicas that are on their way
    ("fullest", "i8"),  # most visits that any replica has had in slots at once
    ("places", "i8"),  # visits in slots that the heaps of each replica have room for
    ("places_left_at", "i8"),  # `fullest` from which there must be more places; NOBODY: there are as many as slots
    ("leaves", "i8"),  # rows, and leaves of a winner tree: a power of two, at least 2
    known("user", "i8", 0),  # the client that its users are
    ("timeout_s", "f8"),  # of its users, infinity: none
    ("watches", "i8"),  # 1: they may give up waiting, and send again
    ("first_call", "i8"),  # its calls are the clients from here on
    known("n_calls", "i8", 0),
    ("n_pools", "i8"),  # of connections, of each replica
    ("part", "i8"),  # where its own parts begin in `spent`
    ("parts_end", "i8"),  # where the parts of all that it calls end
    ("dismissed", "i8"),  # 1: no replica will ever take those that it holds
    ("unsent", "i8"),  # calls that did not get a connection in time
    # Addresses.
    address("levels"),  # LEVEL (2,)
    address("replicas"),  # REPLICA (leaves,)
    address("heaps"),  # HEAP (leaves, places + 2), and one more
    address("tree"),  # NODE (2 * leaves,)
    address("due_rows"),  # int32 (2 * leaves,): of each node the row whose `due_s` it has
    address("rate"),  # float64 (2, places + 1): work a second by each of k running requests; [1]: bank empty
    address("pace"),  # float64 (2, places + 1): 1 / rate; to multiply is quicker than to divide
    address("row_of"),  # int64 (numbers,): the row of each replica, by number
    address("moved"),  # int64 (numbers,): visitors who had to move from each replica, by number
    address("ready"),  # int64 (leaves,): rows that the balancer sends to, by number
    address("emptied"),  # int64 (leaves,): numbers of draining replicas that have emptied
    address("killed"),  # int64 (leaves,): numbers of replicas that have died
    address("idled"),  # int64 (leaves,): numbers of replicas that have become idle
    address("uses"),  # USE (leaves,)
    address("pools"),  # POOL (leaves, n_pools)
    address("pinned"),  # int64 (visitors,): of each visitor number of the replica and fleet, 0: none yet
    address("answers"),  # float64 (answers_size,): latencies of ok answers, each of its own attempt [s]
    ("answers_size", "i8"),  # where no rule reads them: NOBODY
    address("series"),  # float64 (n_edges, 4): integrals then: cores, slots in use, visits waiting, throttled
    *of_settings(SETTINGS),
)

_AT_EVERY_EVENT: Final = (
    "now_s", "edge_s", "levels", "lends", "fraction", "whole", "throttles", "tree", "due_rows", "leaves",
    "replicas", "places", "pace", "by_load", "way_head", "n_calls", "rate", "errs", "other", "meters", "judges",
    "attempts", "way_tail", "overhead_s", "n_ready", "least_fits", "n_held", "fullest", "watches", "warm_up_s",
    "wait_from", "threads", "slower", "slots", "row_of", "queues", "pins", "counts", "parts_end", "part",
    "logs", "judged", "asks", "first_call", "index", "user", "timeout_s", "balancer", "choices", "choice_mask",
    "chosen_rows",
)  # fmt: skip
"""What nearly every event looks at, the most often first: it lies together, in six cache lines instead of all."""

FLEET: Final = lines(
    "FLEET",
    *sorted(
        _FLEET_FIELDS,
        key=lambda field: _AT_EVERY_EVENT.index(field[0]) if field[0] in _AT_EVERY_EVENT else len(_AT_EVERY_EVENT),
    ),
)

# One record for the users of each service, and one for each entry of a table of calls.
CLIENT: Final = np.dtype(
    [
        ("number", "i8"),
        ("fleet", "i8"),  # whose visits these are
        ("caller", "i8"),  # the fleet that calls, -1: users
        ("waiting_head", "i8"),  # attempts whose client gives up at a time-out, by deadline: a linked list, -1: none
        ("waiting_tail", "i8"),
        ("queue_head", "i8"),  # calls that wait for a connection and will not for ever, by time: one more
        ("queue_tail", "i8"),
        *((setting.name, setting.kind) for setting in CLIENT_SETTINGS),
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
REPLICA: Final = lines(
    "REPLICA",
    ("number", "i8"),
    ("chosen", "i8"),  # the choice at which it was chosen last, from CHOSEN on; never: its number
    ("state", "i8"),  # FREE, READY, DRAINING, DEAD or OUT
    ("busy", "i8"),  # visits in slots and backlog
    ("in_slots", "i8"),
    ("n_running", "i8"),  # entries of its heap RUNNING
    ("n_waiting", "i8"),  # entries of its heap WAITING
    ("turn_head", "i4"),  # visits in slots that wait for a CPU turn: a linked list, -1: none
    ("turn_tail", "i4"),
    ("backlog_head", "i4"),  # visits that wait for a slot: a linked list, -1: none
    ("backlog_tail", "i4"),
    ("work", "f8"),  # by how much CPU work is multiplied that begins now
    ("v", "f8"),  # virtual time [core-seconds]
    ("v_at_s", "f8"),  # the instant at which it was `v`, and the bank `bank` [s]
    known("empty", "i8", 0),  # 1: its bank is empty
    ("heap", "i8"),  # where its heaps begin (address)
    ("core_s", "f8"),  # cores in use integrated up to `v_at_s` [core-seconds]
    ("ready_at_s", "f8"),  # when its warm-up began, -infinity: it is warm [s]
    ("bank", "f8"),  # [core-seconds]; from here on only where CPU is lent, or other services are called
    ("calling", "i8"),  # visits in slots that call: a linked list, -1: none
    ("epoch", "i8"),  # its processes so far: connections of an earlier one are gone
    ("version", "i8"),
    known("error_rate", "f8", 0.0),  # share of its attempts that fail by themselves
    ("fits", "i8"),  # requests in slots for which its memory has room
)

# One record a row and pool of connections.
POOL: Final = np.dtype(
    [
        ("in_use", "i8"),
        ("head", "i8"),  # calls that wait for a connection: a linked list, -1: none
        ("tail", "i8"),
    ]
)

# One record a row, looked at only where use is metered: its latest period with a slot in use.
USE: Final = lines(
    "USE",
    ("begin_s", "f8"),  # NaN: there was none that is not yet in `billed` [s]
    ("end_s", "f8"),  # infinity: it goes on; without a period: when it became ready [s]
    ("tell", "i8"),  # 1: the control plane wants to know when it ends
)

# One record a node of the two winner trees, which have one shape: the root is 1, the children of k
# are 2k and 2k + 1, and row r is the leaf `leaves + r`.
NODE: Final = np.dtype(
    [
        ("due_s", "f8"),  # the earliest next completion below [s], infinity: none
        ("load", "i8"),  # the least of requests * 2**CHOSEN_BITS + `chosen` among the ready below, else NOBODY
    ]
)

# One record a visit (a request of the trace, or a call) that is at a replica, held, or to come; or a link of the free
# list. A copy, since the chunk of its request may be gone. What every request needs stands in one cache line.
VISIT: Final = lines(
    "VISIT",
    ("id", "i8"),
    ("at_s", "f8"),  # arrival of this attempt [s]
    ("cpu_s", "f8"),
    ("wait_s", "f8"),
    ("slot_at_s", "f8"),  # NaN while it has no slot
    ("order", "i8"),  # of this attempt among all attempts, by arrival
    ("link", "i4"),  # next in its list, -1: last
    ("attempt", "i2"),  # 1 for the first
    ("watched", "i1"),  # 1: it is in the list of clients
    ("given_up", "i1"),  # 1: its client has gone: nobody waits for this attempt
    known("is_call", "i1", 0),  # 0: it is a request of the trace
    known("fails", "i1", 0),  # 1: by itself, without CPU work
    known("fleet", "i2", 0),
    known("client", "i4", 0),
    ("first_s", "f8"),  # arrival of the first attempt, where this is another one; of a call of any [s]
    ("failed_s", "f8"),  # when the attempt before failed, while it is going to be sent again [s]
    ("planned", "i8"),  # number of what it waits for: to be sent again, or a connection
    known("sent", "i8", -1),  # its entry of `sent`, those forgotten counted, -1: it has none
    ("bytes_out", "f8"),  # only where requests are not kept
    ("earlier", "i4"),  # neighbours in a list of its client, -1: none
    ("later", "i4"),
    ("route", "i4"),  # only where `codes`
    ("visitor", "i4"),  # -1: not known
    known("trip_s", "f8", 0.0),  # round trips of its answer [s]
    ("origin", "i4"),  # from here on only where `places`: where it comes from, a row of `trips_s`
    ("silent", "i4"),  # 1: it hears nothing, and will give up
    ("padding_4", "i4"),
    ("turned", "i4"),  # the fleet that turned this attempt away first, -1: none has
    ("away", "i8"),  # all that have, a bit each
    ("looked_s", "f8"),  # when whoever sent it looked which regions are open, where he is not known [s]
    ("seen", "i8"),  # what he saw
    # From here on only where services call each other.
    ("calls_head", "i4"),  # its calls that have not ended and that it waits for: a list linked both ways, -1: none
    ("row", "i4"),  # where it is served
    known("caller", "i8", -1),  # the visit that made it, -1: nobody waits for its end
    known("place", "i8", 0),  # in the tree of all calls that a request could make; 0: the user's
    known("lineage", "i8", 0),  # attempt numbers of all visits on the path from the user down to its caller
    ("left_s", "f8"),  # what is left of its wait beside its calls [s]
    ("group_s", "f8"),  # when it began to wait for these calls [s]
    ("called_s", "f8"),  # in its calls so far, connections included [s]
    ("connecting_s", "f8"),  # of that waiting for connections [s]
    ("answered_s", "f8"),  # when its answer reaches its caller [s]
    ("queued_at_s", "f8"),  # when it began to wait for a connection [s]
    ("sibling", "i4"),  # neighbours in the list of its caller's calls, -1: none
    ("sibling_back", "i4"),
    ("pool_epoch", "i4"),  # of the processes of that replica
    ("back", "i4"),  # the one before it in the list of its replica's calling visits, or in that of a pool
    ("phase", "i4"),
    ("step", "i4"),  # which of its fleet's calls is next
    ("nth", "i4"),  # and which time
    ("pending", "i4"),  # calls that it waits for
    ("group", "i4"),  # of these
    ("made", "i4"),  # 1: it has waited for a call
    ("pool_row", "i4"),  # the replica of its pool: it has a connection of it, or waits for one; -1: no pool
    ("pool_fleet", "i4"),
    ("ending", "i4"),
    ("number", "i4"),  # of the replica that gave it its end
)

# An attempt that was sent to a version which is judged.
SENT: Final = np.dtype(
    [
        ("timeout_s", "f8"),  # when its client gives up, infinity: never [s]
        ("ended_s", "f8"),  # when it ended, if that was before; infinity: it did not [s]
        ("failed", "i8"),
    ]
)

# An ok attempt, where releases are judged by how long these take.
TIMED: Final = np.dtype(
    [
        ("ended_s", "f8"),
        ("latency_s", "f8"),  # from its own arrival, overhead included [s]
        ("judgement", "i8"),  # that of the version that it was sent to, 0: to another one
    ]
)

# What is known of a visit that has ended; see `plane.Ended`.
ENDED_VISIT: Final = np.dtype(
    [
        ("latency_s", "f8"),
        ("queued_s", "f8"),
        ("before_s", "f8"),
        ("at_s", "f8"),
        ("cpu_s", "f8"),
        ("wait_s", "f8"),
        ("bytes_out", "f8"),
        ("called_s", "f8"),
        ("connecting_s", "f8"),
        ("trip_s", "f8"),
        ("id", "i8"),
        ("replica", "i4"),
        ("route", "i4"),
        ("server", "i4"),
        ("call", "i2"),
        ("ending", "u1"),
        ("attempts", "u1"),
        ("area", "i4"),
        ("padding", "i4"),
    ]
)

# One record an entry of a heap. In a replica's two heaps what ties is sorted out by `advance`, so that
# they need no second key.
# The two heaps of a replica lie in each other's gaps: what is looked at together, their first entries, is then in
# one cache line. The other two heaps leave the gaps empty, or keep a second key there.
HEAP: Final = np.dtype([("key", "f8"), ("request", "i8"), ("other_key", "f8"), ("other_request", "i8")])
NEXT_HEAP: Final = HEAP.fields["other_key"][1] if HEAP.fields else 0
"""Where the other heap begins, from the first [bytes]."""

RETRIED, QUEUED, CPU, SLOWED, CONNECTING, OWN_WAIT, OVERHEAD = np.arange(7)
"""Where the time of a visit went; so `spent` has for each service."""
