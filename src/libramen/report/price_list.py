"""Sections about a catalogue: its tiers, and what each size costs."""

from __future__ import annotations

from collections.abc import Iterator

from libramen.base import units
from libramen.bill.price_list import PricedSize, PriceList
from libramen.report.section import Cell, Column, Row, Section, row


def shown(found: PriceList) -> list[Section]:
    """What a notebook shows."""
    return price_sections("catalogue", found)


def price_sections(name: str, found: PriceList, doubts: tuple[str, ...] = ()) -> list[Section]:
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
    month = f"{found.currency}/month"
    return Section(
        columns=(
            Column("tier", "tier", is_number=False),
            Column("size", "size", is_number=False),
            Column("cores", "cores"),
            Column("speed", "speed", only_wide=True),
            Column("memory", "memory", "bytes", in_short=False),
            Column("replicas", "replicas", in_short=False),
            Column("idle", "idle", month),
            Column("half used", "half", month),
            Column("full", "full", month),
            Column("a core-month", "per_core_month", found.currency),
            Column("a million requests", "per_million", found.currency),
            Column("requests a month", "requests", "1/month", only_wide=True),
        ),
        rows=tuple(_row(size, is_best=size is cheapest) for size in found.sizes),
        notes=tuple(_notes(found)),
        name="sizes",
    )


def _row(size: PricedSize, *, is_best: bool) -> Row:
    cells: list[Cell | str] = [
        size.tier,
        size.size,
        Cell(f"{size.cores:g}", size.cores),
        Cell(f"{size.speed:g}", size.speed),
        Cell("-" if size.memory is None else f"{size.memory / 1e9:.3g} GB", size.memory),
        Cell(str(size.replicas), size.replicas),
        *(Cell(f"{amount:,.2f}", float(amount)) for amount in (size.idle, size.half, size.full)),
        Cell(f"{size.per_core_month:,.2f}", size.per_core_month),
        Cell(f"{size.per_million:,.3f}", size.per_million),
        Cell(f"{size.requests:,.0f}", size.requests),
    ]
    return row(cells, stands_out=is_best)


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
