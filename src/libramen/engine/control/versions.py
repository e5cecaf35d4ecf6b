"""What replicas run, and which are still to be ordered."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Final, NamedTuple

from libramen.base.delays import Delay
from libramen.engine.border.records import Profile
from libramen.engine.replica import Replica
from libramen.study.hosting import Hosting
from libramen.study.service import Tier


class Version(NamedTuple):
    """What a replica runs: how it differs from the service as written."""

    profile: Profile
    start: Delay
    crashes_after: float | None = None  # its replicas die so long after they became ready [s]


class Owed(NamedTuple):
    """A replacement to be ordered as soon as that may be: its version, who serves until it is ready, and why."""

    version: int
    stands_for: Replica | None
    why: str


FIRST: Final = 1
"""The version of the replicas at the start."""


def as_quick(_replica: Replica) -> float:
    """By how much CPU work is multiplied on a replica, where nothing makes it slower."""
    return 1.0


def never(_zone: str, _tier: str) -> bool:
    """Whether there is no machine to be had in a zone of a tier, where there always is."""
    return False


def draws_by_number(hosting: Hosting, tiers: Iterable[Tier], versions: Iterable[Version]) -> bool:
    """Whether replicas still draw something that depends on their number."""
    starts = [version.start for version in versions]
    starts += [update.start for update in hosting.rollouts if update.start is not None]
    delays_vary = not all(delay.is_constant for delay in (*(tier.provision for tier in tiers), *starts))
    return delays_vary or any(tier.order_fails > 0 for tier in tiers) or hosting.tier.health is not None
