"""The clients of the readable data plane: how long they wait, and when they send a request again."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from libramen.engine.plain.balancer import uniforms

if TYPE_CHECKING:
    from libramen.engine.plain.replica import Attempt, Request
    from libramen.engine.plane import ServerSpec


class Clients:
    """Attempts whose clients still wait and may send again, and attempts that are going to be sent."""

    def __init__(self, spec: ServerSpec) -> None:
        self._spec = spec
        self._waiting: list[Attempt] = []
        self.repeats: list[tuple[float, Request, int]] = []  # when, of what, number of the attempt

    def sent(self, attempt: Attempt) -> None:
        """A client has sent an attempt, and gives up at its time-out if it may send another."""
        if attempt.number <= self._spec.retries and math.isfinite(self._spec.timeout_s):
            self._waiting.append(attempt)

    def timeouts(self) -> list[tuple[float, Attempt]]:
        """When each client that may send again gives up."""
        return [(attempt.at_s + self._spec.timeout_s, attempt) for attempt in self._waiting]

    def forget(self, attempt: Attempt) -> None:
        """A client has had its answer, or has gone."""
        if attempt in self._waiting:
            self._waiting.remove(attempt)

    def give_up(self, attempt: Attempt) -> None:
        """A client gives up waiting. The server does not know, and goes on with the attempt."""
        attempt.given_up = True
        self.repeat_later(attempt, attempt.at_s + self._spec.timeout_s)

    def repeat_later(self, attempt: Attempt, failed_s: float) -> None:
        """The client learns at `failed_s` that an attempt has failed, and sends the next one after a pause."""
        self.forget(attempt)
        pause_s = self._spec.retry_after_s * 2 ** (attempt.number - 1)
        if self._spec.retry_jitter > 0:
            pause_s *= 1 + self._spec.retry_jitter * (2 * uniforms(self._spec.seed, "retry", attempt)[0] - 1)
        self.repeats.append((failed_s + pause_s, attempt.request, attempt.number + 1))
