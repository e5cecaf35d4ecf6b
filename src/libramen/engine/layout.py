"""The state of the compiled data plane: its arrays, record by record.

Times are seconds from the start of the trace. All arrays are written by `kernel` and, between two
calls of it, by `kernel_state`; the rest of the engine sees neither.
"""

from __future__ import annotations

from typing import Final

import numpy as np

# One record: the clock, the counts, and what does not change during a replay.
WORLD: Final = np.dtype(
    [
        ("now_s", "f8"),  # integrals are up to date to here [s]
        ("control_s", "f8"),  # the instant at which the control plane must act [s]
        ("emptied_s", "f8"),  # when the last of `emptied` did [s]
        ("edge_s", "f8"),  # next instant at which the integrals are written down, infinity: none [s]
        ("edge", "i8"),  # its number
        ("next", "i8"),  # number of the next request to arrive
        ("last_chosen", "i8"),  # number of the replica that round robin chose last
        ("free", "i8"),  # first free entry of `requests`, -1: none
        ("n_out", "i8"),  # filled entries of `out`
        ("n_emptied", "i8"),  # draining replicas that have emptied since they were last asked for
        ("n_ready", "i8"),  # filled entries of `ready`
        # Fixed during a replay.
        ("leaves", "i8"),  # leaves of a winner tree: a power of two, at least 2
        ("slots", "i8"),
        ("threads", "i8"),
        ("backlog", "i8"),  # -1: no limit
        ("balancer", "i8"),  # ROUND_ROBIN or LEAST_BUSY
        ("whole", "i8"),  # whole cores of a replica
        ("fraction", "f8"),  # the rest of its cores
        ("overhead_s", "f8"),
        ("timeout_s", "f8"),  # infinity: none
    ]
)

# Two records, over the ready replicas and over the draining ones: levels now, integrals up to `now_s`.
# Cores in use are min(running, cores) = below + fraction * above: two counts, so exact.
LEVEL: Final = np.dtype(
    [
        ("below", "i8"),  # sum of min(running, whole cores)
        ("above", "i8"),  # replicas with more running than whole cores
        ("in_slots", "i8"),
        ("waiting", "i8"),
        ("cpu_integral", "f8"),  # [core-seconds]
        ("in_slots_integral", "f8"),  # [s]
        ("waiting_integral", "f8"),  # [s]
    ]
)

# One record a row; a replica that is gone gives its row back.
REPLICA: Final = np.dtype(
    [
        ("number", "i8"),
        ("state", "i8"),  # FREE, READY or DRAINING
        ("busy", "i8"),  # requests in slots and backlog
        ("in_slots", "i8"),
        ("n_running", "i8"),  # entries of its heap RUNNING
        ("n_waiting", "i8"),  # entries of its heap WAITING
        ("turn_head", "i8"),  # requests in slots that wait for a CPU turn: a linked list, -1: none
        ("turn_tail", "i8"),
        ("backlog_head", "i8"),  # requests that wait for a slot: a linked list, -1: none
        ("backlog_tail", "i8"),
        ("v", "f8"),  # virtual time [core-seconds]
        ("v_at_s", "f8"),  # the instant at which it was `v` [s]
    ]
)

# One record a node of the two winner trees, which have one shape: the root is 1, the children of k
# are 2k and 2k + 1, and row r is the leaf `leaves + r`.
NODE: Final = np.dtype(
    [
        ("due_s", "f8"),  # the earliest next completion below [s], infinity: none
        ("load", "i8"),  # the least of requests * 2**32 + number among the ready below, else NOBODY
    ]
)

# One record a request in progress (a copy: its chunk may be gone), or a link of the free list.
REQUEST: Final = np.dtype(
    [
        ("id", "i8"),
        ("arrived_s", "f8"),
        ("cpu_s", "f8"),
        ("wait_s", "f8"),
        ("slot_at_s", "f8"),  # NaN while it has no slot
        ("link", "i8"),  # next in its list, -1: last
    ]
)

# One record a request that has ended, until the control plane collects them.
ENDED: Final = np.dtype(
    [
        ("id", "i8"),
        ("latency_s", "f8"),
        ("queued_s", "f8"),
        ("replica", "i4"),
        ("ending", "u1"),
        ("attempts", "u1"),
    ]
)

# One record an entry of a replica's two heaps: RUNNING by virtual time, WAITING by time. What ties is
# sorted out by `_first_arrived`, so the heaps need no second key.
HEAP: Final = np.dtype([("key", "f8"), ("request", "i8")])
