"""What does not change during a replay: one line a setting, its name in the kernel and where it comes from.

A setting is added here, and in `plane.ServerSpec`; `layout` makes its field of it, `state` writes it down.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final, NamedTuple

import numpy as np

from libramen import streams

if TYPE_CHECKING:
    from collections.abc import Callable

    from libramen.engine.plane import ServerSpec

ROUND_ROBIN, RANDOM, TWO_CHOICES, LEAST_BUSY, SHARED_QUEUE = np.arange(5)
"""Balancers; those from LEAST_BUSY on look at the winner tree of loads."""

NOBODY: Final = 1 << 62
"""More than any load or number; as a limit: none."""


_BALANCERS: Final = {
    "round_robin": ROUND_ROBIN,
    "random": RANDOM,
    "two_choices": TWO_CHOICES,
    "least_busy": LEAST_BUSY,
    "shared_queue": SHARED_QUEUE,
}


class Setting(NamedTuple):
    """One setting: its name and type in WORLD, and its value."""

    name: str
    kind: tuple[Any, ...]
    of: Callable[[ServerSpec], Any]


def _fits(spec: ServerSpec) -> int:
    """How many requests in slots the memory has room for."""
    if spec.memory < 0:
        return NOBODY
    left = spec.memory - spec.memory_base
    if left < 0:
        return 0
    return left // spec.memory_per_request if spec.memory_per_request else NOBODY


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
    _whole("fits", _fits),
    _whole("balancer", lambda spec: _BALANCERS[spec.balancer]),
    _whole("holds", lambda spec: spec.holds_requests),  # with no room a request is held
    _whole("queues", lambda spec: spec.holds_requests or spec.balancer == "shared_queue"),
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
    _real("timeout_s", lambda spec: spec.timeout_s),  # infinity: none
    _whole("drops", lambda spec: spec.drops and np.isfinite(spec.timeout_s)),  # past its deadline it takes no slot
    _whole("retries", lambda spec: spec.retries),
    _real("retry_after_s", lambda spec: spec.retry_after_s),
    _real("retry_jitter", lambda spec: spec.retry_jitter),
    _whole("watches", lambda spec: spec.retries > 0 and np.isfinite(spec.timeout_s)),  # clients may give up waiting
    _whole("logs", lambda spec: spec.logs_answers),  # latencies of answers are written down
    _whole("meters", lambda spec: spec.meters),  # it is written down when each replica is in use
    _real("granularity_s", lambda spec: spec.granularity_s),  # a period of use is rounded up to this, 0: it is not [s]
    _real("work_scale", lambda spec: np.inf if spec.forced else 1.0),  # of CPU work: forced, it ends by time alone
    _real("wait_from", lambda spec: 0.0 if spec.forced else 1.0),  # waits are counted from now, or forced from 0
    _whole("forced", lambda spec: spec.forced),  # `wait_s` is when it leaves, `cpu_s` the share of its turn
    Setting("balancer_key", ("u8", 2), lambda spec: streams.key(spec.seed, "balancer")),  # of the random streams
    Setting("retry_key", ("u8", 2), lambda spec: streams.key(spec.seed, "retry")),
)
