"""The outcome of a replay for one of its services: its fleet, and the visits to it."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property

import numpy as np

from libramen.base import heavy
from libramen.bill.bill import Bill
from libramen.bill.usage import Usage, Used
from libramen.engine.record import ServiceRun
from libramen.engine.replica import Death
from libramen.outcome import measures
from libramen.outcome.figures import Figures
from libramen.outcome.findings import Finding
from libramen.outcome.measured import Measured
from libramen.outcome.measures import Asked, Measures
from libramen.outcome.of_requests import OfRequests
from libramen.outcome.scaling import Scaling
from libramen.outcome.waits import ColdWaits
from libramen.study.system import Hosted


class ServiceOutcome(OfRequests):
    """What came of one service: of its fleet, and of the visits to it, which of the only service are the requests.

    What is said of requests in `Outcome` is said of visits here.

    Attributes:
        name, service, hosting: of it, as its plan hosts it; label: its name where there are others, else None.
        run: the record of its fleet.
        bill: the `Bill` of a month of it: its share of every line.
        used: what was used, of a mixed fleet by the names of its entries; `usage`: by hour of the clock.
        tier, size: names of what it runs on.
        utilisation: cores in use over cores there, None: there were none.
        replicas_min, replicas_mean, replicas_max: ready replicas; `replicas_peak`: also those on their way.
        cold_starts: replicas that were ordered and became ready within the trace.
        paid_s: replica-seconds that are paid for.
        fleet, stages, decisions, updates, deaths: pandas frames.
    """

    def __init__(
        self,
        hosted: Hosted,
        run: ServiceRun,
        measured: Measured,
        whole: Measures,
        bill: Bill,
        asked: Asked,
        seed: int,
        month: Measures,
        scale: float,
        usage: Mapping[str, Usage],
    ) -> None:
        super().__init__(run, measured, whole, bill, asked, seed, month, scale)
        self.used = usage
        self.name, self.service, self.hosting, self.label = hosted.name, hosted.service, hosted.hosting, hosted.label
        self.region, self.of = hosted.region, hosted.of
        self.tier, self.size = self.hosting.tier_name, self.hosting.size_name
        self.run, self.time_s = run, whole.time_s
        self.utilisation = measures.utilisation(run, self.hosting.size.cores, self.hosting.reserved_cores)
        ready = measures.stage_steps(run, "ready")
        self.replicas_min, self.replicas_max = ready.extremes()
        span = np.array([0.0, run.span_s])
        self.replicas_mean = float(ready.mean(span)[0])
        self.replicas_peak = run.peak
        self.cold_starts = measures.cold_starts(run)
        self.paid_s = float(measures.paid_steps(run, self.hosting).mean(span)[0]) * run.span_s

    @property
    def died(self) -> tuple[Death, ...]:
        """Deaths of its replicas."""
        return tuple(self.run.deaths)

    @property
    def usage(self) -> tuple[Used, ...]:
        """What was used, by hour of the clock: what the bill is made of."""
        return tuple(
            row if share == self.name else row._replace(service=share)
            for share, one in self.used.items()
            for row in one.rows
        )

    @property
    def slots_taken(self) -> float | None:
        """Share of the slots of ready replicas that were taken, None: there were none."""
        there = self.replicas_mean * self.span_s * self.service.slots
        return float(self.run.integrals[-1, 1]) / there if there else None

    @cached_property
    def _counts(self) -> dict[str, np.ndarray]:  # type: ignore[override]
        edges = self.run.edges_s
        width, n = np.diff(edges), len(edges) - 1
        cpu, in_progress, waiting, throttled = np.diff(self.run.integrals, axis=0).T
        cores, reserved = self.hosting.size.cores, self.hosting.reserved_cores
        there_s = measures.stage_steps(self.run, "ready", "draining").mean(edges) * width
        per_replica = np.divide(cpu, there_s, out=np.full(n, np.nan), where=there_s * cores > 1e-9)
        return {
            **self.counts(),
            "in_progress": in_progress / width,
            "waiting": waiting / width,
            "bank_empty": throttled / width,
            "ready": measures.stage_steps(self.run, "ready").mean(edges),
            "coming": measures.stage_steps(self.run, "coming").mean(edges),
            "paid": measures.paid_steps(self.run, self.hosting).mean(edges),
            "utilisation": np.minimum(1.0, (per_replica + reserved) / cores),
        }

    @cached_property
    def fleet(self) -> heavy.DataFrame:
        """One row per replica: its life in seconds from the start, and what came of it.

        Columns: number, zone, of a mixed fleet tier, version; why it was ordered (start, scaling, update) and by which
        decision (its number in `decisions`, from 0); ordered_s (it is booting), started_s (its process starts), ready_s
        (for the first time), draining_s, gone_s, NaN where that never was; why_gone (scaling, idle, update, reclaim,
        zone_loss) and ended_by, the decision that took it away; deaths; served (requests answered ok); core_s (cores in
        use by requests) and paid_s, up to the end of the span. `stages` has all that it went through.
        """
        from libramen.outcome.tables import fleet

        return fleet(self.run, self.hosting, self._measured.served(len(self.run.replicas)))

    @cached_property
    def stages(self) -> heavy.DataFrame:
        """One row per stage of a replica's life: number, stage, from_s, to_s (infinity: it lasts).

        Stages: booting, starting, ready, down (dead, also while the balancer does not know it), draining.
        """
        from libramen.outcome.tables import stages

        return stages(self.run)

    @cached_property
    def decisions(self) -> heavy.DataFrame:
        """One row per decision of the scaling rule, in order: when, what it saw, and what came of it.

        Columns: at_s, and `time`, local where it is known; measure and what was measured from window_from_s to
        window_to_s (NaN: nothing); ready and coming before it acted; floor and ceiling then (NA: none); wanted by the
        rule;
        held_by, what kept it from wanting or getting another number: dead_band, no band, no measure, step_up,
        step_down, floor, ceiling, tier_least, tier_most, account, pause_up, pause_down, down_after, update; ordered,
        cancelled, drained; came_s, when the last replica that it ordered was ready (NaN: none was). Of `on_arrival`
        those that ordered or drained, and the first of each time that it was held back.
        """
        from libramen.outcome.tables import decisions

        return self._with_time(decisions(self.run, self.scaling.came_s))

    @cached_property
    def updates(self) -> heavy.DataFrame:
        """One row per rolling update; `mixed_s`: for how long two versions were in use."""
        from libramen.outcome.tables import updates

        return updates(self.run)

    @cached_property
    def deaths(self) -> heavy.DataFrame:
        """One row per death of a replica: at_s, replica, why."""
        from libramen.outcome.tables import deaths

        return deaths(self.run)

    @cached_property
    def scaling(self) -> Scaling:
        """What the scaling rule did, in figures."""
        from libramen.outcome.scaling import Scaling

        return Scaling(self)

    @cached_property
    def waits(self) -> ColdWaits | None:
        """Requests that waited for a cold start; None: requests were not kept."""
        return self._measured.cold_waits(self.run)

    @cached_property
    def findings(self) -> tuple[Finding, ...]:
        """What is worth knowing of this service, the most costly first."""
        from libramen.outcome.findings import find_in_service

        return find_in_service(self)

    def figures(self) -> Figures:
        """All that tables and JSON say of it, as a small record of plain values."""
        from libramen.outcome.figures import figures_of_service

        return figures_of_service(self)

    def __repr__(self) -> str:
        return f"ServiceOutcome({self.name!r}, visits={self.n_requests}, month={self.bill.month})"
