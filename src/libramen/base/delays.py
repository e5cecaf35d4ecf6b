"""How long something takes that does not always take as long: a constant, or two percentiles."""

from __future__ import annotations

import math
from dataclasses import dataclass
from statistics import NormalDist
from typing import Annotated, Any, Final

from pydantic import BeforeValidator, PlainSerializer, WithJsonSchema

from libramen.base import units
from libramen.base.errors import UnitError
from libramen.base.ranks import PERCENTILES

DELAY: Final = f'{units.DURATION}; or two percentiles such as {{ p50 = "6s", p95 = "14s" }}'


@dataclass(frozen=True)
class Delay:
    """A duration with a log-normal distribution; `sigma` 0: a constant.

    Start-up times are never negative and have a long tail to the right; of the distributions with two
    parameters that have both, the log-normal is the one whose percentiles can be written down
    (Johnson, Kotz, Balakrishnan, Continuous Univariate Distributions 1, chapter 14): the logarithm of the
    percentile p is `mu + sigma * z(p)`, z that of the standard normal.

    Attributes:
        median_s: half of the values are below [s].
        sigma: standard deviation of the logarithm.

    Example:
        >>> round(Delay.of(p50=6.0, p95=14.0).percentile(0.95), 9)
        14.0
    """

    median_s: float
    sigma: float = 0.0

    @classmethod
    def of(cls, **percentiles: float) -> Delay:
        """Fit it exactly to two percentiles [s], such as p50 and p95."""
        (z_low, low_s), (z_high, high_s) = sorted(
            (NormalDist().inv_cdf(PERCENTILES[name]), value_s) for name, value_s in percentiles.items()
        )
        sigma = (math.log(high_s) - math.log(low_s)) / (z_high - z_low)
        return cls(low_s if z_low == 0 else math.exp(math.log(low_s) - sigma * z_low), sigma)

    @property
    def is_constant(self) -> bool:
        """Whether it is always the same."""
        return self.sigma == 0

    def at(self, z: float) -> float:
        """The value that belongs to a value of the standard normal distribution [s]."""
        if not self.sigma:
            return self.median_s
        return min(units.LONGEST_S, self.median_s * math.exp(min(700.0, self.sigma * z)))

    def percentile(self, share: float) -> float:
        """The value that this share of all values is at or below [s]."""
        return self.at(NormalDist().inv_cdf(share))

    def __str__(self) -> str:
        if self.is_constant:
            return units.show_duration(self.median_s)
        return f"{units.show_duration(self.median_s)} (p95 {units.show_duration(self.percentile(0.95))})"


def parse_delay(value: Any) -> Delay:
    """Read a duration, or a table of two percentiles.

    Raises:
        UnitError: it is neither.
    """
    if isinstance(value, Delay):
        return value
    if not isinstance(value, dict):
        return Delay(units.parse_duration(value))
    if len(value) != 2 or not set(value) <= set(PERCENTILES):
        raise UnitError(value, f"two of {', '.join(PERCENTILES)}")
    percentiles = {name: units.parse_duration(value[name]) for name in sorted(value, key=PERCENTILES.__getitem__)}
    (low, low_s), (high, high_s) = percentiles.items()
    if not 0 < low_s <= high_s:
        raise UnitError(value, f"{low} above 0, and {high} not below it")
    return Delay.of(**percentiles)


def _written(delay: Delay) -> Any:
    if delay.is_constant:
        return delay.median_s
    return {name: delay.percentile(PERCENTILES[name]) for name in ("p50", "p95")}


_DURATION: Final = [{"type": "number", "minimum": 0}, {"type": "string", "pattern": units.DURATION_PATTERN}]
DelayField = Annotated[
    Delay,
    BeforeValidator(parse_delay),
    PlainSerializer(_written),
    WithJsonSchema(
        {
            "anyOf": [
                *_DURATION,
                {
                    "type": "object",
                    "minProperties": 2,
                    "maxProperties": 2,
                    "propertyNames": {"enum": [*PERCENTILES]},
                    "additionalProperties": {"anyOf": _DURATION},
                },
            ],
            "description": DELAY,
        }
    ),
]
"""A field of a table: a duration, or two percentiles of one."""
