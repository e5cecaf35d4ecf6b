"""Who is in a fleet: its replicas, in which stage each is, and how many there are of what."""

from __future__ import annotations

from collections.abc import Iterator

from libramen.engine.control.mixture import Mixture, Newest
from libramen.engine.replica import Replica, Stage
from libramen.study.hosting import Hosting


class Members:
    """All replicas of a fleet, counted as they go from one stage to the next.

    Args:
        hosting: what the fleet runs on.

    Attributes:
        mixture: of which tiers its machines are.
    """

    def __init__(self, hosting: Hosting) -> None:
        self.mixture = Mixture(hosting)
        self.replicas: list[Replica] = []  # ever ordered, by number - 1
        self._alive: dict[int, Replica] = {}
        self._newest = Newest()
        self.n_ready = 0
        """How many take requests."""
        self.n_coming = 0
        """How many are ordered and not yet ready, or starting again."""
        self.n_leaving = 0
        """How many of both are under notice, or replaced before they were found lost. `have` leaves them out."""
        self.peak = 0
        """The most that there were, ready and coming, at once."""
        self._ready_integral = self._integrated_to_s = 0.0

    def alive(self) -> list[Replica]:
        """Not gone yet, by number."""
        return list(self._alive.values())

    def ready(self) -> list[Replica]:
        """Taking requests, by number."""
        return [replica for replica in self._alive.values() if replica.is_ready]

    def coming(self) -> list[Replica]:
        """Ordered and not yet ready, by number."""
        return [replica for replica in self._alive.values() if replica.is_coming]

    def of_version(self, version: int) -> list[Replica]:
        """Not gone yet and of one version, by number."""
        return [replica for replica in self._alive.values() if replica.version == version]

    @property
    def n_alive(self) -> int:
        """How many are not gone yet."""
        return len(self._alive)

    def ready_integral(self, at_s: float) -> float:
        """Ready replicas integrated over time up to `at_s` [replica-seconds]."""
        return self._ready_integral + max(0.0, at_s - self._integrated_to_s) * self.n_ready

    @property
    def have(self) -> int:
        """Ready and coming, but for those under notice."""
        return self.n_ready + self.n_coming - self.n_leaving

    @property
    def n_lasting(self) -> int:
        """Ready and not under notice."""
        if not self.n_leaving:
            return self.n_ready
        return self.n_ready - sum(one.is_ready for one in self._alive.values() if one.is_leaving)

    def leaving(self, n: int) -> Iterator[Replica]:
        """The n replicas that go first, one after the other: each has to leave before the next is asked for."""
        if self.mixture.is_mixed:
            for entry, stage in self.mixture.leaving(n, self.alive()):
                yield self._newest.take(entry, stage, self.replicas)
            return
        coming = min(n, self.have - self.n_lasting)
        for place in range(n):
            yield self._newest.take(0, "coming" if place < coming else "ready", self.replicas)

    def _count(self, replica: Replica, change: int) -> None:
        """One that is ready or coming counts among those under notice, or for its entry."""
        if not (replica.is_ready or replica.is_coming):
            return
        if replica.is_leaving:
            self.n_leaving += change
        else:
            self.mixture.have[replica.entry] += change

    def _enter(self, replica: Replica, now_s: float, stage: Stage) -> None:
        """From now on a replica is in another stage."""
        self._ready_integral = self.ready_integral(now_s)
        self._integrated_to_s = now_s
        before = replica.stages[-1][1] if replica.stages else None
        self.n_ready += (stage == "ready") - (before == "ready")
        self.n_coming += (stage == "coming") - (before == "coming")
        self.peak = max(self.peak, self.n_ready + self.n_coming)
        if replica.stages:
            self._count(replica, -1)
        replica.stages.append((now_s, stage))
        self._count(replica, 1)
        if stage in {"coming", "ready"}:
            self._newest.add(replica)
