"""Binary heaps, the root at 0. Behind the last entry stands infinity, so that the first three may always be read."""

from __future__ import annotations

import numpy as np

from libramen.engine.kernel.layout import entry_at, inner


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
