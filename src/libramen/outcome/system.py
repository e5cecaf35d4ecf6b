"""The outcome of a replay of several services."""

from __future__ import annotations

import dataclasses
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from libramen.engine.decisions import Decisions
from libramen.outcome.outcome import Outcome
from libramen.shown import figure_of
from libramen.study.plan import JointPlan
from libramen.study.system import Hosted

if TYPE_CHECKING:
    from collections.abc import Callable

    import pandas as pd

    from libramen.bill.bill import Bill
    from libramen.bill.usage import Used
    from libramen.outcome.findings import Finding
    from libramen.outcome.measures import Asked, Measured
    from libramen.study.system import System
    from libramen.trace.trace import Trace


class SystemOutcome(Outcome):
    """What came of replaying a trace against several services.

    What is said of requests is of the whole: `endings`, `latency_s`, `objectives`, `routes`, `series`. What is said of
    fleets is in `services`, an `Outcome` for each about its visits; the frames `fleet`, `stages`, `decisions`,
    `updates` and `deaths` have those of all, with a column `service`. `utilisation` and numbers of replicas are None.

    Attributes:
        system: the services, what they run on, and who asks whom.
        bill: the sum of all; each line says whose it is.
    """

    def __init__(
        self,
        *,
        system: System,
        services: dict[str, Outcome],
        measured: Measured,
        asked: Asked,
        trace: Trace | None,
        seed: int,
        settle_s: float,
        again: Callable[..., Outcome] | None,
    ) -> None:
        self._services = services
        first = next(iter(services.values()))
        # Of the whole there are requests, and no fleet.
        run = dataclasses.replace(
            first.run,
            service="",
            replicas=[],
            deaths=[],
            decisions=Decisions(),
            use=np.zeros(0),
            updates=[],
            faults=[],
            integrals=np.zeros_like(first.run.integrals),
            moved=np.zeros(0, np.int64),
            unsent=sum(one.run.unsent for one in services.values()),
            peak=sum(one.run.peak for one in services.values()),
        )
        super().__init__(
            trace=trace,
            system=system,
            hosted=Hosted(system.name, first.service, first.plan),
            run=run,
            measured=measured,
            bill=summed({name: one.bill for name, one in services.items()}),
            asked=asked,
            seed=seed,
            settle_s=settle_s,
            again=again,
        )
        # Of the whole there is a plan for each service, and not one service.
        parts = {hosted.name: hosted.plan for hosted in system.hosted}
        self.plan = JointPlan(name=system.name, services=parts)  # type: ignore[assignment]
        del self.service

    def _look_at_fleet(self) -> None:
        self.utilisation = self.replicas_min = self.replicas_mean = self.replicas_max = self.replicas_peak = None
        self.cold_starts = sum(one.cold_starts for one in self._services.values())
        self.paid_s = sum(one.paid_s for one in self._services.values())

    @property
    def services(self) -> dict[str, Outcome]:
        """The outcome of each service, about its visits, by name."""
        return dict(self._services)

    # -- tables ------------------------------------------------------------------------------------

    def _of_all(self, name: str) -> pd.DataFrame:
        import pandas as pd

        frames = []
        for service, one in self._services.items():
            frame = getattr(one, name).copy()
            frame.insert(0, "service", service)
            frames.append(frame)
        there = [frame for frame in frames if len(frame)]
        whole: pd.DataFrame = pd.concat(there, ignore_index=True) if there else frames[0]
        return whole

    @cached_property
    def fleet(self) -> pd.DataFrame:
        """One row per replica, see `Outcome.fleet`, and its service."""
        return self._of_all("fleet")

    @cached_property
    def stages(self) -> pd.DataFrame:
        """One row per stage of a replica's life, see `Outcome.stages`, and its service."""
        return self._of_all("stages")

    @cached_property
    def decisions(self) -> pd.DataFrame:
        """One row per decision, see `Outcome.decisions`, and its service."""
        return self._of_all("decisions")

    @cached_property
    def updates(self) -> pd.DataFrame:
        """One row per rolling update and its service."""
        return self._of_all("updates")

    @cached_property
    def deaths(self) -> pd.DataFrame:
        """One row per death of a replica and its service."""
        return self._of_all("deaths")

    def series_of_counts(self) -> dict[str, np.ndarray]:
        """Series per window: at_s, arrivals and each ending of requests."""
        edges_s = self.run.edges_s
        return {"at_s": edges_s[:-1], **self._measured.per_window(len(edges_s) - 1)}

    @property
    def waits(self) -> None:
        """Requests that waited for a cold start: known of one service only."""

    @property
    def scaling(self) -> None:  # type: ignore[override]
        """What the scaling rule did: each of `services` has its own."""

    @property
    def usage(self) -> tuple[Used, ...]:
        """What was used, by hour of the clock, of all services: `Used.service` says whose it is."""
        return tuple(used._replace(service=name) for name, one in self._services.items() for used in one.usage)

    @cached_property
    def findings(self) -> tuple[Finding, ...]:
        """What is worth knowing: of the whole, then of each service, the most costly first."""
        from libramen.outcome.chain import system_findings

        return system_findings(self)

    # -- for machines, notebooks and eyes ----------------------------------------------------------

    def figures(self, *, routes: bool = True, events: bool = False) -> Any:
        """All that tables, findings, verdicts and JSON say of it; see `Outcome.figures`."""
        of_services = {name: one.figures(routes=False) for name, one in self._services.items()}
        return dataclasses.replace(
            super().figures(routes=routes, events=events), services=of_services, time_s=self.where.time_s
        )

    def _hosted_on(self) -> dict[str, Any]:
        return {"tier": None, "size": None}

    def plot(self, from_s: float | None = None, to_s: float | None = None) -> Any:
        """Requests, latency, and for each service its replicas, what is in progress and what waits."""
        return figure_of(self, from_s, to_s)


def summed(bills: dict[str, Bill]) -> Bill:
    """One bill of all services; each line says whose it is."""
    first = next(iter(bills.values()))
    lines = tuple(
        dataclasses.replace(line, item=f"{name}: {line.item}") for name, bill in bills.items() for line in bill.lines
    )
    return dataclasses.replace(first, lines=lines, used={})
