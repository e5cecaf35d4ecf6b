"""The one compiled function: which event comes next, and whose turn it is at one instant.

The compiler keeps its code on disk, and knows it again by this file and by the types of the arguments;
what stands in the other files of this package goes in as `_SOURCES`.
"""

from __future__ import annotations

import zlib
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final

import numba
import numpy as np

from libramen.engine.kernel import layout
from libramen.engine.kernel.balancer import arrive, lacks_slot, next_held, put, send
from libramen.engine.kernel.clients import give_up, next_of_clients, next_repeat
from libramen.engine.kernel.completions import complete, first_arrived, only_one_due
from libramen.engine.kernel.layout import (
    CHUNK,
    CONTROL,
    ENDED,
    FIRST,
    NO_ORDER,
    OUT_FULL,
    REQUESTS_FULL,
    RUNNING,
    SLOTS_FULL,
    WAITING,
    entry_at,
    float_at,
    heap_of,
    inner,
    node_at,
    replica_at,
    tolerance_s,
)
from libramen.engine.kernel.orders import carry_out
from libramen.engine.kernel.service import empty_bank
from libramen.engine.kernel.trees import bank_due_s, first_due

if TYPE_CHECKING:
    from collections.abc import Callable

_SOURCES: Final = zlib.crc32(b"".join(path.read_bytes() for path in sorted(Path(__file__).parent.glob("*.py"))))


def compiled(signature: Any) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Compile at once for one signature, and keep the code on disk where any place can be written."""

    def decorate(function: Callable[..., Any]) -> Callable[..., Any]:
        options = {"nogil": True, "error_model": "numpy"}
        try:
            return numba.njit(signature, cache=True, **options)(function)  # type: ignore[call-overload, no-any-return]
        except RuntimeError:  # no place for a cache: compile in every process
            return numba.njit(signature, **options)(function)  # type: ignore[call-overload, no-any-return]

    return decorate


@inner
def _complete_next(w, due_s, limit_s):
    """The next completion happens, or a bank runs empty; of several at one instant the first in order."""
    row, second_s = first_due(w)
    replica = replica_at(w.replicas, row)
    if w.lends and bank_due_s(w, replica) < limit_s:
        empty_bank(w, row, bank_due_s(w, replica))
        return
    at = FIRST
    kind = RUNNING
    if not only_one_due(w, replica, second_s, limit_s):
        row, kind, at, due_s = first_arrived(w, limit_s)
    elif entry_at(heap_of(replica, WAITING), 0).key == due_s:
        kind = WAITING
    complete(w, row, kind, at, due_s)


_SIGNATURE: Final = numba.int64(numba.from_dtype(layout.WORLD)[::1], numba.float64)


def _make_advance(sources: int) -> Callable[..., Any]:
    """The compiler's cache asks for the values that a function closes over: here, for all other files."""

    @compiled(_SIGNATURE)
    def advance(worlds, until_s):
        """Carry out the order in `worlds`, or let everything happen before a control event at `until_s`.

        worlds: one `layout.WORLD`; it and the arrays that it points at are overwritten, all but `rate`,
        `edges_s` and the chunk. until_s: [s]. Returns a signal. Checks nothing: `state` and `Trace` do.

        At one instant come completions, in the order in which their attempts arrived; then control
        events, of which a draining replica that empties and one that dies are two; then time-outs of
        clients; then arrivals, those of the trace before repeated ones. Where the control plane wants to
        be asked for a slot, it is just before the attempt that finds none.
        """
        _ = sources
        w = worlds[0]
        is_ordered = w.order != NO_ORDER
        if is_ordered:
            carry_out(w)
        while True:
            if w.fullest >= w.places_left_at:
                return SLOTS_FULL
            if w.room_row >= 0:  # what is held comes before anything else at this instant
                now_s = w.now_s
                index, row = next_held(w)
            elif is_ordered:
                return CONTROL
            else:
                until_s = min(until_s, w.notice_s)
                if w.out_size - w.n_out <= w.ends_at_most or w.n_answers == w.answers_size:
                    return OUT_FULL
                i = w.next - w.chunk_first
                now_s = np.inf
                if i < w.chunk_n:
                    now_s = float_at(w.chunk_at_s, i)
                elif not w.chunk_last:
                    return CHUNK
                timeout_s = repeat_s = np.inf
                if w.retries:
                    timeout_s, repeat_s = next_of_clients(w)
                due_s = node_at(w.tree, 1).due_s
                instant_s = min(min(due_s, now_s), min(until_s, min(timeout_s, repeat_s)))
                limit_s = instant_s + tolerance_s(instant_s)
                if due_s < limit_s:
                    _complete_next(w, due_s, limit_s)
                    continue
                if np.isinf(instant_s):
                    return ENDED
                if until_s < limit_s:
                    w.control_s = until_s
                    return CONTROL
                if w.free < 0:
                    return REQUESTS_FULL
                if timeout_s < limit_s:
                    give_up(w)
                    continue
                if w.asks and w.asked != w.attempts and lacks_slot(w):
                    w.asked = w.attempts
                    w.asks_now = 1
                    w.notice_s = instant_s
                    w.control_s = instant_s
                    return CONTROL
                if now_s < limit_s:
                    index = arrive(w, i)
                else:
                    index, now_s = next_repeat(w, limit_s)
                row = send(w, index, now_s)
            if row >= 0:
                put(w, row, index, now_s)

    return advance


advance: Final = _make_advance(_SOURCES)
