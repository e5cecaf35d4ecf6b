"""What a client sees, be it a user or a visit that calls: answers, failures, time-outs, attempts that are repeated.

> `overhead` is added to the latency of an answer and counts towards the time-out.
>
> An answer later than `timeout` is a **timed out** request of latency `timeout`.
>
> `retries`: a request that failed in any way is sent again, `retry_after` after the client knew, then after twice
> as long, and so on; each pause times `1 + retry_jitter * u`, u uniform in [-1, 1).
>
> A client that gave up leaves its old attempt in the server, where it goes on being worked on; no client waits for
> it.
>
> Only the last attempt counts: `attempts` is how many there were, `latency_s` runs from the first one.
>
> An answer, ok or errored, reaches its caller the callee's `overhead` later: that is a completion, in the order of
> the callee's visit, also without overhead.
"""

from __future__ import annotations

import numpy as np

from libramen.engine.kernel import layout, lists, reach
from libramen.engine.kernel.heaps import heap_remove, heap_up, turn_out, turn_up
from libramen.engine.kernel.trees import replay_time, tell_due
from libramen.engine.kernel.uniforms import lineage_of, uniforms


@reach.inner
def ask_for_room(w):
    """Something is full: there must be more of it before this event goes on."""
    w.attention = 1
    w.full = 1


@reach.inner
def take(w):
    """A free entry of `visits`."""
    index = w.free
    w.free = reach.visit_at(w, index).link
    return index


@reach.inner
def free(w, index):
    """Give an entry of `visits` back."""
    reach.visit_at(w, index).link = w.free
    w.free = index


@reach.inner
def plan(w, visit):
    """It waits for something from now on, behind all that do already."""
    visit.planned = w.planned
    w.planned += 1


@reach.apart
def let_go(w, index):
    """A visit that nobody waits for is over."""
    if w.calls:
        w.n_open -= 1  # it was still served, and might have called others
    free(w, index)


@reach.inner
def _first_s(visit):
    """When the first attempt of a visit arrived [s]."""
    return visit.at_s if visit.attempt == 1 else visit.first_s


# -- how visits end --------------------------------------------------------------------------------


@reach.inner
def _way_s(w, f, visit):
    """How long an answer is on its way: the tier's overhead, and round trips [s]."""
    return f.overhead_s + visit.trip_s if w.places else f.overhead_s


@reach.inner
def end(w, f, index, latency_s, ending, number, now_s):
    """Write down how a visit ended."""
    visit = reach.visit_at(w, index)
    slot_at_s = now_s if np.isnan(visit.slot_at_s) else visit.slot_at_s
    queued_s = max(0.0, slot_at_s - visit.at_s)
    before_s = visit.at_s - _first_s(visit)
    if w.keeps and not visit.is_call:
        record = reach.result_at(w.out, visit.id)
        record.latency_s = latency_s
        record.queued_s = queued_s
        record.before_s = before_s
        record.replica = number
        record.ending = ending
        record.attempts = visit.attempt
        record.server = f.service
    if w.tallies:
        more = reach.ended_at(w.ended, w.n_ended)
        more.latency_s = latency_s
        more.queued_s = queued_s
        more.before_s = before_s
        more.at_s = _first_s(visit)
        more.cpu_s = visit.cpu_s
        more.wait_s = visit.left_s if f.n_calls and ending == layout.OK else visit.wait_s
        more.bytes_out = visit.bytes_out
        more.called_s = visit.called_s if ending == layout.OK else 0.0
        more.connecting_s = visit.connecting_s if ending == layout.OK else 0.0
        more.trip_s = visit.trip_s if w.places and (ending == layout.OK or ending == layout.ERRORED) else 0.0
        more.area = visit.origin if w.places else 0
        more.id = visit.id
        more.replica = number
        more.route = visit.route
        more.server = f.service
        more.call = visit.client
        more.ending = ending
        more.attempts = visit.attempt
        w.n_ended += 1
        if w.n_ended >= w.ended_full:
            ask_for_room(w)
    w.n_open -= 1


@reach.apart
def _add_up(w, f, index, overhead_s, now_s):
    """Where the time of an attempt went that was answered ok; the time of its calls is there already."""
    visit = reach.visit_at(w, index)
    own = w.parts * index + f.part
    spend(w, own + layout.RETRIED, visit.at_s - _first_s(visit))
    queued_s = max(0.0, visit.slot_at_s - visit.at_s)
    spend(w, own + layout.QUEUED, queued_s)
    cpu_s = visit.cpu_s / f.alone
    own_wait_s = visit.left_s if f.n_calls else visit.wait_s
    spend(w, own + layout.CPU, cpu_s)
    spend(w, own + layout.SLOWED, max(0.0, now_s - visit.at_s) - queued_s - cpu_s - own_wait_s - visit.called_s)
    spend(w, own + layout.CONNECTING, visit.connecting_s)
    spend(w, own + layout.OWN_WAIT, own_wait_s)
    spend(w, own + layout.OVERHEAD, overhead_s)
    if not visit.is_call:
        for part in range(f.part, f.parts_end):
            reach.set_float(w.out_spent, w.parts * visit.id + part, reach.float_at(w.spent, w.parts * index + part))


@reach.inner
def spend(w, at, time_s):
    """So much more time of a visit went to a part of it."""
    reach.set_float(w.spent, at, reach.float_at(w.spent, at) + time_s)


@reach.inner
def answer(w, f, index, number, now_s):
    """A visit has been served. Its client may have given up long before."""
    visit = reach.visit_at(w, index)
    if visit.given_up:
        let_go(w, index)
        return
    if f.judges:
        _note_answer(w, f, visit, layout.OK, now_s)
    if visit.is_call:
        send_answer(w, f, index, layout.OK, number, now_s)
        return
    way_s = _way_s(w, f, visit)
    if max(0.0, now_s - visit.at_s) + way_s > f.timeout_s + reach.tolerance_s(now_s):
        fail(w, f, index, layout.TIMED_OUT, number, now_s)
        return
    if visit.watched:
        unwatch(w, reach.client_at(w.clients, visit.client), index)
    latency_s = max(0.0, now_s - _first_s(visit)) + way_s
    _log(w, f, visit, now_s)
    if w.parts:
        _add_up(w, f, index, way_s, now_s)
    end(w, f, index, latency_s, layout.OK, number, now_s)
    free(w, index)


@reach.inner
def _log(w, f, visit, now_s):
    """Write down the latency of an answer, for rules: of this attempt, since a platform knows nothing of others."""
    if f.logs:
        main = reach.fleet_at(w, f.service)
        reach.set_float(main.answers, main.n_answers, max(0.0, now_s - visit.at_s) + _way_s(w, f, visit))
        main.n_answers += 1
        if main.n_answers == main.answers_size:
            ask_for_room(w)


@reach.apart
def _note_answer(w, f, visit, ending, now_s):
    """An attempt is answered; one that will be too late for its client ends at its time-out."""
    if max(0.0, now_s - visit.at_s) + _way_s(w, f, visit) <= reach.client_at(
        w.clients, visit.client
    ).timeout_s + reach.tolerance_s(now_s):
        main = reach.fleet_at(w, f.service)
        _note_end(main, visit, ending, now_s)
        if f.timed_s and ending == layout.OK:
            _note_time(w, main, visit, now_s)


@reach.seldom
def _note_end(main, visit, ending, now_s):
    at = visit.sent - main.n_forgotten
    if visit.sent < 0 or at < 0:
        return
    entry = reach.sent_at(main.sent, at)
    if np.isinf(entry.ended_s):
        entry.ended_s = now_s
        entry.failed = ending != layout.OK


@reach.seldom
def _note_time(w, main, visit, now_s):
    entry = reach.timed_at(main.timed, main.n_timed)
    entry.ended_s = now_s
    entry.latency_s = max(0.0, now_s - visit.at_s) + _way_s(w, main, visit)
    entry.judgement = main.judgement if visit.sent >= main.n_forgotten else 0
    main.n_timed += 1
    if main.n_timed == main.timed_size:
        ask_for_room(w)


@reach.apart
def errored(w, f, index, number, now_s):
    """A visit has been answered with an error."""
    visit = reach.visit_at(w, index)
    if f.judges and not visit.given_up:
        _note_answer(w, f, visit, layout.ERRORED, now_s)
    if visit.given_up:
        let_go(w, index)
    elif visit.is_call:
        send_answer(w, f, index, layout.ERRORED, number, now_s)
    else:
        fail(w, f, index, layout.ERRORED, number, now_s + _way_s(w, f, visit))


@reach.apart
def fail(w, f, index, ending, number, now_s):
    """An attempt has failed at `now_s`, or at its deadline if that was before: repeat it, or it was the last."""
    visit = reach.visit_at(w, index)
    if visit.given_up:
        let_go(w, index)
        return
    client = reach.client_at(w.clients, visit.client)
    if visit.watched:
        unwatch(w, client, index)
    failed_s = now_s
    if ending == layout.TIMED_OUT or _is_past(w, visit, client, now_s):
        ending = layout.TIMED_OUT
        failed_s = visit.at_s + client.timeout_s
    elif f.judges:
        _note_end(reach.fleet_at(w, f.service), visit, ending, now_s)
    visit.ending = ending
    visit.number = number
    if visit.attempt <= client.retries and not _is_abandoned(w, index):
        _repeat_later(w, client, index, failed_s)
        return
    latency_s = max(0.0, now_s - _first_s(visit))
    if ending == layout.TIMED_OUT:
        latency_s = (visit.at_s - _first_s(visit)) + client.timeout_s
    end(w, f, index, latency_s, ending, number, now_s)
    _tell(w, index)


@reach.inner
def _is_past(w, visit, client, now_s):
    """Whether its client has gone: at the very instant of a time-out only what comes before time-outs is in time."""
    tolerance_s = -reach.tolerance_s(now_s) if w.past_timeouts else reach.tolerance_s(now_s)
    return now_s - visit.at_s > client.timeout_s + tolerance_s


@reach.inner
def _is_abandoned(w, index):
    """Whether a call was awaited, and the visit that waited is gone."""
    visit = reach.visit_at(w, index)
    return visit.is_call == 1 and visit.caller < 0 and reach.client_at(w.clients, visit.client).awaited == 1


@reach.apart
def give_up_for_good(w, f, index):
    """A call that was going to be sent again is over, since the visit that made it is."""
    visit = reach.visit_at(w, index)
    end(w, f, index, max(0.0, visit.failed_s - visit.first_s), visit.ending, visit.number, visit.failed_s)
    _tell(w, index)


# -- ends of calls, and who hears of them ----------------------------------------------------------


@reach.apart
def send_answer(w, f, index, ending, number, now_s):
    """An answer is on its way to the visit that has called."""
    visit = reach.visit_at(w, index)
    visit.ending = ending
    visit.number = number
    visit.answered_s = now_s + _way_s(w, f, visit)
    if ending == layout.OK:
        _log(w, f, visit, now_s)
        if w.parts:
            _add_up(w, f, index, _way_s(w, f, visit), now_s)
    ahead = f.way_tail  # by time, as good as always the last
    while ahead >= 0 and reach.visit_at(w, ahead).answered_s > visit.answered_s:
        ahead = reach.visit_at(w, ahead).back
    lists.to_way(w, f, index, ahead)
    tell_due(w, f)


@reach.apart
def arrive_answer(w, f, index):
    """An answer reaches its caller, who hears of it unless he has given up."""
    visit = reach.visit_at(w, index)
    lists.from_way(w, f, index)
    tell_due(w, f)
    now_s = visit.answered_s
    w.event_s = now_s
    if visit.given_up:
        let_go(w, index)
    elif visit.ending == layout.ERRORED:
        fail(w, f, index, layout.ERRORED, visit.number, now_s)
    else:
        if visit.watched:
            unwatch(w, reach.client_at(w.clients, visit.client), index)
        end(w, f, index, max(0.0, now_s - _first_s(visit)), layout.OK, visit.number, now_s)
        _tell(w, index)


@reach.seldom
def _tell(w, index):
    """A visit has ended: of a call its caller is to hear, and its connection to be handed on."""
    visit = reach.visit_at(w, index)
    if visit.is_call == 0 or (visit.caller < 0 and visit.pool_row < 0):
        free(w, index)
        return
    w.attention = 1
    visit.phase = layout.HEARD
    lists.to_news(w, w, index)


# -- attempts that are repeated --------------------------------------------------------------------


@reach.apart
def _repeat_later(w, client, index, failed_s):
    """The client learns at `failed_s` that an attempt has failed, and sends the next after a pause."""
    visit = reach.visit_at(w, index)
    visit.first_s = _first_s(visit)
    visit.failed_s = failed_s
    visit.phase = layout.PAUSED
    plan(w, visit)
    pause_s = client.retry_after_s * 2.0 ** (visit.attempt - 1)
    if client.retry_jitter > 0.0:
        u, _ = uniforms(w.retry_key, visit.id, lineage_of(visit), visit.place)
        pause_s *= 1.0 + client.retry_jitter * (2.0 * u - 1.0)
    heap_up(w, w.repeats, w.n_repeats, failed_s + pause_s, index)
    w.n_repeats += 1


@reach.apart
def next_repeat_s(w):
    """When the next attempt is repeated [s]."""
    repeat_s = np.inf
    if w.n_repeats:
        repeat_s = reach.entry_at(w.repeats, 0).key
    if w.n_repeating:
        repeat_s = min(repeat_s, w.repeating_s)
    return repeat_s


@reach.apart
def next_repeat(w, limit_s):
    """Of the attempts to come before `limit_s` that of the first request of the trace; it stays where it is."""
    while w.n_repeats and reach.entry_at(w.repeats, 0).key < limit_s:
        at_s, index = reach.entry_at(w.repeats, 0).key, reach.entry_at(w.repeats, 0).request
        w.repeating_s = min(w.repeating_s, at_s) if w.n_repeating else at_s
        heap_remove(w, w.repeats, w.n_repeats, layout.FIRST)
        w.n_repeats -= 1
        turn_up(w, at_s, index)
    return reach.entry_at(w.repeating, 0).request


@reach.apart
def take_repeat(w):
    """That attempt is sent now, at its time."""
    at_s, index = reach.entry_at(w.repeating, 0).key, reach.entry_at(w.repeating, 0).request
    turn_out(w, layout.FIRST)
    reach.visit_at(w, index).phase = layout.UNDER_WAY
    return at_s


# -- the clients that still wait: of each a list by deadline, which is the order of their attempts ---------------------


@reach.apart
def watch(w, client, index):
    """This attempt's time-out is an event: its client hears of it, or sends it again."""
    reach.visit_at(w, index).watched = 1
    if lists.to_watched(w, client, index):
        _tell_deadline(w, client)


@reach.apart
def unwatch(w, client, index):
    """Its client has heard of its end, or has given up."""
    reach.visit_at(w, index).watched = 0
    if lists.from_watched(w, client, index):
        _tell_deadline(w, client)


@reach.inner
def _tell_deadline(w, client):
    head = client.waiting_head
    deadline_s = reach.visit_at(w, head).at_s + client.timeout_s if head >= 0 else np.inf
    replay_time(w.deadlines, w.client_leaves + client.number, deadline_s)


@reach.apart
def give_up(w, limit_s):
    """Of the clients whose time is up, that of the first attempt gives up. The server goes on with its visit.

    A copy of it, in all that is not said here, is repeated, or was the last attempt.
    """
    index = lists.first_late(w, limit_s)
    old = reach.visit_at(w, index)
    client = reach.client_at(w.clients, old.client)
    unwatch(w, client, index)
    copy = take(w)
    new = reach.visit_at(w, copy)
    reach.copy_visit(w, copy, index)
    old.given_up = 1
    new.sent = -1
    is_silent = w.places and old.silent
    if w.calls:
        if not is_silent:
            w.n_open += 1  # the old one is still served, and may call others
        new.calls_head = -1
        new.phase = layout.UNDER_WAY
        old.pool_row = -1
        for column in range(w.columns):
            reach.set_float(w.given, w.columns * copy + column, reach.float_at(w.given, w.columns * index + column))
        if old.caller >= 0:
            lists.instead_in_calls(w, reach.visit_at(w, old.caller), index, copy)
            old.caller = -1
    w.event_s = old.at_s + client.timeout_s
    if is_silent:  # it is nowhere
        free(w, index)
    fail(w, reach.fleet_at(w, old.fleet), copy, layout.TIMED_OUT, layout.NO_REPLICA, old.at_s + client.timeout_s)
