"""Requests that are left out, as `[trace] leave_out` says."""

from __future__ import annotations

import difflib
import fnmatch
from collections.abc import Iterable, Sequence
from typing import Final

import numpy as np

from libramen.base import units
from libramen.base.errors import TraceError
from libramen.trace.leave_out import LeaveOut
from libramen.trace.raw_requests import RawRequests

_MOST_COMPARED: Final = 2000


def leave_out(found: RawRequests, what: Sequence[LeaveOut], routes: Sequence[tuple[str, str]]) -> RawRequests:
    """Without some requests; how many of each kind is noted."""
    for kind in what:
        rows = np.ones(len(found.at_s), bool)
        if kind.route is not None:
            rows &= _fits(found.labels, kind.route, routes, found.fold)
        if kind.status is not None:
            status = np.zeros(len(rows), int) if found.status is None else found.status.astype(int)
            distinct, inverse = np.unique(status, return_inverse=True)
            rows &= np.array([fnmatch.fnmatchcase(str(s), kind.status) for s in distinct], bool)[inverse]
        if kind.agent is not None:
            rows &= _fits(found.agents, kind.agent, (), fold=False)
        if kind.longer is not None:
            rows &= np.zeros(len(rows), bool) if found.latency_s is None else found.latency_s > kind.longer
        note = f"{np.count_nonzero(rows):,} requests are left out: {kind}"
        if not rows.any():
            note = f"leave_out matches no request: {kind}{_instead(found, kind, routes)}"
        if found.bytes_out is not None and (gone := float(found.bytes_out[rows].sum())):
            share = units.show_share(gone / float(found.bytes_out.sum()))
            note += f"; their answers were {share} of all bytes sent, which no bill will have as egress"
        found = found.keep(~rows)
        found.notes.append(note)
        if not len(found.at_s):
            raise TraceError(f"leave_out leaves no request of {', '.join(found.files)}")
    return found


def _instead(found: RawRequests, kind: LeaveOut, routes: Sequence[tuple[str, str]]) -> str:
    """What there is that may have been meant by patterns that match nothing."""
    from libramen.trace.routes import route_of

    said = []
    if kind.route is not None and found.labels is not None:
        texts = found.labels[1]
        names = {route_of(text, routes) if found.fold else text for text in texts[:_MOST_COMPARED]}
        said.append(_nearest("route", kind.route, names))
    if kind.status is not None:
        there = set() if found.status is None else {str(int(code)) for code in np.unique(found.status)}
        said.append(f"its statuses are {', '.join(sorted(there))}" if there else "the log has no statuses")
    if kind.agent is not None:
        agents = None if found.agents is None else found.agents[1][:_MOST_COMPARED]
        said.append("the log has no user agents" if not agents else _nearest("agent", kind.agent, agents))
    if kind.longer is not None:
        longest = None if found.latency_s is None else float(np.nanmax(found.latency_s))
        said.append(
            "the log has no latencies" if longest is None else f"the longest took {units.show_duration(longest)}"
        )
    return f"; {'; '.join(one for one in said if one)}" if any(said) else ""


def _nearest(key: str, pattern: str, there: Iterable[str]) -> str:
    """The text among some that is most like a pattern: `did you mean route '/health'?`."""
    plain = pattern.lower().replace("*", "").replace("?", "")
    by_plain = {text.lower(): text for text in there}
    close = difflib.get_close_matches(plain, by_plain, n=1, cutoff=0.6)
    return f"did you mean {key} {by_plain[close[0]]!r}?" if close else ""


def _fits(
    labels: tuple[np.ndarray, Sequence[str]] | None, pattern: str, routes: Sequence[tuple[str, str]], fold: bool
) -> np.ndarray | bool:
    """Which rows have a label that fits a pattern, as it stands or as the route that it is folded to."""
    if labels is None:
        return False
    from libramen.trace.routes import route_of

    codes, texts = labels
    hits = [
        any(
            fnmatch.fnmatchcase(name.lower(), pattern.lower())
            for name in {text, route_of(text, routes) if fold else text}
        )
        for text in texts
    ]
    fitting: np.ndarray = np.array(hits, bool)[codes]
    return fitting
