"""Replicas as a plan lists them: so many from which moment on."""

from __future__ import annotations

from typing import Any, Final

from libramen.base.errors import UnitError
from libramen.base.times import parse_moment

_REPLICAS: Final = 'a whole number, or pairs of a moment and a whole number such as [["2031-06-05T06:00", 3]]'


def number_or_list(value: Any) -> Any:
    """The same, if it is one of the two.

    Raises:
        UnitError: it is neither; one sentence, whichever was meant.
    """
    if value is None or (isinstance(value, int) and not isinstance(value, bool)):
        return value
    if not isinstance(value, list | tuple):
        raise UnitError(value, _REPLICAS)
    for entry in value:
        if not isinstance(entry, list | tuple) or len(entry) != 2 or not isinstance(entry[1], int):
            raise UnitError(entry, _REPLICAS)
        parse_moment(entry[0])
    return value
