"""Routes: many paths folded to a few labels."""

from __future__ import annotations

import fnmatch
import re
from collections import Counter
from collections.abc import Sequence
from typing import Final

import numpy as np

from libramen.trace.growing import blocks, remapped

MOST_ROUTES: Final = 200
REST: Final = "everything else"


_DATE: Final = re.compile(r"\d{4}-\d{2}(-\d{2})?|\d{8}T?\d*")
_UUID: Final = re.compile(r"[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}")
_HASH: Final = re.compile(r"(?=.*\d)(?=.*[a-fA-F])[0-9a-fA-F]{8,}")
_TOKEN: Final = re.compile(r"(?=.*\d)[\w-]{20,}|[\w+=-]{40,}")


def fold_path(path: str) -> str:
    """A path without its query, and with a word in braces for every part that names one thing of many.

    Numbers become `{id}`, dates `{date}`, UUIDs `{uuid}`, hexadecimal hashes `{hash}` and other long
    tokens `{token}`.

    Example:
        >>> fold_path("/bookings/1204/days/2031-06-05?deck=2")
        '/bookings/{id}/days/{date}'
    """
    return "/".join(_fold_part(part) for part in path.partition("?")[0].partition("#")[0].split("/")) or "/"


def _fold_part(part: str) -> str:
    if _DATE.fullmatch(part) and not (part.isdigit() and len(part) != 8):
        return "{date}"
    if part.isdigit():
        return "{id}"
    for pattern, word in ((_UUID, "{uuid}"), (_HASH, "{hash}"), (_TOKEN, "{token}")):
        if pattern.fullmatch(part):
            return word
    return part


def route_of(path: str, routes: Sequence[tuple[str, str]] = ()) -> str:
    """The route of a path: that of the first pattern of `routes` that fits, else the folded path."""
    bare = path.partition("?")[0]
    for pattern, route in routes:
        if fnmatch.fnmatchcase(bare, pattern):
            return route
    return fold_path(path)


def gather(
    codes: np.ndarray, paths: Sequence[str], routes: Sequence[tuple[str, str]] = (), *, fold: bool = True
) -> tuple[np.ndarray, tuple[str, ...]]:
    """Fold distinct paths, and keep the routes with the most requests; the rest become one.

    Args:
        codes: int (n,), index into `paths` of each request.
        paths: distinct paths.
        routes: patterns of paths and the routes that they stand for.
        fold: whether the paths are folded; else they are routes already.

    Returns:
        int32 (n,) indices into the routes, and the routes in alphabetical order.
    """
    folded = [route_of(path, routes) if fold or routes else path for path in paths]
    requests = np.zeros(len(paths), np.int64)
    for rows in blocks(len(codes)):
        requests += np.bincount(codes[rows], minlength=len(paths))
    total: Counter[str] = Counter()
    for route, count in zip(folded, requests.tolist(), strict=True):
        if count:
            total[route] += count
    kept = sorted(total, key=lambda route: (-total[route], route))
    if len(kept) > MOST_ROUTES:
        kept = [*kept[: MOST_ROUTES - 1], REST]
    names = sorted(kept)
    index = {route: code for code, route in enumerate(names)}
    lookup = np.array([index.get(route, index.get(REST, 0)) for route in folded], np.int32)
    return remapped(np.ascontiguousarray(codes, np.int32), lookup), tuple(names)
