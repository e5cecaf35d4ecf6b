"""What each size of a catalogue costs in a month: idle, half used and full, before anything is replayed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from typing import Any, Final

from libramen.base import units
from libramen.base.errors import StudyError, UnitError
from libramen.base.results import Cents, Result
from libramen.base.shown import Shown
from libramen.bill.account import charges_of
from libramen.bill.use import Known
from libramen.prices.lines import HOURS, total
from libramen.study.hosting import Hosting
from libramen.study.service import Size, Tier
from libramen.study.terms import Terms

CPU_S: Final = 0.05
"""CPU work of a request, where nobody says otherwise [core-seconds]."""
BYTES: Final = 10_000
"""Of an answer, likewise."""
USES: Final = (0.0, 0.5, 1.0)
_MONTH_S: Final = HOURS * 3600


@dataclass(frozen=True)
class PricedSize(Result):
    """What a size costs in a month.

    Attributes:
        tier, size: their names.
        cores, speed, memory: of a replica [cores, against the reference core, bytes].
        replicas: how many that is about: the fewest that the tier sells, at least one.
        requests: how many a month they can answer, with their cores fully used.
        idle, half, full: what a month costs with none, half and all of that.
        per_core_month: `full` for each core of the reference speed that requests may use all the time.
        per_million: `full` for a million of the requests.
    """

    tier: str
    size: str
    cores: float
    speed: float
    memory: int | None
    replicas: int
    requests: float
    idle: Cents
    half: Cents
    full: Cents
    per_core_month: float
    per_million: float


@dataclass(frozen=True)
class PriceList(Shown):
    """The sizes of some tiers, in their order.

    Attributes:
        tiers: by name.
        sizes: of all of them.
        currency: of all amounts.
        cpu_s, bytes: of a request, as assumed.
        notes: what was assumed in reading them.
    """

    tiers: dict[str, Tier]
    sizes: tuple[PricedSize, ...]
    currency: str
    cpu_s: float
    bytes: int
    notes: tuple[str, ...] = ()

    def to_dict(self) -> dict[str, Any]:
        """The JSON of the command line."""
        return {
            "currency": self.currency,
            "cpu_s": self.cpu_s,
            "bytes": self.bytes,
            "notes": list(self.notes),
            "tiers": {name: {"summary": tier.summary, "billing": tier.billing} for name, tier in self.tiers.items()},
            "sizes": [size.to_dict() for size in self.sizes],
        }


def price_list(
    tiers: Mapping[str, Tier],
    *,
    cpu: float | str = CPU_S,
    bytes_out: int | str = BYTES,
    terms: Terms | None = None,
    notes: tuple[str, ...] = (),
) -> PriceList:
    """What each size of some tiers costs in a month, as the bill of a plan with the fewest replicas would say.

    Half used is half of the time that the cores are there: so many requests as keep them busy for that. Of lent CPU it
    is what may be used for ever. Where replicas are paid by use, none is there while nothing is asked.

    Args:
        tiers: by name.
        cpu: CPU work of a request on the reference core [core-seconds].
        bytes_out: of an answer [bytes].
        terms: tax, fees and currency. Default: none, EUR.
        notes: what was assumed in reading the tiers.

    Raises:
        StudyError: `cpu` is not above 0, or one of the two is not allowed.

    Example:
        >>> tier = Tier(billing="per_hour", sizes={"small": Size(cores=1, per_hour="0.03")})
        >>> price_list({"tier": tier}).sizes[0].full
        Decimal('21.90')
    """
    try:
        cpu_s, sent = units.parse_duration(cpu), units.parse_size(bytes_out)
    except UnitError as error:
        raise StudyError(f"a request: {error}") from None
    if not cpu_s > 0:
        raise StudyError(f"a request: found {cpu!r} of CPU work; allowed: above 0, such as 50ms")
    terms = Terms() if terms is None else terms
    sizes = tuple(
        _priced(tier, size, Fraction(cpu_s), sent, terms) for tier in tiers.values() for size in tier.sizes.values()
    )
    return PriceList(dict(tiers), sizes, terms.currency, cpu_s, sent, notes)


def _priced(tier: Tier, size: Size, cpu_s: Fraction, sent: int, terms: Terms) -> PricedSize:
    n = max(1, tier.replicas.least)
    hosting = Hosting(tier=tier, size=size, replicas=n, plan="list")
    cores = hosting.cores if hosting.steady_cores is None else min(hosting.cores, hosting.steady_cores)
    work = n * Fraction(str(cores)) * Fraction(str(size.speed))  # core-seconds of the reference core, a second
    requests = work * _MONTH_S / cpu_s
    idle, half, full = (_month(hosting, n, Fraction(str(use)), requests, sent, terms) for use in USES)
    return PricedSize(
        tier=tier.name,
        size=size.name,
        cores=size.cores,
        speed=size.speed,
        memory=size.memory,
        replicas=n,
        requests=float(requests),
        idle=idle,
        half=half,
        full=full,
        per_core_month=float(Fraction(full) / work),
        per_million=float(Fraction(full) / requests * 10**6),
    )


def _month(hosting: Hosting, n: int, use: Fraction, requests: Fraction, sent: int, terms: Terms) -> Decimal:
    """What a month costs in which so much of the cores is used."""
    tier, name = hosting.tier, "service"
    there_s = _MONTH_S * (use if tier.billing == "per_request" and tier.replicas.least == 0 else Fraction(1))
    asked = use * requests
    known = Known(
        amounts={name: {"requests": asked, "egress": asked * sent, "in_use": use * n * _MONTH_S}},
        ranks={name: (there_s,) * n},
        at_once={name: n},
        zones={name: min(n, len(hosting.zones_used)) * there_s / 3600},
    )
    charges = charges_of({name: hosting}, known, terms)
    return total(tuple(charge.line for charge in charges))
