"""What a log may have that is not traffic of users: health checks and robots, with the line that leaves them out."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Final

import numpy as np

from libramen.base import units
from libramen.trace.raw_requests import RawRequests
from libramen.trace.routes import route_of

_HEALTH: Final = re.compile(
    r"/(_?health([a-z_-]*z?|/.*)?|ready(z|ness)?|live(z|ness)?|ping|heartbeat|alive)/?", re.IGNORECASE
)
_ROBOT: Final = re.compile(r"bot\b|bot/|crawl|spider|slurp|monitor|uptime|probe", re.IGNORECASE)
_FEW: Final = 5


def hints_of(found: RawRequests, routes: Sequence[tuple[str, str]]) -> list[str]:
    """A sentence for each kind of request that is probably not a visit, with the line to paste."""
    return [*_health_checks(found, routes), *_robots(found)]


def _health_checks(found: RawRequests, routes: Sequence[tuple[str, str]]) -> list[str]:
    if found.labels is None:
        return []
    codes, texts = found.labels
    counts = np.bincount(codes, minlength=len(texts))
    per_route: dict[str, int] = {}
    for text, count in zip(texts, counts.tolist(), strict=True):
        route = route_of(text, routes) if found.fold else text
        if _HEALTH.fullmatch(route):
            per_route[route] = per_route.get(route, 0) + count
    return [
        (
            f"{count:,} requests ({units.show_share(count / len(codes))}) ask for {route!r}: health checks? They are "
            f'no load to plan for; to leave them out: leave_out = [{{ route = "{route}" }}]'
        )
        for route, count in sorted(per_route.items(), key=lambda entry: -entry[1])
        if count >= _FEW
    ]


def _robots(found: RawRequests) -> list[str]:
    if found.agents is None:
        return []
    codes, texts = found.agents
    robots = np.array([_ROBOT.search(text) is not None for text in texts], bool)
    count = int(np.count_nonzero(robots[codes])) if len(texts) else 0
    if count < _FEW:
        return []
    words = sorted({match[0].lower().rstrip("/") for text in texts if (match := _ROBOT.search(text))})
    tables = ", ".join(f'{{ agent = "*{word}*" }}' for word in words)
    share = units.show_share(count / len(codes))
    sentence = f"{count:,} requests ({share}) are of agents that are robots by their names: visits to plan for?"
    return [f"{sentence} To leave them out: leave_out = [{tables}]"]
