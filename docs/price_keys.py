"""Writes `prices.md`: what a month is made of, every price with its keys, and the account, from their classes.

python docs/price_keys.py
"""

from __future__ import annotations

import inspect
from pathlib import Path
from typing import TYPE_CHECKING

from libramen.base.units import show_duration
from libramen.prices import PRICES
from libramen.prices.fees import Fee
from libramen.prices.lines import Step
from libramen.prices.replica_hours import Commitment
from libramen.study.terms import Account, DayTimes, MonthTable

if TYPE_CHECKING:
    from pydantic.fields import FieldInfo

    from libramen.base.fields import Table
    from libramen.prices.price import Price

HEAD = """# What a month costs

Written by `python docs/price_keys.py` from the classes in `src/libramen/prices/`, a file each. How use becomes a
bill, exactly, is in [model.md](model.md).

A price is a number, or a text such as `"0.031"`. The price of a quantity may be in **steps**, each part at its own
price:

```toml
egress_per_gb = [{ up_to = 10_000, price = 0.09 }, { up_to = 50_000, price = 0.07 }, { price = 0.05 }]
```

Each part is a line of the bill. What is free comes off first. **What is of a tier** is paid once for all services of
a plan that are on it: fixed fees, zones, the least of a month, free allowances, steps over the sum of all; **what is
of a fleet** by each: replicas and its balancer. Each service's part of every line is in
`outcome.services[name].bill`, and they add up.

A plan may **commit** to some replicas: they are paid all month, used or not, for less. How many pay:
`libramen search study.toml --plan steady --vary committed.replicas=0..12` replays the plan once.

```toml
[plans.steady]
committed = [{ replicas = 4, off = "30%", upfront = 300, months = 12 }]
```

**Fees** stand in `[study]`, in a tier, in a size or in a plan. A share comes after all else: of a size or a plan on
the lines of its service and on its part of the tier's; of a tier on all its lines and those of its services; of the
study on everything. Tax is the last line, and the objective `month` is about the total with it.

```toml
[study]
tax = "21%"
fees = [{ name = "support", share = "3%", least = 29 }, { name = "domain", per_year = 24 }]
```

**A month** has 730 hours. A trace of less than a week stands for all of it; a longer one hour of the week by hour of
the week; and `[month] days` says it by days: one like that of the festival, 29 like any other.

```toml
[month]
days = [{ day = "2031-06-05", times = 1 }, { day = "other", times = 29 }]
```

A release or a fault with a single instant happens **once** a month: the trace is replayed with it and without it, and
the rest of the month is without it. One that is `daily`, or has `days`, is as often as the trace has it. With
`[month] days` each is as often as its hour. Availability, shares, percentiles, the error budget and the bill are all
about the month; every output says what it is made of. Changing a price, the days or the tax replays nothing: kept
figures are reckoned anew (but for the replay without an event that from now on happens once).

**An account** has limits over all services of a plan. An order beyond them is held back until a replica is gone:

```toml
[account]
replicas = 20
```

`libramen replay study.toml --plan steady --money money.png` draws where the money goes: what was used, by route, what
stood idle, what was starting or leaving, what was committed for nothing. `outcome.costs` and `--json` have it all.
"""

PLACES = {
    "of_tier": "`[tiers.T]`", "of_free": "`[tiers.T] free = { ... }`", "of_size": "`[tiers.T.sizes.S]`",
    "of_plan": "`[plans.P]`", "of_study": "`[study]`",
}  # fmt: skip


def rows(table: type[Table], place: str = "") -> list[str]:
    """A row of Markdown for each key of a table."""
    where = f" {place} |" if place else ""
    return [
        f"| `{name}` |{where} {field.description} | {'must be given' if field.is_required() else _written(field)} |"
        for name, field in table.model_fields.items()
    ]


def _written(field: FieldInfo) -> str:
    default = field.default
    if default in (None, (), {}):
        return ""
    if "[s]" in (field.description or ""):
        default = show_duration(default)
    return f"`{default}`"


NAMES = {
    "CoreSeconds": "Cores in use", "GbSeconds": "Memory in use", "ReplicaHours": "Replicas by time, and commitments",
    "ReplicaMonths": "Replicas by the month", "Balancer": "Balancers", "Fixed": "Fixed fees",
    "Least": "The least of a month", "Shares": "Fees that are a share",
}  # fmt: skip


def _price(price: Price) -> str:
    keys = []
    for of, place in PLACES.items():
        if (table := getattr(price, of)) is not None:
            keys += rows(table, place)
    name = type(price).__name__
    told = [f"## {NAMES.get(name, name)}\n", inspect.cleandoc(price.__doc__ or ""), ""]
    return "\n".join([*told, *_table(keys, "| key | where |")]).rstrip() + "\n"


def _table(keys: list[str], head: str) -> list[str]:
    return [f"{head} | default |", "|---" * (head.count("|") + 1) + "|", *keys] if keys else []


def section(title: str, table: type[Table]) -> str:
    return "\n".join([f"## {title}\n", *_table(rows(table), "| key |")]) + "\n"


def page() -> str:
    """The whole page."""
    more = [
        section("Each step", Step),
        section("Each commitment", Commitment),
        section("Each fee: a name, and one of the kinds", Fee),
        section("`[month]`", MonthTable),
        section("Each of its days", DayTimes),
        section("`[account]`", Account),
    ]
    return "\n".join([HEAD, *map(_price, PRICES), *more])


if __name__ == "__main__":
    Path(__file__).with_name("prices.md").write_text(page())
