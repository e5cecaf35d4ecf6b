"""The one compiled function: which event comes next, and whose turn it is at one instant.

> At one instant come first completions, in the order in which their attempts arrived (a freed slot or CPU turn is
> handed on at that instant; the end of the CPU work is a completion too), then control events, then clients'
> time-outs, then arrivals, those of the trace before repeated ones.
>
> A call is sent as part of the event that made it, with all that it sets off, before its caller makes the next one.
>
> Calls that give up waiting for a connection come after the time-outs of their instant, in the order in which they
> began to wait.
>
> `on_arrival` orders just before the request that finds no slot is sent; what takes no time is ready by then.

The compiler keeps its code on disk, and knows it again by this file and by the types of the arguments;
what it imports goes in as `_SOURCES`.
"""

from __future__ import annotations

import functools
from typing import TYPE_CHECKING, Any, Final

import numba
import numpy as np

from libramen.base.code import number_of
from libramen.engine.kernel import (
    balancer,
    callers,
    clients,
    completions,
    edge,
    layout,
    lists,
    orders,
    parts,
    places,
    reach,
    service,
    trees,
)

if TYPE_CHECKING:
    from collections.abc import Callable

_SOURCES: Final = number_of(__name__)


def compiled(signature: Any) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Compile at once for one signature, and keep the code on disk where any place can be written."""

    def decorate(function: Callable[..., Any]) -> Callable[..., Any]:
        options = {"nogil": True, "error_model": "numpy"}
        try:
            return numba.njit(signature, cache=True, **options)(function)  # type: ignore[call-overload, no-any-return]
        except RuntimeError:  # no place for a cache: compile in every process
            return numba.njit(signature, **options)(function)  # type: ignore[call-overload, no-any-return]

    return decorate


@reach.inner
def _complete_next(w, due_s, limit_s):
    """The next completion happens, or a bank runs empty; of several at one instant the first in order."""
    w.past_timeouts = 0
    fleet, second_s = trees.first_fleet(w)
    f = reach.fleet_at(w, fleet)
    ties = second_s < limit_s
    if w.calls:
        if trees.way_due_s(w, f) < limit_s:
            if completions.only_answer_due(w, f, second_s, limit_s):
                clients.arrive_answer(w, f, f.way_head)
                return
            ties = True
        due_s = reach.node_at(f.tree, 1).due_s
    row, second_s = trees.first_due(f)
    replica = reach.replica_at(f, row)
    at = layout.FIRST
    kind = layout.RUNNING
    if f.lends and due_s < limit_s and trees.bank_due_s(f, replica) < limit_s:
        service.empty_bank(w, f, row, trees.bank_due_s(f, replica))
        return
    if ties or not completions.only_one_due(f, replica, second_s, limit_s):
        fleet, row, kind, at, due_s = completions.first_arrived(w, limit_s)
        f = reach.fleet_at(w, fleet)
        if kind == layout.WAY:
            clients.arrive_answer(w, f, at)
            return
    elif reach.entry_at(reach.heap_of(replica, layout.WAITING), 0).key == due_s:
        kind = layout.WAITING
    completions.complete(w, f, row, kind, at, due_s)


@reach.apart
def _site(w, f, i, index, now_s):
    """The fleet of the region that gets the next attempt: of request `i` of the chunk, or of a visit."""
    if index >= 0:
        visit, now_s = reach.visit_at(w, index), reach.entry_at(w.repeating, 0).key
        return places.site_for(w, f, np.int64(visit.origin), np.int64(visit.visitor), index, now_s)
    visitor = np.int64(reach.int32_at(w.chunk_visitor, i)) if w.pins else layout.NOTHING
    return places.site_for(w, f, np.int64(reach.int32_at(w.chunk_area, i)), visitor, index, now_s)


_SIGNATURE: Final = numba.int64(numba.int64, numba.float64)


def _make_advance(sources: int, lean: int) -> Callable[..., Any]:
    """The compiler's cache asks for the values that a function closes over: here, for all other files."""

    def advance(world, until_s):
        """Carry out the order in a world, or let everything happen before a control event at `until_s`.

        world: address of a `layout.WORLD`; it and the arrays that it points at are overwritten, all but `rate`,
        `edges_s` and the chunk. until_s: [s]. Returns a signal. Checks nothing: `state` and `Trace` do.

        An event is over when nothing goes on in it any more: calls have been sent, with all that they set off; held
        visits have been handed out; callers have heard of ends. At one instant come completions, in the order in
        which their attempts arrived; then control events, of which a draining replica that empties and one that dies
        are two; then time-outs of clients, then of calls that wait for a connection; then arrivals, those of the
        trace before repeated ones. Where the control plane wants to be asked for a slot, it is just before the
        attempt that finds none.
        """
        _ = sources
        w = reach.world_at(world, lean)
        is_ordered = w.order != layout.NO_ORDER
        if is_ordered and w.order != layout.CARRIED_OUT:
            orders.carry_out(w)
        while True:
            if w.attention:
                # What goes on within an event: calls with all that they set off, then what is held, then news.
                if w.full:
                    return layout.FULL
                now_s = w.event_s
                if w.n_stack:
                    if w.free < 0:
                        return layout.VISITS_FULL
                    top = reach.int_at(w.stack, w.n_stack - 1)
                    if top < 0:
                        f = reach.fleet_at(w, -1 - top)
                        index, row = balancer.next_scattered(w, f)
                    else:
                        index = callers.next_step(w, now_s)
                        if index == layout.ASK:
                            return layout.ASKING
                        if index < 0:
                            continue
                        f = reach.fleet_at(w, reach.visit_at(w, index).fleet)
                        f = balancer.side_for(w, balancer.first_side(w, f), index)
                        row = balancer.get(w, f, index, now_s)
                elif w.room_row >= 0:
                    f = reach.fleet_at(w, w.room_fleet)
                    index, row = balancer.next_held(w, f)
                elif w.news_head >= 0:
                    callers.hear_next(w)
                    continue
                else:
                    w.attention = 0
                    continue
            elif is_ordered:
                w.order = layout.NO_ORDER
                return layout.CONTROL
            else:
                until_s = reach.lesser(until_s, w.notice_s)
                i = w.next - w.chunk_first
                now_s = np.inf
                if i < w.chunk_n:
                    now_s = reach.float_at(w.chunk_at_s, i)
                elif not w.chunk_last:
                    return layout.CHUNK
                due_s = reach.float_at(w.dues, 1)
                instant_s = reach.lesser(reach.lesser(due_s, now_s), until_s)
                timeout_s = impatient_s = repeat_s = np.inf
                if w.clocks:
                    repeat_s = clients.next_repeat_s(w)
                    timeout_s = reach.float_at(w.deadlines, 1)
                    impatient_s = reach.float_at(w.patience, 1)
                    instant_s = reach.lesser(instant_s, reach.lesser(reach.lesser(timeout_s, impatient_s), repeat_s))
                limit_s = instant_s + reach.tolerance_s(instant_s)
                if due_s < limit_s:
                    _complete_next(w, due_s, limit_s)
                    continue
                if np.isinf(instant_s):
                    return layout.OVER
                if until_s < limit_s:
                    w.past_timeouts = 0
                    w.control_s = until_s
                    return layout.CONTROL
                if w.free < 0:
                    return layout.VISITS_FULL
                w.past_timeouts = 1
                if timeout_s < limit_s:
                    clients.give_up(w, limit_s)
                    continue
                if impatient_s < limit_s:
                    callers.wait_no_longer(w, lists.first_impatient(w, limit_s), impatient_s)
                    continue
                is_new, index = now_s < limit_s, layout.NOTHING
                if is_new and w.edge and reach.int32_at(w.chunk_hit, i):
                    edge.answer_at_the_edge(w, i, now_s)
                    continue
                if is_new:
                    f = reach.fleet_at(w, reach.int32_at(w.chunk_server, i) if w.n_services > 1 else layout.FIRST)
                else:
                    index = clients.next_repeat(w, limit_s)
                    f = balancer.first_side(w, reach.fleet_at(w, reach.visit_at(w, index).fleet))
                if w.places:
                    f = reach.fleet_at(w, _site(w, f, i, index, now_s))
                if balancer.asks(w, f):
                    w.notice_s = instant_s
                    w.control_s = instant_s
                    return layout.CONTROL
                if is_new:
                    index = balancer.arrive(w, f, i, now_s)
                else:
                    now_s = clients.take_repeat(w)
                    if w.places:
                        reach.visit_at(w, index).fleet = f.index
                        places.forget_turned(w, index)
                w.event_s = now_s
                f = balancer.side_for(w, f, index)
                row = balancer.get(w, f, index, now_s)
            if row >= 0:
                balancer.put(w, f, row, index, now_s)

    # Each variant has files of its own: two processes may compile them at one time.
    advance.__qualname__ = "advance_lean" if lean else "advance"
    # Both are compiled at the same time, and the full variant takes longer.
    with parts.optimised(all_of_them=bool(lean)):
        return compiled(_SIGNATURE)(advance)


@functools.cache
def advance_of(*, lean: bool) -> Callable[..., Any]:
    """`advance` for a world in which nothing is known beforehand, or for one as in `fields.LEAN`.

    Each takes a quarter to half a minute to compile, so it is compiled when it is first asked for.
    """
    return _make_advance(_SOURCES, int(lean))
