"""How many repeats are enough: a sequential test of whether a plan holds."""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import Final

MOST: Final = 200
"""Repeats after which it is left undecided."""
SURE: Final = 0.99
"""A plan that meets every objective with this chance or more is to be said to hold."""
UNSURE: Final = 0.85
"""A plan that meets every objective with this chance or less is to be said not to hold."""
ERROR: Final = 0.05
"""How often either may be said wrongly, at the most, as Wald's approximation has it."""


def verdict(met: Iterable[bool]) -> bool | None:
    """Whether a plan holds, by as many repeats as there are; None: that is not clear yet.

    Wald's sequential probability ratio test of a chance of 0.99 against one of 0.85, with errors of 5 %: the likelihood
    ratio of the two is multiplied up repeat by repeat, until it is above (1 - 0.05) / 0.05 or below 0.05 / (1 - 0.05).
    For a chance in between either answer is right. A. Wald, Sequential Tests of Statistical Hypotheses, Annals of
    Mathematical Statistics 16 (1945). Decided at the first repeat that decides, whatever comes after it.

    Args:
        met: of each repeat in turn, whether it meets every objective.

    Example:
        >>> verdict([True] * 19), verdict([True] * 20), verdict([True, False, False])
        (None, True, False)
    """
    upper = math.log((1 - ERROR) / ERROR)
    ratio = 0.0
    for one in met:
        ratio += math.log(SURE / UNSURE) if one else math.log((1 - SURE) / (1 - UNSURE))
        if ratio >= upper:
            return True
        if ratio <= -upper:
            return False
    return None
