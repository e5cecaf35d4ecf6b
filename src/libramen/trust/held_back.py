"""What is predicted of a part of a log from the rest of it."""

from __future__ import annotations

from typing import Final, NamedTuple

import numpy as np

from libramen.base.errors import TraceError
from libramen.base.streams import stream
from libramen.engine import simulation
from libramen.load.instants import in_system
from libramen.study.study import Study
from libramen.trace.trace import Trace
from libramen.trust.compared import FEW, Compared, answered, as_stamped, percentiles

LONG_S: Final = 4 * 3600.0
"""A log at least so long is cut into hours, a shorter one into eighths."""
_BLOCKS: Final = 8
_DRAWS: Final = 5
_BUSIEST: Final = 0.1


class Regimes(NamedTuple):
    """What was predicted of those whose own latencies were not used.

    Attributes:
        held_back: of every other block of the log, from the others.
        parts: how the log itself differs between the two.
        busiest: of its busiest tenth, from the quieter half.
        more_load: requests a second there over those in the quieter half; 0: nothing was predicted.
    """

    held_back: tuple[Compared, ...]
    parts: tuple[Compared, ...]
    busiest: tuple[Compared, ...]
    more_load: float


def regimes(study: Study, log: Trace, seed: int) -> Regimes:
    """Hold back every other block of a log, then all but its quieter half.

    The first says how far the work carries over; the second what capacity planning needs: whether it carries over to
    more load than it was found at.

    Args:
        study: without shaping.
        log: as it was found, without an estimate.
        seed: random seed.
    """
    assert log.latency_s is not None
    logged_s = np.where(answered(log), log.latency_s, np.nan)
    block = _blocks(log, logged_s)
    held = block % 2 == 0
    held_back: tuple[Compared, ...] = ()
    parts: tuple[Compared, ...] = ()
    if min(np.count_nonzero(held), np.count_nonzero(~held)) >= 10 * FEW:
        [replayed_s] = _predicted(study, log, ~held, seed, 1)
        held_back = tuple(percentiles("all", logged_s[held], replayed_s[held]))
        parts = tuple(percentiles("all", logged_s[held], logged_s[~held]))
    quiet, busiest, more_load = _quiet_and_busiest(log, block)
    if min(np.count_nonzero(quiet), np.count_nonzero(busiest)) < 10 * FEW:
        return Regimes(held_back, parts, (), 0.0)
    try:
        replays = _predicted(study, log, quiet, seed, _DRAWS)
    except TraceError:  # the quieter half is too little to find any work in
        return Regimes(held_back, parts, (), 0.0)
    return Regimes(held_back, parts, _middle(logged_s[busiest], [one[busiest] for one in replays]), more_load)


def _predicted(study: Study, log: Trace, used: np.ndarray, seed: int, draws: int) -> list[np.ndarray]:
    """Latencies on the recorded plan, NaN: it failed there; whoever is not used has the work of another of its route.

    Args:
        study: without shaping.
        log: as it was found.
        used: bool (n,), in whose latencies the work is found.
        seed: random seed.
        draws: so many times whose work it is, is drawn.
    """
    name = study.trace_table.recorded_on
    assert name is not None
    rows, rest = np.flatnonzero(used), np.flatnonzero(~used)
    part = study.estimated(log.take(rows), seed=seed)
    # Drawn in the order of the lines, arrivals within a second are burstier than those of many visitors are.
    at_s = np.concatenate([part.at_s, np.minimum(as_stamped(log, seed)[rest], log.span_s)])
    order = np.argsort(at_s, kind="stable")
    whole = log.take(np.concatenate([rows, rest])[order], at_s=at_s[order])
    pools = [np.flatnonzero(part.route_codes == code) for code in range(len(log.routes))]
    system, found = study.system(name), []
    for number in range(draws):
        drawn = stream(seed, "backtest", 0 if not number else 10 + number).random(len(rest))
        cpu_s, wait_s = np.zeros(len(rest)), np.zeros(len(rest))
        for code, pool in enumerate(pools):
            mine = np.flatnonzero(log.route_codes[rest] == code)
            some = pool if len(pool) else np.arange(len(part))
            taken = some[(drawn[mine] * len(some)).astype(np.int64)]
            cpu_s[mine], wait_s[mine] = part.cpu_s[taken], part.wait_s[taken]
        told = whole.with_demand(
            np.concatenate([part.cpu_s, cpu_s])[order],
            np.concatenate([part.wait_s, wait_s])[order],
            demand="given",
            notes=(),
        )
        results = simulation.run(told, system, seed=seed + number).kept
        latency_s = np.empty(len(log))
        # What was found in a part is in the order of its times, which may differ by parts of a second.
        latency_s[np.concatenate([rows, rest])[order]] = np.where(results.ending == 0, results.latency_s, np.nan)
        found.append(latency_s)
    return found


def _middle(logged_s: np.ndarray, replays: list[np.ndarray]) -> tuple[Compared, ...]:
    """The percentiles of some replays, of each percentile the middle one."""
    each = [tuple(percentiles("all", logged_s, replayed_s)) for replayed_s in replays]
    if not all(each):
        return ()
    return tuple(sorted(same, key=lambda one: one.replayed_s)[len(same) // 2] for same in zip(*each, strict=True))


def _blocks(trace: Trace, logged_s: np.ndarray) -> np.ndarray:
    """The number of the block of each request: int64 (n,).

    A block ends where few requests are in progress, so that what waited at its end is not taken for work of the next.
    """
    length_s, first_s = 3600.0, -trace.into_hour_s
    if trace.span_s < LONG_S:
        length_s, first_s = trace.span_s / _BLOCKS, 0.0
    in_progress = in_system(trace.at_s, np.nan_to_num(logged_s))
    edges_s = []
    for nominal_s in np.arange(first_s + length_s, trace.span_s, length_s).tolist():
        low, high = np.searchsorted(trace.at_s, [nominal_s - length_s / 8, nominal_s + length_s / 8])
        edges_s.append(float(trace.at_s[low + np.argmin(in_progress[low:high])]) if high > low else nominal_s)
    found: np.ndarray = np.searchsorted(edges_s, trace.at_s, side="right")
    return found


def _quiet_and_busiest(trace: Trace, block: np.ndarray) -> tuple[np.ndarray, np.ndarray, float]:
    """Who came in the quieter half of the blocks, who in the busiest tenth; and how much more load that has."""
    number, first, count = np.unique(block, return_index=True, return_counts=True)
    begin_s = trace.at_s[first]
    lasts_s = np.maximum(np.diff([*begin_s, max(trace.span_s, float(trace.at_s[-1]))]), 1.0)
    order = number[np.argsort(count / lasts_s, kind="stable")]
    quiet = np.isin(block, order[: len(order) // 2])
    busiest = np.isin(block, order[-max(1, round(_BUSIEST * len(order))) :])
    if not quiet.any() or np.any(quiet & busiest):
        return np.zeros(len(block), bool), busiest, 0.0
    rates = [
        count[np.isin(number, block[rows])].sum() / lasts_s[np.isin(number, block[rows])].sum()
        for rows in (quiet, busiest)
    ]
    return quiet, busiest, float(rates[1] / rates[0])
