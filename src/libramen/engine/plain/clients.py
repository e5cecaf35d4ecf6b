"""The clients of the readable data plane: how long they wait, and when they send a visit again."""

from __future__ import annotations

import math
from typing import NamedTuple

from libramen.engine.plain.balancer import uniforms
from libramen.engine.plain.visit import Attempt, Errand


class Repeat(NamedTuple):
    """An attempt that is going to be sent."""

    at_s: float
    errand: Errand
    number: int
    planned: int
    last: Attempt  # the one before, which failed
    failed_s: float


class Clients:
    """Attempts whose clients still wait and hear of their time-out, and attempts that are going to be sent."""

    def __init__(self, seed: int) -> None:
        self._seed = seed
        self._waiting: list[Attempt] = []
        self.repeats: list[Repeat] = []
        self.planned = 0

    def watch(self, attempt: Attempt) -> None:
        """A client has sent an attempt; users hear of its time-out only if they may send another."""
        client = attempt.errand.client
        if math.isfinite(client.timeout_s) and (client.calls or attempt.number <= client.retries):
            self._waiting.append(attempt)

    def is_watched(self, attempt: Attempt) -> bool:
        """Whether its time-out is an event."""
        return attempt in self._waiting

    def timeouts(self) -> list[tuple[float, Attempt]]:
        """When each client gives up."""
        return [(attempt.at_s + attempt.errand.client.timeout_s, attempt) for attempt in self._waiting]

    def unwatch(self, attempt: Attempt) -> None:
        """A client has had its answer, or has gone."""
        if attempt in self._waiting:
            self._waiting.remove(attempt)

    def repeat_later(self, attempt: Attempt, failed_s: float) -> None:
        """The client learns at `failed_s` that an attempt has failed, and sends the next one after a pause."""
        errand = attempt.errand
        client = errand.client
        pause_s = client.retry_after_s * 2 ** (attempt.number - 1)
        if client.retry_jitter > 0:
            u, _ = uniforms(self._seed, "retry", errand.id, attempt.lineage, errand.place)
            pause_s *= 1 + client.retry_jitter * (2 * u - 1)
        self.repeats.append(Repeat(failed_s + pause_s, errand, attempt.number + 1, self.plan(), attempt, failed_s))

    def plan(self) -> int:
        """The number of what is planned next."""
        self.planned += 1
        return self.planned
