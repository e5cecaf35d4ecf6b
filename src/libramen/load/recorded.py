"""The fleet on which a log was recorded, run again: from work to latencies, or backwards from latencies to work."""

from __future__ import annotations

from typing import Any, Final, NamedTuple

import numpy as np

from libramen.engine import simulation
from libramen.engine.record import Run
from libramen.engine.simulation import DataPlaneName
from libramen.study.hosting import Hosting
from libramen.study.service import Service
from libramen.study.system import System
from libramen.trace.trace import Trace

_PASSES: Final = 8
_ENOUGH: Final = 2e-3
_LATE_S: Final = 1e-3


class Backwards(NamedTuple):
    """What a log means on the fleet that served it."""

    work_s: np.ndarray  # float64 (n,) [s], alone on a replica of this size: CPU work and wait together
    slot_at_s: np.ndarray  # float64 (n,) [s], when each got its slot
    late: np.ndarray  # bool (n,), got it, or its CPU turn, after it had left: stamps or the plan cannot be quite true


class Recorded:
    """The fleet on which a log was recorded.

    What the log shows has happened: nobody is refused, gives up or dies when it is run again, and requests are those
    that took a slot.

    Args:
        trace: the log, for its span and its start.
        service: how a replica works.
        plan: the plan on which it ran.
        data_plane: as in `replay`.
    """

    def __init__(
        self, trace: Trace, service: Service, hosting: Hosting, data_plane: DataPlaneName = "compiled"
    ) -> None:
        service = hosting.service_of(service)
        self.hosting = hosting.with_tiers(lambda tier: tier.replace(queue_limit=None)).replace(service={})
        self.service = service.replace(
            timeout=None, retries=0, backlog=None, drain=None, memory_base=0, memory_per_request=0
        )
        self._span_s, self._start, self._data_plane = trace.span_s, trace.start, data_plane

    def settle(self, at_s: np.ndarray, latency_s: np.ndarray, share: np.ndarray, seed: int) -> None:
        """Where a rule decides how many replicas there are, find out from the log when how many there were.

        From then on there are as many: work that is not found yet must not change the fleet with which it is looked
        for.
        """
        hosting = self.hosting
        if not hosting.scaling.decides:
            return
        # With the work as it then is: a rule that looks at cores in use must see them in use.
        _, run = self._backwards(at_s, latency_s, share, seed, hosting, _PASSES)
        listed = [(f"{at_s:.9f}s", n) for at_s, n in run.only.ready_steps() if at_s < self._span_s]
        still: dict[str, Any] = {"scaling": {"rule": "fixed"}, "rollouts": (), "faults": ()}
        anything = hosting.replace(**still).with_tiers(lambda tier: tier.replace(replicas={"least": 0}))
        self.hosting = anything.replace(replicas=listed)

    @property
    def slots(self) -> int:
        """Requests that the fleet at the start has in progress at most."""
        return self.service.slots * self.hosting.replicas_used

    @property
    def draws(self) -> bool:
        """Whether its balancer draws replicas, with numbers that nobody wrote down."""
        return self.hosting.balances.draws

    def _run(
        self,
        at_s: np.ndarray,
        cpu_s: np.ndarray,
        wait_s: np.ndarray,
        seed: int,
        *,
        hosting: Hosting,
        forced: bool = False,
    ) -> Run:
        # Not by `from_arrays`, which knows that a wait is not as long as an instant can be late.
        codes = np.zeros(len(at_s), np.int32)
        span_s = max(self._span_s, float(at_s[-1]))
        trace = Trace(at_s, cpu_s, wait_s, span_s, self._start, route_codes=codes, routes=("all",))
        return simulation.run(
            trace,
            System.of(self.service, hosting),
            seed=seed,
            data_plane=self._data_plane,
            window_s=span_s,
            forced=forced,
        )

    def forwards(
        self, at_s: np.ndarray, work_s: np.ndarray, share: np.ndarray, seed: int
    ) -> tuple[np.ndarray, np.ndarray]:
        """Latencies of requests with this work, and the numbers of the replicas that served them.

        Args:
            at_s: float64 (n,), arrivals [s], ascending.
            work_s: float64 (n,) [s].
            share: float64 (n,), of the work that is CPU work.
            seed: of a balancer that draws, and of cold starts.
        """
        run = self._run(
            at_s, share * work_s * self.hosting.size.speed, (1 - share) * work_s, seed, hosting=self.hosting
        )
        return run.kept.latency_s, run.kept.replica

    def backwards(
        self,
        at_s: np.ndarray,
        latency_s: np.ndarray,
        share: np.ndarray,
        seed: int,
        server: np.ndarray | None = None,
        passes: int = _PASSES,
    ) -> Backwards:
        """The work of requests that arrived and left so.

        The departures are forced as logged, so it is known at every instant who is in the system, and the work of a
        request is what it was given while it held its slot: its time there, less what sharing cores and waiting for a
        CPU turn took. How long sharing stretched its CPU work depends on when that of the others ended, so this is
        repeated until it stays.

        Args:
            at_s: float64 (n,), arrivals [s], ascending.
            latency_s: float64 (n,), with the overhead of the tier [s].
            share: float64 (n,), of the work that is CPU work.
            seed: of a balancer that draws.
            server: int (n,), which server answered each; None: as the balancer decides.
            passes: how often this is repeated at most.
        """
        if server is None:
            return self._backwards(at_s, latency_s, share, seed, self.hosting, passes)[0]
        # Each server by itself: whoever chose it, its requests took its slots in the order in which they came.
        still: dict[str, Any] = {"scaling": {"rule": "fixed"}, "rollouts": (), "faults": ()}
        any_number = self.hosting.replace(**still).with_tiers(lambda tier: tier.replace(replicas={"least": 1}))
        one = any_number.replace(replicas=1, balancer="round_robin")
        found = Backwards(np.zeros(len(at_s)), np.zeros(len(at_s)), np.zeros(len(at_s), bool))
        for number in np.unique(server).tolist():
            rows = np.flatnonzero(server == number)
            for whole, some in zip(
                found, self._backwards(at_s[rows], latency_s[rows], share[rows], seed, one, passes)[0], strict=True
            ):
                whole[rows] = some
        return found

    def _backwards(
        self, at_s: np.ndarray, latency_s: np.ndarray, share: np.ndarray, seed: int, hosting: Hosting, passes: int
    ) -> tuple[Backwards, Run]:
        speed, lone = hosting.size.speed, max(1.0, 1.0 / hosting.cores)
        leaves_s = np.maximum(at_s + latency_s - hosting.tier.overhead, at_s)
        stretch, delay = np.full(len(at_s), lone), np.ones(len(at_s))
        turn_share = share * stretch / (share * stretch + 1 - share)
        for number in range(passes):
            run = self._run(at_s, turn_share, leaves_s, seed, hosting=hosting, forced=True)
            slot_at_s = at_s + run.kept.queued_s
            from_s, to_s, got = run.turns.T
            from_s = np.where(np.isnan(from_s), slot_at_s, from_s)
            with np.errstate(invalid="ignore", divide="ignore"):
                took = (to_s - from_s) * speed / got
            stretch = np.where((to_s > from_s) & (got > 0), took, lone)
            delay = _delays(run, hosting, np.where(np.isnan(to_s), leaves_s, to_s))
            wanted = share * stretch / (share * stretch + (1 - share) * delay)
            change = float(np.abs(wanted - turn_share).mean())
            if change < _ENOUGH:
                break
            turn_share = 0.5 * (wanted + turn_share) if number else wanted
        in_slot_s = leaves_s - from_s
        work_s = np.maximum(0.0, in_slot_s) / (share * stretch + (1 - share) * delay)
        return Backwards(work_s, slot_at_s, in_slot_s < -_LATE_S), run


def _delays(run: Run, hosting: Hosting, begun_s: np.ndarray) -> np.ndarray:
    """By how much longer waits that began then were than they would have been: what they waited for was slow."""
    delay = np.ones(len(begun_s))
    for fault in run.only.faults:
        if fault.kind == "dependency" and fault.entry < len(hosting.faults):
            ends_s = np.inf if fault.lasts_s is None else fault.at_s + fault.lasts_s
            delay[(begun_s >= fault.at_s) & (begun_s < ends_s)] *= getattr(hosting.faults[fault.entry], "slower", 1.0)
    return delay
