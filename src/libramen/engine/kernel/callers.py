"""Visits that call other services: what they send, what they wait for, and how they go on.

> A visit does its CPU work in its slot, then its calls in the order of the table, then what is left of its wait,
> then it is answered. It holds its slot all the while, and no CPU turn while it calls or waits.
>
> The visit goes on when the last that it waits for has ended.
>
> When an event is over (freed slots and connections handed on, held visits handed out) callers hear of ends, first
> come first served; of several visits lost at once in the order of their arrival.
>
> **Failure**: a call that has failed, its retries included, fails its visit, which is then **errored**, unless
> `if_it_fails = "go_on"`.

All of it happens within an event. `w.stack` has what still goes on in it, the latest first: what a call sets off is
over before the visit that made it goes on.
"""

from __future__ import annotations

import numpy as np

from libramen.engine.kernel import layout, lists, reach, settings
from libramen.engine.kernel.balancer import asks, first_side, lacks_slot
from libramen.engine.kernel.clients import answer, errored, free, spend, take
from libramen.engine.kernel.connections import abandon, connect, forget_unsent, hand_on, heard, leave_queue, push
from libramen.engine.kernel.integrals import integrate
from libramen.engine.kernel.places import begin_place, site_for
from libramen.engine.kernel.service import end_calls, leave_slot, start_wait
from libramen.engine.kernel.trees import update_row
from libramen.engine.kernel.uniforms import lineage_of, uniforms


@reach.apart
def next_step(w, now_s):
    """The next step of this event. Returns a call that is to be sent now; NOTHING; or ASK, and changes nothing then."""
    index = reach.int_at(w.stack, w.n_stack - 1)
    visit = reach.visit_at(w, index)
    if w.places and visit.phase == layout.PASSED_ON:
        if _asks_again(w, reach.fleet_at(w, visit.fleet)):
            return layout.ASK
        w.n_stack -= 1
        w.finds_none = 0
        visit.phase = layout.UNDER_WAY
        return index
    if visit.phase == layout.TO_SEND:
        f = first_side(w, reach.fleet_at(w, visit.fleet))
        if w.places:
            visit.fleet = site_for(w, f, visit.origin, visit.visitor, index, now_s)
            f = reach.fleet_at(w, visit.fleet)
        if asks(w, f):
            return layout.ASK
        w.n_stack -= 1
        visit.phase = layout.UNDER_WAY
        visit.first_s = now_s
        return index
    if visit.phase == layout.HEARD:
        w.n_stack -= 1
        _caller_goes_on(w, index, now_s)
        return layout.NOTHING
    _go_on(w, index, visit, now_s)
    return layout.NOTHING


@reach.seldom
def _asks_again(w, f):
    """Whether the control plane is to be asked for a slot for an attempt that another region has turned away."""
    if f.asks and not w.spill_asked and lacks_slot(w, f):
        w.spill_asked = 1
        f.asks_now = 1
        return True
    w.spill_asked = 0
    return False


@reach.seldom
def _go_on(w, index, visit, now_s):
    """A visit makes its next call, waits for those that it has made, or has made all of them."""
    f = reach.fleet_at(w, visit.fleet)
    while visit.step < f.n_calls:
        client = reach.client_at(w.clients, f.first_call + visit.step)
        if visit.pending and not (client.at_once and client.group == visit.group):
            w.n_stack -= 1
            return
        if visit.nth == 0 and not _is_made(w, visit, client):
            visit.step += 1
            continue
        nth = visit.nth
        visit.nth += 1
        if visit.nth == client.times:
            visit.step += 1
            visit.nth = 0
        visit.group = client.group
        _make(w, f, index, visit, client, nth, now_s)
        return
    w.n_stack -= 1
    if visit.pending == 0:
        replica = reach.replica_at(f, visit.row)
        end_calls(w, replica, index)
        if visit.made or visit.left_s > 0.0 or visit.cpu_s == 0.0:
            start_wait(w, f, replica, index, now_s)
            update_row(w, f, replica, visit.row)
        else:
            _leave(w, f, replica, visit.row, index, layout.OK, now_s)


@reach.seldom
def _is_made(w, visit, client):
    """Whether this visit makes that call: not for requests of another route, nor where a draw says so."""
    if w.codes and not reach.int_at(w.applies, client.number * w.n_routes + visit.route):
        return False
    if client.share < 1.0:
        u, _ = uniforms(w.share_key, visit.id, lineage_of(visit), visit.place + client.place)
        return u < client.share
    if client.source == settings.OF_WAIT:
        visit.left_s -= client.of_wait * visit.wait_s
        if visit.left_s < 1e-12 * visit.wait_s:
            visit.left_s = 0.0  # all of it: what is left is a rounding error
    return True


@reach.seldom
def _make(w, f, index, visit, client, nth, now_s):
    """A call is made: it is sent as soon as it has a connection."""
    call_index = take(w)
    call = reach.visit_at(w, call_index)
    w.n_open += 1
    call.id = visit.id
    call.route = visit.route
    call.visitor = visit.visitor
    call.bytes_out = 0.0
    call.fleet = client.fleet
    call.client = client.number
    call.is_call = 1
    call.place = visit.place + client.place + nth * client.places_each
    call.lineage = lineage_of(visit)
    call.attempt = 0
    call.watched = 0
    call.given_up = 0
    call.caller = -1
    call.pool_row = -1
    call.calls_head = -1
    call.phase = layout.TO_SEND
    for column in range(w.columns):
        reach.set_float(w.given, w.columns * call_index + column, reach.float_at(w.given, w.columns * index + column))
    if w.places:
        begin_place(w, reach.fleet_at(w, client.fleet), call_index, f.origin, now_s)
    _work(w, index, visit, client, call)
    if client.awaited:
        if visit.pending == 0:
            visit.group_s = now_s
        visit.pending += 1
        visit.made = 1
        call.caller = index
        lists.to_calls(w, visit, call_index)
    if client.pool >= 0:
        connect(w, f, client, call_index, visit.row, now_s)
    else:
        push(w, call_index)


@reach.seldom
def _work(w, index, visit, client, call):
    """How much work a call is."""
    call.cpu_s = 0.0
    call.wait_s = 0.0
    if client.source == settings.OF_WAIT or client.source == settings.COLUMN:
        work_s = client.of_wait * visit.wait_s
        if client.source == settings.COLUMN:
            work_s = reach.float_at(w.given, w.columns * index + client.column)
        call.cpu_s = client.cpu_factor * (work_s / client.times)
        call.wait_s = client.wait_factor * (work_s / client.times)
    elif client.source == settings.DRAWN:
        call.cpu_s = client.cpu_median_s
        call.wait_s = client.wait_median_s
        if client.cpu_sigma > 0.0 or client.wait_sigma > 0.0:
            # Two independent standard normals of two uniforms: Box and Muller 1958.
            u, v = uniforms(w.call_key, call.id, call.lineage, call.place)
            radius = np.sqrt(-2.0 * np.log(1.0 - u))
            call.cpu_s *= np.exp(client.cpu_sigma * radius * np.cos(2.0 * np.pi * v))
            call.wait_s *= np.exp(client.wait_sigma * radius * np.sin(2.0 * np.pi * v))


# -- what callers hear -----------------------------------------------------------------------------


@reach.apart
def hear_next(w):
    """The caller of the call that ended first hears of it: its connection is handed on, then the caller goes on."""
    index = lists.from_news(w, w)
    call = reach.visit_at(w, index)
    call.phase = layout.HEARD
    push(w, index)
    if call.caller >= 0 and _fails_caller(w, call):
        forget_unsent(w, call.caller)  # its connection is not for a sibling
    hand_on(w, index)


@reach.inner
def _fails_caller(w, call):
    return call.ending != layout.OK and not reach.client_at(w.clients, call.client).goes_on


@reach.seldom
def _caller_goes_on(w, index, now_s):
    call = reach.visit_at(w, index)
    if call.caller < 0:
        free(w, index)
        return
    caller_index = heard(w, index)
    caller = reach.visit_at(w, caller_index)
    caller.pending -= 1
    if _fails_caller(w, call):
        free(w, index)
        _fail_visit(w, caller_index, now_s)
        return
    if caller.pending == 0:
        caller.called_s += now_s - caller.group_s
        caller.connecting_s += call.first_s - caller.group_s
        if w.parts:
            _take_over(w, caller_index, index, now_s)
        push(w, caller_index)
    free(w, index)


@reach.seldom
def _take_over(w, to, index, now_s):
    """Where the time of a call went is where that of its caller went, too."""
    call = reach.visit_at(w, index)
    f = reach.fleet_at(w, call.fleet)
    if call.ending != layout.OK:
        spend(w, w.parts * to + f.part + layout.RETRIED, now_s - call.first_s)
        return
    for part in range(f.part, f.parts_end):
        spend(w, w.parts * to + part, reach.float_at(w.spent, w.parts * index + part))


@reach.seldom
def _fail_visit(w, index, now_s):
    """A call of this visit has failed, and so has the visit: its slot is free."""
    visit = reach.visit_at(w, index)
    f = reach.fleet_at(w, visit.fleet)
    replica = reach.replica_at(f, visit.row)
    abandon(w, index)
    end_calls(w, replica, index)
    _leave(w, f, replica, visit.row, index, layout.ERRORED, now_s)


@reach.apart
def _leave(w, f, replica, row, index, ending, now_s):
    """A visit is answered, well or not, and leaves its slot."""
    integrate(w, f, now_s)
    if ending == layout.OK:
        answer(w, f, index, replica.number, now_s)
    else:
        errored(w, f, index, replica.number, now_s)
    leave_slot(w, f, replica, row, now_s)


@reach.apart
def wait_no_longer(w, index, now_s):
    """A call has waited too long for a connection: it has failed, and was no visit."""
    call = reach.visit_at(w, index)
    client = reach.client_at(w.clients, call.client)
    reach.fleet_at(w, client.caller).unsent += 1
    leave_queue(w, reach.fleet_at(w, call.pool_fleet), client, index)
    w.event_s = now_s
    w.n_open -= 1
    call.ending = layout.TIMED_OUT
    call.first_s = now_s
    call.link = -1
    call.phase = layout.HEARD
    push(w, index)
