"""Integrals over time. They advance at events only, so that a replay may be split anywhere without a change.

> `cpu`, `in_progress` and `waiting` are integrals over ready replicas divided by that of their number (`waiting`
> with the shared or held queue; a dead replica that is not yet detected counts as ready and has nothing);
"""

from __future__ import annotations

import numpy as np

from libramen.engine.kernel import reach


@reach.inner
def cores_in_use(f, level):
    """Cores in use in a group of replicas."""
    cores = level.below + f.fraction * level.above
    if f.lends:
        cores += f.fraction_steady * level.above_steady
    return cores


@reach.inner
def _integrate_level(f, level, passed_s):
    level.cpu_integral += passed_s * cores_in_use(f, level)
    level.in_slots_integral += passed_s * level.in_slots
    level.waiting_integral += passed_s * level.waiting
    if f.throttles:
        level.throttled_integral += passed_s * level.above_steady


@reach.inner
def _write_edges(w, f, now_s):
    """Write down the integrals at the edges that have been passed."""
    ready = reach.level_at(f.levels, 0)
    draining = reach.level_at(f.levels, 1)
    while now_s >= f.edge_s:
        passed_s = f.edge_s - f.now_s
        cores = cores_in_use(f, ready) + cores_in_use(f, draining)
        cpu_s = ready.cpu_integral + draining.cpu_integral
        in_slots_s = ready.in_slots_integral + draining.in_slots_integral
        waiting_s = ready.waiting_integral + draining.waiting_integral
        throttled_s = ready.throttled_integral + draining.throttled_integral
        reach.set_float(f.series, 4 * f.edge, cpu_s + passed_s * cores)
        reach.set_float(f.series, 4 * f.edge + 1, in_slots_s + passed_s * (ready.in_slots + draining.in_slots))
        reach.set_float(f.series, 4 * f.edge + 2, waiting_s + passed_s * (ready.waiting + draining.waiting))
        if f.throttles:
            throttled_s += passed_s * (ready.above_steady + draining.above_steady)
        reach.set_float(f.series, 4 * f.edge + 3, throttled_s)
        f.edge += 1
        f.edge_s = reach.float_at(w.edges_s, f.edge) if f.edge < w.n_edges else np.inf


@reach.inner
def integrate(w, f, now_s):
    """Bring the integrals of a fleet up to date, before a level changes."""
    if now_s >= f.edge_s:
        _write_edges(w, f, now_s)
    passed_s = now_s - f.now_s
    if passed_s > 0.0:
        _integrate_level(f, reach.level_at(f.levels, 0), passed_s)
        if reach.level_at(f.levels, 1).in_slots or reach.level_at(f.levels, 1).waiting:
            _integrate_level(f, reach.level_at(f.levels, 1), passed_s)
        f.now_s = now_s


@reach.inner
def count_turn(f, level, n, sign):
    """Count the cores in use when the n-th request begins to run on a replica (sign 1), or ends (-1)."""
    if n <= f.whole:
        level.below += sign
    elif n == f.whole + 1:
        level.above += sign


@reach.inner
def count_cores(f, level, n_running, empty, sign):
    """Count the cores in use by a replica where `n_running` requests run, or take them out (sign -1)."""
    if empty:
        level.below += sign * min(n_running, f.whole_steady)
        level.above_steady += sign if n_running > f.whole_steady else 0
    else:
        level.below += sign * min(n_running, f.whole)
        level.above += sign if n_running > f.whole else 0
