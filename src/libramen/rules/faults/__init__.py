"""Faults: one small class a kind.

A kind is a table of the study (its fields are the keys of `[[plans.NAME.faults]]`) that does something to the fleet
when it strikes.
"""

from __future__ import annotations

from libramen.rules.faults.crash import Crash
from libramen.rules.faults.fault import Fault

KINDS = Crash

__all__ = ["KINDS", "Crash", "Fault"]
