"""When each replica is in use, that is, has a request in a slot: for bills by use, and for replicas that become idle.

> A slot that is freed and taken again at one instant, by whomever, does not end a period; one that goes on at
> `span_s` is not rounded.

A slot that is freed and taken at one instant does not end a period of use, whoever takes it. So a period
that has ended is only counted when the next one begins later, or when it is asked for.
"""

from __future__ import annotations

import numpy as np

from libramen.base.times import EPSILON_S
from libramen.engine.kernel import reach


@reach.apart
def begin_use(f, replica, now_s):
    """A request takes a slot of a replica that had none in use."""
    row = reach.int_at(f.row_of, replica.number)
    use = reach.use_at(f.uses, row)
    if np.isnan(use.begin_s) or now_s - use.end_s > reach.tolerance_s(now_s):
        bill_use(f, row)
        use.begin_s = now_s
    use.end_s = np.inf


@reach.apart
def end_use(w, f, replica, now_s):
    """A replica has no slot in use any more."""
    use = reach.use_at(f.uses, reach.int_at(f.row_of, replica.number))
    use.end_s = now_s
    if use.tell:
        use.tell = 0
        reach.set_int(f.idled, f.n_idled, replica.number)
        f.n_idled += 1
        w.notice_s = now_s


@reach.apart
def bill_use(f, row):
    """Count the period of use that has ended, if there is one."""
    use = reach.use_at(f.uses, row)
    if np.isnan(use.begin_s):
        return
    lasted_s = use.end_s - use.begin_s
    if f.granularity_s > 0.0:
        lasted_s = np.ceil(lasted_s / f.granularity_s - EPSILON_S)
        f.lasted_s += use.end_s - use.begin_s
    f.billed += lasted_s
    use.begin_s = np.nan


@reach.apart
def forget_use(f, row, now_s):
    """A replica becomes ready, or is gone: what it was used for is over, and it is idle from now on."""
    bill_use(f, row)
    use = reach.use_at(f.uses, row)
    use.end_s = now_s
    use.tell = 0
