"""Binary heaps, the root at 0. Behind the last entry stands infinity, so that the first three may always be read."""

from __future__ import annotations

import numpy as np

from libramen.engine.kernel.layout import FIRST
from libramen.engine.kernel.reach import (
    apart,
    entry_at,
    inner,
    seldom,
    visit_at,
)


@inner
def heap_up(heap, at, key, request):
    """Place an entry at `at` or above."""
    while at:
        parent = (at - 1) >> 1
        if entry_at(heap, parent).key <= key:
            break
        entry_at(heap, at).key = entry_at(heap, parent).key
        entry_at(heap, at).request = entry_at(heap, parent).request
        at = parent
    entry_at(heap, at).key = key
    entry_at(heap, at).request = request


@inner
def heap_remove(heap, n, at):
    """Remove the entry at `at` of a heap of `n`; the last one takes its place."""
    n -= 1
    key = entry_at(heap, n).key
    request = entry_at(heap, n).request
    entry_at(heap, n).key = np.inf
    if at == n:
        return
    while True:  # let the smaller child rise into the hole, as long as it is smaller than the last entry
        child = 2 * at + 1
        if child >= n:
            break
        if child + 1 < n and entry_at(heap, child + 1).key < entry_at(heap, child).key:
            child += 1
        if entry_at(heap, child).key >= key:
            break
        entry_at(heap, at).key = entry_at(heap, child).key
        entry_at(heap, at).request = entry_at(heap, child).request
        at = child
    heap_up(heap, at, key, request)


# -- the heap of attempts that are repeated at one instant: by request, place in its tree of calls, as planned ------


@seldom
def _is_before(w, one, other):
    mine, theirs = visit_at(w, one), visit_at(w, other)
    if mine.id != theirs.id:
        return mine.id < theirs.id
    if mine.place != theirs.place:
        return mine.place < theirs.place
    return mine.planned < theirs.planned


@seldom
def turn_up(w, index):
    """Put an attempt into `w.repeating`."""
    apart()
    heap = w.repeating
    at = w.n_repeating
    w.n_repeating += 1
    while at:
        parent = (at - 1) >> 1
        if not _is_before(w, index, entry_at(heap, parent).request):
            break
        entry_at(heap, at).request = entry_at(heap, parent).request
        at = parent
    entry_at(heap, at).request = index


@seldom
def turn_out(w, at):
    """Take the attempt at this place out of `w.repeating`."""
    apart()
    heap = w.repeating
    w.n_repeating -= 1
    n = w.n_repeating
    if at == n:
        return
    last = entry_at(heap, n).request
    while at and _is_before(w, last, entry_at(heap, (at - 1) >> 1).request):
        entry_at(heap, at).request = entry_at(heap, (at - 1) >> 1).request
        at = (at - 1) >> 1
    while True:
        child = 2 * at + 1
        if child >= n:
            break
        if child + 1 < n and _is_before(w, entry_at(heap, child + 1).request, entry_at(heap, child).request):
            child += 1
        if _is_before(w, last, entry_at(heap, child).request):
            break
        entry_at(heap, at).request = entry_at(heap, child).request
        at = child
    entry_at(heap, at).request = last


@seldom
def find(heap, n, index):
    """Where an attempt stands in a heap: seldom asked, so it is looked for."""
    for at in range(n):
        if entry_at(heap, at).request == index:
            return at
    return FIRST  # never
