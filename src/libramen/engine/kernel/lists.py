"""Lists of visits: linked through the visits themselves; whoever has the list knows its first and its last.

A list is named here once, by its fields: those of its owner (a service, a replica, a client, a pool, a visit or the
world) and those of the visits in it. The verbs are made of the names when the kernel is compiled, and cost what they
would cost written out by hand. -1: no visit.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from libramen.engine.kernel import layout, reach, settings


def _one_way(first: str, last: str) -> tuple[Any, Any]:
    """The verbs of a queue: (append, take the first one out). Its visits are linked by `link`."""

    @reach.inner
    def append(w, owner, index):
        reach.visit_at(w, index).link = -1
        if owner[first] < 0:
            owner[first] = index
        else:
            reach.visit_at(w, owner[last]).link = index
        owner[last] = index

    @reach.inner
    def take(w, owner):
        index = owner[first]
        owner[first] = reach.visit_at(w, index).link
        return index

    return append, take


def _both_ways(first: str, last: str, following: str, before: str) -> tuple[Any, Any, Any]:
    """The verbs of a list that visits leave from anywhere: (append, insert behind another one, take out).

    The last is -1 where there is none. `append` and `take_out` return whether the list has another first one now.
    """

    @reach.inner
    def insert(w, owner, index, ahead):
        visit = reach.visit_at(w, index)
        visit[before] = ahead
        if ahead < 0:
            visit[following] = owner[first]
            owner[first] = index
        else:
            visit[following] = reach.visit_at(w, ahead)[following]
            reach.visit_at(w, ahead)[following] = index
        if visit[following] < 0:
            owner[last] = index
        else:
            reach.visit_at(w, visit[following])[before] = index

    @reach.inner
    def append(w, owner, index):
        ahead = owner[last]
        insert(w, owner, index, ahead)
        return ahead < 0

    @reach.inner
    def take_out(w, owner, index):
        visit = reach.visit_at(w, index)
        is_first = visit[before] < 0
        if is_first:
            owner[first] = visit[following]
        else:
            reach.visit_at(w, visit[before])[following] = visit[following]
        if visit[following] < 0:
            owner[last] = visit[before]
        else:
            reach.visit_at(w, visit[following])[before] = visit[before]
        return is_first

    return append, insert, take_out


def _any_order(first: str, following: str, before: str) -> tuple[Any, Any, Any]:
    """The verbs of a list whose order does not matter: (put in, take out, put another one in its place)."""

    @reach.inner
    def put_in(w, owner, index):
        visit = reach.visit_at(w, index)
        visit[before] = -1
        visit[following] = owner[first]
        if owner[first] >= 0:
            reach.visit_at(w, owner[first])[before] = index
        owner[first] = index

    @reach.inner
    def take_out(w, owner, index):
        visit = reach.visit_at(w, index)
        if visit[before] < 0:
            owner[first] = visit[following]
        else:
            reach.visit_at(w, visit[before])[following] = visit[following]
        if visit[following] >= 0:
            reach.visit_at(w, visit[following])[before] = visit[before]

    @reach.inner
    def put_instead(w, owner, index, other):
        visit = reach.visit_at(w, index)
        if visit[before] < 0:
            owner[first] = other
        else:
            reach.visit_at(w, visit[before])[following] = other
        if visit[following] >= 0:
            reach.visit_at(w, visit[following])[before] = other

    return put_in, take_out, put_instead


def _first_of_fleets(flag: str, first: str) -> Any:
    """A function (w) -> which of the fleets with a flag has the visit that arrived first at the head of a list."""

    @reach.seldom
    def first_of_fleets(w):
        best = settings.NOBODY
        chosen = layout.NOTHING
        for k in range(w.n_fleets):
            f = reach.fleet_at(w, k)
            if f[flag] and f[first] >= 0 and reach.visit_at(w, f[first]).order < best:
                best = reach.visit_at(w, f[first]).order
                chosen = np.int64(k)
        return chosen

    return first_of_fleets


def _first_of_clients(times: str, first: str, order: str) -> Any:
    """A function (w, limit_s) -> of the clients whose time has come by then the visit at the head of a list, the first.

    times: the tree of their times. order: by what it is the first.
    """

    @reach.seldom
    def first_of_clients(w, limit_s):
        best = settings.NOBODY
        index = layout.NOTHING
        for number in range(w.n_clients):
            if reach.float_at(w[times], w.client_leaves + number) < limit_s:
                head = reach.client_at(w.clients, number)[first]
                if reach.visit_at(w, head)[order] < best:
                    best = reach.visit_at(w, head)[order]
                    index = head
        return index

    return first_of_clients


hold, unhold = _one_way("held_head", "held_tail")
"""Of a service: visits in the shared or held queue."""
to_quiet, from_quiet = _one_way("quiet_head", "quiet_tail")
"""Of a service: attempts that hear nothing, and whose clients will not give up."""
to_backlog, from_backlog = _one_way("backlog_head", "backlog_tail")
"""Of a replica: visits that wait for a slot."""
to_turns, from_turns = _one_way("turn_head", "turn_tail")
"""Of a replica: visits in slots that wait for a CPU turn."""
to_news, from_news = _one_way("news_head", "news_tail")
"""Of the world: calls that have ended, and whose callers are to hear of it."""

to_pool, _, from_pool = _both_ways("head", "tail", "link", "back")
"""Of a pool: calls that wait for a connection."""
to_watched, _, from_watched = _both_ways("waiting_head", "waiting_tail", "later", "earlier")
"""Of a client: attempts whose client gives up at a time-out, by deadline, which is the order in which they came."""
to_impatient, _, from_impatient = _both_ways("queue_head", "queue_tail", "later", "earlier")
"""Of a client: calls that wait for a connection and will not for ever, likewise."""
_, to_way, from_way = _both_ways("way_head", "way_tail", "link", "back")
"""Of a service: answers on their way to those that called, by time."""

to_calling, from_calling, _ = _any_order("calling", "link", "back")
"""Of a replica: visits in slots that call."""
to_calls, from_calls, instead_in_calls = _any_order("calls_head", "sibling", "sibling_back")
"""Of a visit: its calls that have not ended and that it waits for."""

first_dismissed = _first_of_fleets("dismissed", "held_head")
"""What is held where no replica will ever take it: in order of arrival."""

first_silent = _first_of_fleets("struck", "quiet_head")
"""What has heard nothing, of fleets whose loss is known now: in order of arrival."""

first_late = _first_of_clients("deadlines", "waiting_head", "order")
"""Whose client gives up: in order of arrival."""

first_impatient = _first_of_clients("patience", "queue_head", "planned")
"""What will wait for a connection no longer: in the order in which that began."""
