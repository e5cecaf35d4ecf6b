"""Sections as HTML, for notebooks."""

from __future__ import annotations

from collections.abc import Iterable
from html import escape

from libramen.report.section import Section


def to_html(sections: Iterable[Section]) -> str:
    """The sections one after the other, as plain HTML that takes its looks from the page."""
    return "\n".join(part for section in sections for part in _parts(section))


def _parts(section: Section) -> Iterable[str]:
    if section.title:
        yield f"<h4>{escape(section.title)}</h4>"
    yield from (f"<p>{escape(sentence)}</p>" for sentence in section.sentences)
    section = section.short()
    if section.rows:
        align = ["right" if column.is_number else "left" for column in section.columns]
        head = "".join(
            f'<th style="text-align: {side}">{escape(column.title)}</th>'
            for column, side in zip(section.columns, align, strict=True)
        )
        yield f"<table><thead><tr>{head}</tr></thead><tbody>"
        for row in section.rows:
            cells = "".join(
                f'<td style="text-align: {side}">{_strong(cell.text, strong=row.stands_out)}</td>'
                for cell, side in zip(row.cells, align, strict=True)
            )
            yield f"<tr>{cells}</tr>"
        yield "</tbody></table>"
    yield from (f"<p><small>{escape(note)}</small></p>" for note in section.notes)


def _strong(text: str, *, strong: bool) -> str:
    return f"<strong>{escape(text)}</strong>" if strong else escape(text)
