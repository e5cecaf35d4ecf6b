"""Binary heaps, the root at 0. Behind the last entry stands infinity, so that the first three may always be read.

> repeated attempts of one instant by request, place in the tree of calls, then as they were planned.
"""

from __future__ import annotations

import numpy as np

from libramen.engine.kernel import layout, reach


@reach.inner
def _copy(heap, to, at):
    reach.entry_at(heap, to).key = reach.entry_at(heap, at).key
    reach.entry_at(heap, to).request = reach.entry_at(heap, at).request


@reach.inner
def heap_up(heap, at, key, request):
    """Place an entry at `at` or above."""
    while at:
        parent = (at - 1) >> 1
        if reach.entry_at(heap, parent).key <= key:
            break
        _copy(heap, at, parent)
        at = parent
    reach.entry_at(heap, at).key = key
    reach.entry_at(heap, at).request = request


@reach.inner
def heap_remove(heap, n, at):
    """Remove the entry at `at` of a heap of `n`; the last one takes its place."""
    n -= 1
    key = reach.entry_at(heap, n).key
    request = reach.entry_at(heap, n).request
    reach.entry_at(heap, n).key = np.inf
    if at == n:
        return
    while True:  # let the smaller child rise into the hole, as long as it is smaller than the last entry
        child = 2 * at + 1
        if child >= n:
            break
        if child + 1 < n and reach.entry_at(heap, child + 1).key < reach.entry_at(heap, child).key:
            child += 1
        if reach.entry_at(heap, child).key >= key:
            break
        _copy(heap, at, child)
        at = child
    heap_up(heap, at, key, request)


# -- the heap of attempts that are repeated at one instant: by request, place in its tree of calls, as planned ------


@reach.seldom
def _is_before(w, one, other):
    mine, theirs = reach.visit_at(w, one), reach.visit_at(w, other)
    if mine.id != theirs.id:
        return mine.id < theirs.id
    if mine.place != theirs.place:
        return mine.place < theirs.place
    return mine.planned < theirs.planned


@reach.apart
def turn_up(w, at_s, index):
    """Put an attempt into `w.repeating`, which is sent at this time."""
    heap = w.repeating
    at = w.n_repeating
    w.n_repeating += 1
    while at:
        parent = (at - 1) >> 1
        if not _is_before(w, index, reach.entry_at(heap, parent).request):
            break
        _copy(heap, at, parent)
        at = parent
    reach.entry_at(heap, at).key = at_s
    reach.entry_at(heap, at).request = index


@reach.apart
def turn_out(w, at):
    """Take the attempt at this place out of `w.repeating`."""
    heap = w.repeating
    w.n_repeating -= 1
    n = w.n_repeating
    if at == n:
        return
    last, last_s = reach.entry_at(heap, n).request, reach.entry_at(heap, n).key
    while at and _is_before(w, last, reach.entry_at(heap, (at - 1) >> 1).request):
        _copy(heap, at, (at - 1) >> 1)
        at = (at - 1) >> 1
    while True:
        child = 2 * at + 1
        if child >= n:
            break
        if child + 1 < n and _is_before(
            w, reach.entry_at(heap, child + 1).request, reach.entry_at(heap, child).request
        ):
            child += 1
        if _is_before(w, last, reach.entry_at(heap, child).request):
            break
        _copy(heap, at, child)
        at = child
    reach.entry_at(heap, at).key = last_s
    reach.entry_at(heap, at).request = last


@reach.seldom
def find(heap, n, index):
    """Where an attempt stands in a heap: seldom asked, so it is looked for."""
    for at in range(n):
        if reach.entry_at(heap, at).request == index:
            return at
    return layout.FIRST  # never
