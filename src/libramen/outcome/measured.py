"""What becomes of the requests of a run, whether they are kept or only added up: what can be asked of it."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Protocol

import numpy as np

from libramen.bill.month import Weights
from libramen.engine.record import ServiceRun
from libramen.outcome.hourly import Hourly, Latencies, WeightedCounts
from libramen.outcome.measures import ALL, Failures, Hour, Measures, Scope
from libramen.outcome.waits import ColdWaits


class Measured(Protocol):
    """What became of the requests of a run: kept (`KeptRequests`), or only added up (`CountedRequests`)."""

    def measures(self, scope: Scope = ALL) -> Measures:
        """The figures of all that are measured, of one route, of one window of the objectives, or of one area."""

    @property
    def areas(self) -> tuple[str, ...]:
        """Where requests come from; empty: nobody knows."""

    def worst_hour(self) -> Hour | None:
        """The hour of the clock with the most requests that were not answered within `Asked.telling`."""

    def per_window(self, n: int) -> dict[str, np.ndarray]:
        """Of each of n windows, by first arrival: arrivals, and each ending."""

    def percentiles_per_window(self, n: int) -> dict[str, np.ndarray]:
        """p50_s, p95_s and p99_s of the ok requests of each of n windows, NaN: none."""

    def served(self, n: int) -> np.ndarray:
        """Requests answered ok by each of the replicas 1 to n."""

    def failures(self) -> Failures | None:
        """When requests failed, None: none did."""

    def failed_between(self, from_s: float, to_s: float) -> tuple[int, int] | None:
        """Of the requests that arrived then, how many failed, and how many there were; None: not known."""

    def hourly(self, item: str) -> np.ndarray:
        """Attempts ("requests"), bytes ("egress"), or core- and slot-seconds ("cpu", "held") by hour and route.

        Of all requests, also before `settle`: float64 (hours, routes).
        """

    def by_hour(self, scope: Scope = ALL) -> Hourly:
        """Counts by hour of what `measures` is about."""

    def latencies(self, scope: Scope = ALL) -> Latencies | None:
        """Latencies of the ok ones of the same; None: they are not known by hour."""

    def cold_waits(self, run: ServiceRun) -> ColdWaits | None:
        """Requests that waited for a cold start; None: not known."""


def weighted_counts(parts: Iterable[tuple[Weights, Measured]], scope: Scope = ALL) -> list[WeightedCounts]:
    """Some replays with their hours in the month, of what a scope is about; of a service it is their own."""
    return [WeightedCounts(weights, one.by_hour(scope), one.latencies(scope)) for weights, one in parts]
