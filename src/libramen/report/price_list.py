"""Sections about a catalogue: its tiers, and what each size costs."""

from __future__ import annotations

from collections.abc import Iterator

from libramen.base import units
from libramen.bill.price_list import PricedSize, PriceList
from libramen.report.columns import money, number, table, words
from libramen.report.section import Cell, Section


def price_sections(found: PriceList, name: str = "catalogue", doubts: tuple[str, ...] = ()) -> list[Section]:
    """Each tier in a line, and a row a size; `name`: of the file; `doubts`: what can hardly be meant."""
    meant = tuple(f"- {doubt[0].upper()}{doubt[1:]}" for doubt in doubts)
    said = [f"{tier.name}: {tier.summary}" for tier in found.tiers.values() if tier.summary]
    n, sizes = len(found.tiers), len(found.sizes)
    many = f"{n} {'tier' if n == 1 else 'tiers'}, {sizes} {'size' if sizes == 1 else 'sizes'}"
    return [
        *([Section("Can this be meant?", meant, prose=True)] if meant else []),
        Section(f"{name}: {many}", tuple(said), prose=True),
        *([Section(sentences=tuple(f"  {note}" for note in found.notes))] if found.notes else []),
        sizes_section(found),
    ]


def sizes_section(found: PriceList) -> Section:
    """What a month costs, idle, half used and full."""
    cheapest = min(found.sizes, key=lambda size: size.per_core_month)
    currency = found.currency
    return table(
        (
            words("tier", "tier"),
            words("size", "size"),
            number("cores", "cores", form="{:g}"),
            number("speed", "speed", form="{:g}", only_wide=True),
            number("memory", "memory", _memory, unit="bytes", in_short=False),
            number("replicas", "replicas", form="{}", in_short=False),
            *(money(title, title.split()[0], currency) for title in ("idle", "half used", "full")),
            number("a core-month", "per_core_month", form="{:,.2f}", unit=currency),
            number("a million requests", "per_million", form="{:,.3f}", unit=currency),
            number("requests a month", "requests", form="{:,.0f}", unit="1/month", only_wide=True),
        ),
        found.sizes,
        stands_out=lambda size: size is cheapest,
        notes=tuple(_notes(found)),
        name="sizes",
    )


def _memory(size: PricedSize) -> Cell:
    return Cell("-" if size.memory is None else f"{size.memory / 1e9:.3g} GB", size.memory)


def _notes(found: PriceList) -> Iterator[str]:
    sent = units.show_count(found.bytes / 1000)
    yield (
        f"{found.currency} a month of 730 h, with the fewest replicas that the tier sells; requests take "
        f"{units.show_duration(found.cpu_s)} of CPU work on the reference core and {sent} kB (--cpu, --bytes)."
    )
    yield (
        "full: all cores are busy all month, of lent CPU the steady ones; half used: half of them. A core-month (at "
        "the reference speed) and a million requests are priced at full use."
    )
    yield "No fleet can be fully used all month: queues would grow. A replay shows how much spare capacity is needed."
