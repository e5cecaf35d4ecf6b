"""Lists of requests: each is linked to the next one, and whoever has the list knows its first and its last."""

from __future__ import annotations

from libramen.engine.kernel.layout import inner, request_at


@inner
def appended(w, head, tail, index):
    """Put a request behind the last one of a list, whose head is -1 if it is empty. Returns the head."""
    request_at(w.requests, index).link = -1
    if head < 0:
        return index
    request_at(w.requests, tail).link = index
    return head
