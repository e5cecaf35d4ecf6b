"""What a status in a log says of a request: answered, refused, or given up by its client."""

from __future__ import annotations

from typing import Final

import numpy as np

TOO_MANY: Final = 429
"""Refused by the server itself: whichever it was, no slot was taken."""
REFUSED: Final = (TOO_MANY, 502, 503, 504)
"""Where no server says otherwise these took no slot."""
GAVE_UP: Final = (408, 499)


def has_failed(status: np.ndarray) -> np.ndarray:
    """Whether the server failed or refused: int16 (n,) -> bool (n,)."""
    failed: np.ndarray = (status >= 500) | (status == TOO_MANY)
    return failed


def gave_up(status: np.ndarray) -> np.ndarray:
    """Whether the client gave up: int16 (n,) -> bool (n,)."""
    return np.isin(status, GAVE_UP)


def is_answer(status: np.ndarray) -> np.ndarray:
    """Whether it was answered, so that its latency tells of its work: int16 (n,) -> bool (n,).

    Example:
        >>> is_answer(np.array([200, 304, 404, 429, 499, 503])).tolist()
        [True, True, True, False, False, False]
    """
    answered: np.ndarray = ~(has_failed(status) | gave_up(status))
    return answered
