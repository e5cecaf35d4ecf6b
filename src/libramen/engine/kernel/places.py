"""Which region gets an attempt, and what becomes of one that a region turns away.

> A request goes to the nearest open region (smallest round trip; ties: as written) as its visitor last saw it: he
> looks at the instants (k + u) * `reroute`, and at the first of his requests; with `reroute` = 0 at every attempt.
>
> A call goes to the fleet of the callee in the caller's region, else to the nearest open one, at the time of the call.
>
> A region is open while it is not closed and the fleet there has a ready replica, or can order one on arrival, or
> its tier holds requests.
>
> `spill`: an attempt that would be refused goes on to the next nearest open region at once, never one that is lost.
> Refused everywhere, it counts for measures and bill in the first.
"""

from __future__ import annotations

import numpy as np

from libramen.engine.kernel import layout, lists, reach
from libramen.engine.kernel.clients import fail
from libramen.engine.kernel.connections import push
from libramen.engine.kernel.uniforms import uniforms

_ONE = np.int64(1)


@reach.seldom
def _is_open(w, f):
    """Whether a region takes attempts, as far as is known."""
    if f.closed:
        return False
    if f.n_ready or f.asks or f.holds:
        return True
    return f.other >= 0 and reach.fleet_at(w, f.other).n_ready > 0


@reach.seldom
def _open(w, first):
    """Which regions of a service are open, a bit each."""
    found = np.int64(0)
    for k in range(first.n_sites):
        if _is_open(w, reach.fleet_at(w, first.index + k)):
            found |= _ONE << np.int64(k)
    return found


@reach.seldom
def _nearest(w, first, origin, among):
    """The nearest of some regions, or of all where there are none."""
    chosen = first.index
    best = np.inf
    for k in range(first.n_sites):
        trip_s = reach.float_at(w.trips_s, origin * w.n_services + first.index + k)
        if (among == 0 or (among >> np.int64(k)) & _ONE) and trip_s < best:
            best = trip_s
            chosen = np.int64(first.index + k)
    return chosen


@reach.apart
def site_for(w, f, origin, visitor, index, now_s):
    """The fleet that gets the next attempt: of a visit, or of a request that is about to arrive (NOTHING).

    It is refused there where no region is open (`w.finds_none`).
    """
    first = reach.fleet_at(w, f.first_site)
    seen = _open(w, first)
    if first.reroute_s > 0.0 and (index < 0 or reach.visit_at(w, index).is_call == 0):
        seen = _as_seen(w, first, visitor, index, now_s, seen)
    w.finds_none = 1 if seen == 0 else 0
    return _nearest(w, first, origin, seen)


@reach.seldom
def _as_seen(w, first, visitor, index, now_s, seen_now):
    """The regions that whoever sends an attempt takes for open: as they were when he looked."""
    if visitor >= 0:
        looked_s = reach.float_at(first.looked_s, visitor)
        if np.isnan(looked_s):
            reach.set_float(first.looked_s, visitor, now_s)
            reach.set_int(first.seen, visitor, seen_now)
            return seen_now
        look_s = _look_s(w, first, visitor, _ONE, now_s)
        if look_s > looked_s:
            reach.set_float(first.looked_s, visitor, look_s)
            reach.set_int(first.seen, visitor, _seen_at(first, look_s, now_s, seen_now))
        return reach.int_at(first.seen, visitor)
    if index < 0:  # its first attempt, and nobody knows who he is
        return seen_now
    visit = reach.visit_at(w, index)
    look_s = _look_s(w, first, visit.id, np.int64(0), now_s)
    if look_s > visit.looked_s:
        visit.looked_s = look_s
        visit.seen = _seen_at(first, look_s, now_s, seen_now)
    return visit.seen


@reach.seldom
def _look_s(w, first, who, is_visitor, now_s):
    """When he looked last [s]."""
    u, _ = uniforms(w.look_key, who, is_visitor, np.int64(0))
    return (np.floor(now_s / first.reroute_s - u) + u) * first.reroute_s


@reach.seldom
def _seen_at(first, look_s, now_s, seen_now):
    """Which regions were open when an instant was over."""
    if now_s - look_s < reach.tolerance_s(now_s):
        return seen_now
    at = first.n_changes - 1
    limit_s = look_s + reach.tolerance_s(look_s)
    while at >= 0 and reach.float_at(first.changes_s, at) >= limit_s:
        at -= 1
    return reach.int_at(first.changes, at) if at >= 0 else np.int64(0)


@reach.seldom
def begin_place(w, f, index, origin, now_s):
    """A request or a call comes from somewhere."""
    visit = reach.visit_at(w, index)
    visit.origin = origin
    visit.turned = -1
    visit.away = 0
    visit.trip_s = 0.0
    first = reach.fleet_at(w, f.first_site)
    if first.reroute_s > 0.0:
        visit.looked_s = now_s
        visit.seen = _open(w, first)


@reach.seldom
def forget_turned(w, index):
    """Another attempt: nobody has turned it away."""
    visit = reach.visit_at(w, index)
    visit.turned = -1
    visit.away = 0


@reach.inner
def enter(w, f, index, now_s):
    """An attempt has come to a region. Returns whether it is let in; else its end is known, or it hears nothing."""
    visit = reach.visit_at(w, index)
    visit.silent = 0
    visit.trip_s = reach.float_at(w.ways_s, visit.origin * w.n_services + f.service)
    if w.finds_none:
        refuse(w, f, index, layout.NO_REPLICA, now_s)
        return False
    if f.lost:
        _lose(w, f, index, now_s)
        return False
    return True


@reach.seldom
def _lose(w, f, index, now_s):
    """An attempt is sent to a region that is lost: it is too, or hears nothing, and ends by its time-out."""
    visit = reach.visit_at(w, index)
    for_ever = reach.client_at(w.clients, visit.client).timeout_s == np.inf
    if f.lost == layout.AT_ONCE or (for_ever and f.closed):  # it is found already
        fail(w, f, index, layout.LOST, layout.NO_REPLICA, now_s)
    elif for_ever:
        lists.to_quiet(w, f, index)
    elif visit.watched:
        visit.silent = 1
    else:
        fail(w, f, index, layout.TIMED_OUT, layout.NO_REPLICA, now_s)


@reach.apart
def find_silent(w, now_s):
    """It is known that the struck fleets are lost: what has heard nothing is lost now, in order of arrival."""
    while True:
        chosen = lists.first_silent(w)
        if chosen < 0:
            break
        f = reach.fleet_at(w, chosen)
        fail(w, f, lists.from_quiet(w, f), layout.LOST, layout.NO_REPLICA, now_s)
    for k in range(w.n_fleets):
        reach.fleet_at(w, k).struck = 0


@reach.apart
def refuse(w, f, index, number, now_s):
    """A fleet turns an attempt away: the next region gets it within this event, or it is refused."""
    if w.places:
        visit = reach.visit_at(w, index)
        if f.spills:
            first = reach.fleet_at(w, f.first_site)
            visit.away |= _ONE << np.int64(f.index - f.first_site)
            among = _open(w, first) & ~visit.away
            for k in range(first.n_sites):
                if reach.fleet_at(w, first.index + k).lost:
                    among &= ~(_ONE << np.int64(k))
            if among:
                _count(f, visit, layout.LESS)
                if visit.turned < 0:
                    visit.turned = f.index
                visit.fleet = _nearest(w, first, visit.origin, among)
                visit.phase = layout.PASSED_ON
                push(w, index)
                return
        if visit.turned >= 0:  # by all: it counts at the first
            _count(f, visit, layout.LESS)
            visit.fleet = visit.turned
            f = reach.fleet_at(w, visit.turned)
            _count(f, visit, layout.MORE)
            number = layout.NO_REPLICA
    fail(w, f, index, layout.REFUSED, number, now_s)


@reach.seldom
def _count(f, visit, change):
    f.attempts += change
    if f.counts and visit.is_call:
        f.n_called += change
