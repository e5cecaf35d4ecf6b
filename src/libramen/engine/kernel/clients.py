"""What the client sees: answers, failures, time-outs, and attempts that are repeated."""

from __future__ import annotations

import numpy as np

from libramen.engine.kernel.heaps import heap_remove, heap_up
from libramen.engine.kernel.layout import (
    FIRST,
    OK,
    TIMED_OUT,
    apart,
    carried_at,
    entry_at,
    inner,
    request_at,
    result_at,
    seldom,
    set_float,
    tolerance_s,
)
from libramen.engine.kernel.uniforms import uniforms


@inner
def free(w, index):
    """Give an entry of `requests` back."""
    request_at(w.requests, index).link = w.free
    w.free = index


@inner
def _first_s(request):
    """When the first attempt of a request arrived [s]."""
    return request.at_s if request.attempt == 1 else request.first_s


@inner
def _write(w, index, latency_s, ending, number, now_s):
    """Write down how a request ended, and forget it."""
    request = request_at(w.requests, index)
    at = request.id if w.keeps else w.n_out
    slot_at_s = now_s if np.isnan(request.slot_at_s) else request.slot_at_s
    record = result_at(w.out, at)
    record.latency_s = latency_s
    record.queued_s = max(0.0, slot_at_s - request.at_s)
    record.before_s = request.at_s - _first_s(request)
    record.replica = number
    record.ending = ending
    record.attempts = request.attempt
    if not w.keeps:
        more = carried_at(w.carried, at)
        more.id = request.id
        more.at_s = _first_s(request)
        more.cpu_s = request.cpu_s
        more.wait_s = request.wait_s
        more.bytes_out = request.bytes_out
        more.route = request.route
    w.n_out += 1
    w.n_open -= 1
    free(w, index)


@inner
def answer(w, index, number, now_s):
    """A request has been served. Its client may have given up long before."""
    request = request_at(w.requests, index)
    if request.given_up:
        free(w, index)
        return
    if max(0.0, now_s - request.at_s) + w.overhead_s > w.timeout_s + tolerance_s(now_s):
        fail(w, index, TIMED_OUT, number, now_s)
        return
    if request.watched:
        _unwatch(w, index)
    latency_s = max(0.0, now_s - _first_s(request)) + w.overhead_s
    if w.logs:
        # Of this attempt: what the platform sees knows nothing of those before it.
        set_float(w.answers, w.n_answers, max(0.0, now_s - request.at_s) + w.overhead_s)
        w.n_answers += 1
    _write(w, index, latency_s, OK, number, now_s)


@seldom
def fail(w, index, ending, number, now_s):
    """An attempt has failed at `now_s`, or at its deadline if that was before: repeat it, or it was the last."""
    apart()
    request = request_at(w.requests, index)
    if request.given_up:
        free(w, index)
        return
    if request.watched:
        _unwatch(w, index)
    failed_s = now_s
    if ending == TIMED_OUT or now_s - request.at_s > w.timeout_s + tolerance_s(now_s):
        ending = TIMED_OUT
        failed_s = request.at_s + w.timeout_s
    if request.attempt <= w.retries:
        _repeat_later(w, index, failed_s)
        return
    latency_s = max(0.0, now_s - _first_s(request))
    if ending == TIMED_OUT:
        latency_s = (request.at_s - _first_s(request)) + w.timeout_s
    _write(w, index, latency_s, ending, number, now_s)


@seldom
def _repeat_later(w, index, failed_s):
    """The client learns at `failed_s` that an attempt has failed, and sends the next after a pause."""
    apart()
    request = request_at(w.requests, index)
    request.first_s = _first_s(request)
    pause_s = w.retry_after_s * 2.0 ** (request.attempt - 1)
    if w.retry_jitter > 0.0:
        u, _ = uniforms(w.retry_key, request.id, request.attempt)
        pause_s *= 1.0 + w.retry_jitter * (2.0 * u - 1.0)
    heap_up(w.repeats, w.n_repeats, failed_s + pause_s, index)
    w.n_repeats += 1


@seldom
def next_of_clients(w):
    """When the next client gives up waiting, and when the next attempt is repeated [s]."""
    apart()
    timeout_s = np.inf
    repeat_s = np.inf
    if w.clients_head >= 0:
        timeout_s = request_at(w.requests, w.clients_head).at_s + w.timeout_s
    if w.n_repeats:
        repeat_s = entry_at(w.repeats, 0).key
    if w.n_repeating:
        repeat_s = min(repeat_s, w.repeating_s)
    return timeout_s, repeat_s


@seldom
def next_repeat(w, limit_s):
    """Of the attempts to come before `limit_s` that of the first request of the trace: (entry, its time)."""
    apart()
    while w.n_repeats and entry_at(w.repeats, 0).key < limit_s:
        index = entry_at(w.repeats, 0).request
        request = request_at(w.requests, index)
        request.at_s = entry_at(w.repeats, 0).key
        w.repeating_s = min(w.repeating_s, request.at_s) if w.n_repeating else request.at_s
        heap_remove(w.repeats, w.n_repeats, FIRST)
        w.n_repeats -= 1
        heap_up(w.repeating, w.n_repeating, float(request.id), index)
        w.n_repeating += 1
    index = entry_at(w.repeating, 0).request
    heap_remove(w.repeating, w.n_repeating, FIRST)
    w.n_repeating -= 1
    return index, request_at(w.requests, index).at_s


# -- the clients that still wait: a list by deadline, which is the order of their attempts ---------


@seldom
def watch(w, index):
    """This attempt may be repeated: its client's time-out is an event."""
    apart()
    request = request_at(w.requests, index)
    request.watched = 1
    request.later = -1
    request.earlier = w.clients_tail
    if w.clients_tail < 0:
        w.clients_head = index
    else:
        request_at(w.requests, w.clients_tail).later = index
    w.clients_tail = index


@seldom
def _unwatch(w, index):
    apart()
    request = request_at(w.requests, index)
    request.watched = 0
    if request.earlier < 0:
        w.clients_head = request.later
    else:
        request_at(w.requests, request.earlier).later = request.later
    if request.later < 0:
        w.clients_tail = request.earlier
    else:
        request_at(w.requests, request.later).earlier = request.earlier


@seldom
def give_up(w):
    """The client that has waited longest gives up. The server goes on with its request; a copy is repeated."""
    apart()
    index = w.clients_head
    _unwatch(w, index)
    old = request_at(w.requests, index)
    old.given_up = 1
    copy = w.free
    new = request_at(w.requests, copy)
    w.free = new.link
    new.id = old.id
    new.first_s = old.first_s
    new.at_s = old.at_s
    new.cpu_s = old.cpu_s
    new.wait_s = old.wait_s
    new.attempt = old.attempt
    new.watched = 0
    new.given_up = 0
    new.route = old.route
    new.bytes_out = old.bytes_out
    _repeat_later(w, copy, old.at_s + w.timeout_s)
