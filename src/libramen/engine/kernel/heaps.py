"""Binary heaps, the root at 0. Behind the last entry stands infinity, so that the first three may always be read.

> repeated attempts of one instant by request, place in the tree of calls, then as they were planned.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from libramen.engine.kernel import layout, reach


@reach.inner
def _copy(heap, to, at):
    reach.entry_at(heap, to).key = reach.entry_at(heap, at).key
    reach.entry_at(heap, to).request = reach.entry_at(heap, at).request


def _verbs(is_before: Any) -> tuple[Any, Any]:
    """The verbs of heaps in one order: (place an entry at `at` or above, remove that at `at` of a heap of `n`)."""

    @reach.inner
    def rise(w, heap, at, key, request):
        while at:
            parent = (at - 1) >> 1
            above = reach.entry_at(heap, parent)
            if not is_before(w, key, request, above.key, above.request):
                break
            _copy(heap, at, parent)
            at = parent
        reach.entry_at(heap, at).key = key
        reach.entry_at(heap, at).request = request

    @reach.inner
    def remove(w, heap, n, at):
        n -= 1
        last = reach.entry_at(heap, n)
        key = last.key
        request = last.request
        last.key = np.inf
        if at == n:
            return
        while True:  # let the smaller child rise into the hole, as long as it is smaller than the last entry
            child = 2 * at + 1
            if child >= n:
                break
            one = reach.entry_at(heap, child)
            if child + 1 < n:
                other = reach.entry_at(heap, child + 1)
                if is_before(w, other.key, other.request, one.key, one.request):
                    child += 1
                    one = other
            if not is_before(w, one.key, one.request, key, request):
                break
            _copy(heap, at, child)
            at = child
        rise(w, heap, at, key, request)

    return rise, remove


@reach.inner
def _is_earlier(_w, key, _request, other_key, _other):
    return key < other_key


@reach.seldom
def _is_before(w, _key, one, _other_key, other):
    """Of attempts that are repeated at one instant: by request, place in its tree of calls, as planned."""
    mine, theirs = reach.visit_at(w, one), reach.visit_at(w, other)
    if mine.id != theirs.id:
        return mine.id < theirs.id
    if mine.place != theirs.place:
        return mine.place < theirs.place
    return mine.planned < theirs.planned


heap_up, heap_remove = _verbs(_is_earlier)
_turn_up, _turn_out = _verbs(_is_before)


@reach.apart
def turn_up(w, at_s, index):
    """Put an attempt into `w.repeating`, which is sent at this time."""
    _turn_up(w, w.repeating, w.n_repeating, at_s, index)
    w.n_repeating += 1


@reach.apart
def turn_out(w, at):
    """Take the attempt at this place out of `w.repeating`."""
    _turn_out(w, w.repeating, w.n_repeating, at)
    w.n_repeating -= 1


@reach.seldom
def find(heap, n, index):
    """Where an attempt stands in a heap: seldom asked, so it is looked for."""
    for at in range(n):
        if reach.entry_at(heap, at).request == index:
            return at
    return layout.FIRST  # never
