"""What does not change during a replay: one line a setting, its name in the kernel and where it comes from.

A setting is added here, and in `plane.ServerSpec` or `plane.ClientSpec`; `layout` makes its field of it, `arrays`
writes it down.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final, NamedTuple

import numpy as np

if TYPE_CHECKING:
    from collections.abc import Callable

    from libramen.engine.border.specs import ClientSpec, ServerSpec

ROUND_ROBIN, RANDOM, TWO_CHOICES, LEAST_BUSY, SHARED_QUEUE, PINNED = np.arange(6)
"""Balancers; those from LEAST_BUSY on look at the winner tree of loads."""

KEYS: Final = ("balancer_key", "retry_key", "share_key", "call_key", "error_key")
"""Of the random streams in which every visit has numbers of its own."""

OF_WAIT, COLUMN, DRAWN = np.arange(1, 4)
"""What the work of a call is: a share of the wait of the visit that makes it, a column of the trace, of its own."""

NOBODY: Final = 1 << 62
"""More than any load or number; as a limit: none."""


_BALANCERS: Final = {
    "round_robin": ROUND_ROBIN,
    "random": RANDOM,
    "two_choices": TWO_CHOICES,
    "least_busy": LEAST_BUSY,
    "shared_queue": SHARED_QUEUE,
    "pinned": PINNED,
}


class Setting(NamedTuple):
    """One setting: its name and type in FLEET, and its value."""

    name: str
    kind: tuple[Any, ...]
    of: Callable[[ServerSpec], Any]


class ClientSetting(NamedTuple):
    """One setting: its name and type in CLIENT, and its value."""

    name: str
    kind: tuple[Any, ...]
    of: Callable[[ClientSpec], Any]


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
    return min(spec.cores, spec.steady_cores) if spec.lends_cpu else 0.0


def _whole(name: str, of: Callable[[ServerSpec], Any]) -> Setting:
    """A whole number, or 1 for yes and 0 for no."""
    return Setting(name, ("i8",), of)


def _real(name: str, of: Callable[[ServerSpec], Any]) -> Setting:
    return Setting(name, ("f8",), of)


SETTINGS: Final = (
    _whole("slots", lambda spec: spec.slots),
    _whole("threads", lambda spec: spec.threads),
    _whole("backlog", lambda spec: 0 if spec.balancer == "shared_queue" else spec.backlog),  # -1: no limit
    _whole("balancer", lambda spec: _BALANCERS[spec.balancer]),
    _whole("holds", lambda spec: spec.holds_requests),  # with no room a request is held
    _whole("queues", lambda spec: spec.queues),
    _whole("queue_limit", lambda spec: NOBODY if spec.queue_limit < 0 else spec.queue_limit),
    _whole("detects_at_once", lambda spec: spec.detect_s == 0),  # a replica that dies is OUT at that instant
    _whole("whole", lambda spec: spec.cores // 1),  # whole cores of a replica
    _real("fraction", lambda spec: spec.cores % 1),  # the rest of its cores
    _whole("lends", lambda spec: spec.lends_cpu),  # CPU is only lent
    _whole("throttles", lambda spec: spec.steady_cores < spec.cores),  # an empty bank slows down
    _whole("whole_steady", lambda spec: _steady(spec) // 1),  # the same two for a replica whose bank is empty
    _real("fraction_steady", lambda spec: _steady(spec) % 1),
    _real("steady", lambda spec: spec.steady_cores if spec.lends_cpu else 0),  # earned [core-seconds per second]
    _real("bank", lambda spec: spec.bank),  # most that a bank can hold [core-seconds]
    _real("bank_at_start", lambda spec: spec.bank_at_start),
    _real("warm_up_s", lambda spec: spec.warm_up_s),
    _real("warm_up_factor", lambda spec: spec.warm_up_factor),
    _real("overhead_s", lambda spec: spec.overhead_s),
    _whole("drops", lambda spec: spec.drops),  # what is past its deadline takes no slot
    _whole("logs", lambda spec: spec.logs_answers),  # latencies of answers are written down
    _whole("meters", lambda spec: spec.meters),  # it is written down when each replica is in use
    _real("granularity_s", lambda spec: spec.granularity_s),  # a period of use is rounded up to this, 0: it is not [s]
    _real("wait_from", lambda spec: 0.0 if spec.forced else 1.0),  # waits are counted from now, or forced from 0
    _whole("judges", lambda spec: spec.judges),  # it may be written down how attempts end
    _whole("errs", lambda spec: spec.errs),  # attempts may fail by themselves
    _whole("forced", lambda spec: spec.forced),  # `wait_s` is when it leaves, `cpu_s` the share of its turn
    _real("alone", lambda spec: spec.speed * min(1.0, spec.cores)),  # work a second of one that has a replica to itself
)


def _of_client(name: str, kind: str, of: Callable[[ClientSpec], Any]) -> ClientSetting:
    return ClientSetting(name, (kind,), of)


CLIENT_SETTINGS: Final = (
    _of_client("timeout_s", "f8", lambda spec: spec.timeout_s),  # infinity: none
    _of_client("retries", "i8", lambda spec: spec.retries),
    _of_client("retry_after_s", "f8", lambda spec: spec.retry_after_s),
    _of_client("retry_jitter", "f8", lambda spec: spec.retry_jitter),
    # Clients that may give up waiting: callers, and users who would send the request again.
    _of_client("watches", "i8", lambda spec: np.isfinite(spec.timeout_s) and (spec.calls or spec.retries > 0)),
    _of_client("group", "i8", lambda spec: spec.group),  # entries of one group are made at one instant
    _of_client("times", "i8", lambda spec: spec.times),
    _of_client("at_once", "i8", lambda spec: spec.at_once),
    _of_client("awaited", "i8", lambda spec: spec.awaited),
    _of_client("goes_on", "i8", lambda spec: spec.goes_on),  # the visit does, when the call has failed
    _of_client("share", "f8", lambda spec: spec.share),
    _of_client("source", "i8", lambda spec: {"": 0, "of_wait": OF_WAIT, "column": COLUMN, "drawn": DRAWN}[spec.source]),
    _of_client("of_wait", "f8", lambda spec: spec.of_wait),
    _of_client("column", "i8", lambda spec: spec.column),
    _of_client("cpu_factor", "f8", lambda spec: spec.cpu_factor),  # CPU work for each second of it
    _of_client("wait_factor", "f8", lambda spec: spec.wait_factor),
    _of_client("cpu_median_s", "f8", lambda spec: spec.cpu.median_s),
    _of_client("cpu_sigma", "f8", lambda spec: spec.cpu.sigma),
    _of_client("wait_median_s", "f8", lambda spec: spec.wait.median_s),
    _of_client("wait_sigma", "f8", lambda spec: spec.wait.sigma),
    _of_client("pool", "i8", lambda spec: spec.pool),  # -1: connections are without limit
    _of_client("pool_limit", "i8", lambda spec: spec.pool_limit),
    _of_client("pool_timeout_s", "f8", lambda spec: spec.pool_timeout_s),
    _of_client("place", "i8", lambda spec: spec.place),  # after that of the visit that makes it
    _of_client("places_each", "i8", lambda spec: spec.places_each),
)
