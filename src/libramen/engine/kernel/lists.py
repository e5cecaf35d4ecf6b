"""Lists of visits: each is linked to the next one, and whoever has the list knows its first and its last."""

from __future__ import annotations

from libramen.engine.kernel import reach


@reach.inner
def appended(w, head, tail, index):
    """Put a visit behind the last one of a list, whose head is -1 if it is empty. Returns the head."""
    reach.visit_at(w, index).link = -1
    if head < 0:
        return index
    reach.visit_at(w, tail).link = index
    return head
