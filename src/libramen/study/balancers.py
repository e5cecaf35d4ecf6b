"""The balancers, each declared once: which replica gets a request, and what that takes.

Whoever adds one names it here, and writes what it does twice: readably in `engine/plain/balancer.py`, compiled in
`engine/kernel/balancer.py`.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Final, Literal, NamedTuple


class Balancer(NamedTuple):
    """What the engine must know of a balancer beside what it does.

    Attributes:
        queues: visits wait in one queue for any replica, and replicas have no backlog.
        draws: it draws at random, so that who was sent where cannot be told from a log.
        by_load: it looks for the least busy replica, which is kept at hand.
        pins: it remembers where each visitor was sent.
    """

    queues: bool = False
    draws: bool = False
    by_load: bool = False
    pins: bool = False


BALANCERS: Final = {
    "least_busy": Balancer(by_load=True),
    "round_robin": Balancer(),
    "two_choices": Balancer(draws=True),
    "random": Balancer(draws=True),
    "pinned": Balancer(by_load=True, pins=True),
    "shared_queue": Balancer(by_load=True, queues=True),
}
if TYPE_CHECKING:
    BalancerName = str
else:
    BalancerName = Literal[tuple(BALANCERS)]
