"""What does not change during a replay: one row a setting, its name in the kernel and where it comes from.

Most rows are those of `border.specs`: a setting is added there, and is then `f.NAME` here (of a client `client.NAME`).
The rows below are what the kernel makes of these beforehand. `layout` has a field for each, `arrays` fills it.
"""

from __future__ import annotations

from dataclasses import fields
from operator import attrgetter
from typing import TYPE_CHECKING, Any, Final, NamedTuple

import numpy as np

from libramen.engine.border.specs import ClientSpec, ServerSpec
from libramen.study.balancers import BALANCERS

if TYPE_CHECKING:
    from collections.abc import Callable

CODES: Final = {name: np.int64(code) for code, name in enumerate(BALANCERS)}
"""Of the balancers."""

KEYS: Final = ("balancer_key", "retry_key", "share_key", "call_key", "error_key", "look_key")
"""Of the random streams in which every visit has numbers of its own."""

OF_WAIT, COLUMN, DRAWN = np.arange(1, 4)
"""What the work of a call is: a share of the wait of the visit that makes it, a column of the trace, of its own."""

NOBODY: Final = 1 << 62
"""More than any load or number; as a limit: none."""


CHOSEN_BITS: Final = 37
CHOSEN: Final = 1 << (CHOSEN_BITS - 1)
"""Less than any choice and more than any number of a replica."""


class Setting(NamedTuple):
    """One setting: its name and type in FLEET or CLIENT, its value, and the one that the lean variant knows, if any."""

    name: str
    kind: str
    of: Callable[[Any], Any]
    lean: float | None = None


def _rows(spec: type, *others: str) -> tuple[Setting, ...]:
    """The rows of `border.specs`, but for those of which the kernel makes others."""
    return tuple(
        Setting(row.name, "f8" if row.type == "float" else "i8", attrgetter(row.name), row.metadata.get("lean"))
        for row in fields(spec)
        if row.name not in others
    )


def fits(spec: ServerSpec, memory_factor: float) -> int:
    """How many requests in slots the memory has room for, where all that is used is multiplied."""
    if spec.memory < 0:
        return NOBODY
    left = spec.memory / memory_factor - spec.memory_base
    if left < 0:
        return 0
    if not spec.memory_per_request:
        return NOBODY
    n = int(left / spec.memory_per_request) + 1  # the division may be off by a rounding error

    def is_too_much(k: int) -> bool:
        return memory_factor * (spec.memory_base + spec.memory_per_request * k) > spec.memory

    while n > 0 and is_too_much(n):
        n -= 1
    return n


def _steady(spec: ServerSpec) -> float:
    """Cores of a replica whose bank is empty; 0: CPU is not lent."""
    return min(spec.cores, spec.steady_cores) if spec.lends else 0.0


SETTINGS: Final = (
    *_rows(
        ServerSpec, "backlog", "cores", "speed", "balancer", "memory", "memory_base", "memory_per_request",
        "steady_cores", "queue_limit", "detect_s", "splits", "replicas",
    ),
    Setting("backlog", "i8", lambda spec: spec.backlog_used),  # -1: no limit
    Setting("balancer", "i8", lambda spec: CODES[spec.balancer]),
    Setting("by_load", "i8", lambda spec: spec.balances.by_load),
    Setting("pins", "i8", lambda spec: spec.balances.pins),
    Setting("queues", "i8", lambda spec: spec.queues, 0),
    Setting("queue_limit", "i8", lambda spec: NOBODY if spec.queue_limit < 0 else spec.queue_limit),
    Setting("detects_at_once", "i8", lambda spec: spec.detect_s == 0),  # a replica that dies is OUT at that instant
    Setting("whole", "i8", lambda spec: spec.cores // 1),  # whole cores of a replica
    Setting("fraction", "f8", lambda spec: spec.cores % 1),  # the rest of its cores
    Setting("lends", "i8", lambda spec: spec.lends, 0),  # CPU is only lent
    Setting("throttles", "i8", lambda spec: spec.steady_cores < spec.cores, 0),  # an empty bank slows down
    Setting("whole_steady", "i8", lambda spec: _steady(spec) // 1),  # the same two for a replica whose bank is empty
    Setting("fraction_steady", "f8", lambda spec: _steady(spec) % 1),
    Setting("steady", "f8", lambda spec: spec.steady_cores if spec.lends else 0),  # earned [core-seconds per second]
    Setting("wait_from", "f8", lambda spec: 0.0 if spec.forced else 1.0, 1.0),  # waits count from now; forced, from 0
    Setting("alone", "f8", lambda spec: spec.speed * min(1.0, spec.cores)),  # work a second of one alone on a replica
)  # fmt: skip

CLIENT_SETTINGS: Final = (
    *_rows(ClientSpec, "server", "caller", "source"),
    # Clients that may give up waiting: callers, and users who would send the request again.
    Setting("watches", "i8", lambda spec: np.isfinite(spec.timeout_s) and (spec.calls or spec.retries > 0)),
    Setting("source", "i8", lambda spec: {"": 0, "of_wait": OF_WAIT, "column": COLUMN, "drawn": DRAWN}[spec.source]),
)
