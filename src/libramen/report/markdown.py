"""Sections as Markdown, for a pull request or a wiki: CommonMark, and tables as most of its readers know them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from typing import Final

from libramen.base.errors import printable
from libramen.report.section import Section

_SPECIAL: Final = re.compile(r"([\\`*_{}\[\]<>#|~&!$]|://|(?<=\w)@(?=\w))")
_AT_BEGIN: Final = re.compile(r"^(\d*)([-+=.)])(?=\s|$)")
"""What makes a paragraph a list or a line."""
_ITEM: Final = "- "


def to_markdown(sections: Iterable[Section]) -> str:
    """The sections one after the other. Names come from anybody: none is a link, a heading, markup or HTML."""
    return "\n\n".join(part for section in sections for part in _parts(section)) + "\n"


def _parts(section: Section) -> Iterator[str]:
    section = section.for_people()
    if section.title:
        yield f"### {_escaped(section.title)}"
    yield from _said(section.sentences, prose=section.prose)
    if section.rows:
        yield "\n".join(_table(section))
    yield from (escaped(note) for note in section.notes)


def _said(sentences: Iterable[str], *, prose: bool) -> Iterator[str]:
    """Paragraphs and lists; lines that are to be copied as they stand are code."""
    items: list[str] = []
    code: list[str] = []
    for sentence in sentences:
        if sentence.startswith("  ") and not prose:
            code.append(printable(sentence).replace("```", "'''"))
            continue
        if sentence.startswith((_ITEM, "  ")):
            items.append(_ITEM + _escaped(sentence.strip().removeprefix(_ITEM)))
            continue
        yield from _blocks(items, code)
        yield escaped(sentence)
    yield from _blocks(items, code)


def _blocks(items: list[str], code: list[str]) -> Iterator[str]:
    if items:
        yield "\n".join(items)
    if code:
        yield "\n".join(["```", *code, "```"])
    items.clear()
    code.clear()


def _table(section: Section) -> Iterator[str]:
    yield _line(_escaped(column.title) for column in section.columns)
    yield _line("--:" if column.is_number else ":--" for column in section.columns)
    for row in section.rows:
        texts = [_escaped(cell.text) for cell in row.cells]
        yield _line(f"**{text}**" if row.stands_out and text.strip() else text for text in texts)


def _line(cells: Iterable[str]) -> str:
    return f"| {' | '.join(cells)} |"


def escaped(text: str) -> str:
    """A paragraph that stands there as it is."""
    return _AT_BEGIN.sub(r"\1\\\2", _escaped(text))


def _escaped(text: str) -> str:
    """A text in a cell, or behind a sign that says what it is."""
    return _SPECIAL.sub(lambda found: _kept(found[0]), " ".join(printable(text).split()))


def _kept(sign: str) -> str:
    """A sign that means nothing any more: an address is no link, and a name nobody's who would be told."""
    if sign == "://":
        return ":\N{ZERO WIDTH SPACE}//"
    return "@\N{ZERO WIDTH SPACE}" if sign == "@" else f"\\{sign}"
