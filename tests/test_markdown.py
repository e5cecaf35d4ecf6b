"""Markdown for a pull request: what is said stays what it was, and nothing in a name is markup."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

import pytest
from hypothesis import given, strategies as st
from markdown_it import MarkdownIt
from typer.testing import CliRunner

from libramen import OutputError
from libramen.cli.app import app
from libramen.report.markdown import to_markdown
from libramen.report.section import Cell, Column, Section, row

if TYPE_CHECKING:
    from pathlib import Path

MD = MarkdownIt("gfm-like", {"linkify": False})


def _texts(markdown: str) -> list[str]:
    """All texts of a document, one each for what a reader sees as one; tables cell by cell."""
    return [
        "".join(child.content for child in token.children or () if child.type in {"text", "text_special"})
        for token in MD.parse(markdown)
        if token.type == "inline"
    ]


def _kinds(markdown: str) -> set[str]:
    tokens = MD.parse(markdown)
    return {one.type for token in tokens for one in (token, *(token.children or ()))}


names = st.text(st.characters(codec="utf-8", exclude_categories=["Cc", "Cs", "Zl", "Zp"]), min_size=1, max_size=40)


@given(names, names)
def test_a_name_stays_a_name(one: str, other: str) -> None:
    """Whatever it is: no link, no emphasis, no HTML, no heading, no list, no further cell."""
    section = Section(
        f"of {one}",
        sentences=(f"{other} is said", one),
        columns=(Column(one or "x", is_number=False), Column("n")),
        rows=(row([Cell(other), Cell("1")]),),
        notes=(other,),
        prose=True,
    )
    markdown = to_markdown([section])
    assert _kinds(markdown) <= {
        "heading_open", "inline", "heading_close", "paragraph_open", "paragraph_close", "table_open", "table_close",
        "thead_open", "thead_close", "tbody_open", "tbody_close", "tr_open", "tr_close", "th_open", "th_close",
        "td_open", "td_close", "text", "text_special", "bullet_list_open", "bullet_list_close", "list_item_open",
        "list_item_close",
    }  # fmt: skip
    assert sum(token.type == "td_open" for token in MD.parse(markdown)) == 2


def test_what_tricks_do(tmp_path: Path) -> None:
    tricks = [
        "<script>x</script>",
        "[a](http://x)",
        "**b**",
        "# h",
        "1. one",
        "- two",
        "a|b",
        "`c`",
        "http://x.example",
        "@somebody",
        "&amp;",
        "~~d~~",
    ]
    section = Section(
        sentences=tuple(tricks[:1] + tricks[2:]),
        columns=(Column("name", is_number=False),),
        rows=tuple(row([one]) for one in tricks),
        prose=True,
    )
    markdown = to_markdown([section])
    assert not re.search(r"(?<!\\)<|(?<!\\)\*|(?<![:\u200b])//", markdown)
    seen = [text.replace("\u200b", "") for text in _texts(markdown)]
    assert [text for text in seen if text != "name"][-len(tricks) :] == tricks


@pytest.mark.parametrize(
    "arguments",
    [["compare", "{study}"], ["replay", "{study}", "--plan", "brisk"], ["check", "{study}"], ["tiers", "{tiers}"]],
)
def test_the_commands(hour_study: Path, arguments: list[str]) -> None:
    """The same figures as in the terminal, in tables."""
    given_ = [one.format(study=hour_study, tiers=hour_study.parent / "tiers.toml") for one in arguments]
    run = CliRunner().invoke
    shown, plain = run(app, [*given_, "--format", "md"]), run(app, given_)
    assert shown.exit_code == 0, shown.output
    assert "table_open" in _kinds(shown.stdout)
    seen = " ".join(_texts(shown.stdout))
    figures = set(re.findall(r"\d[\d,]*\.\d+", plain.stdout))
    assert figures
    assert all(figure in seen for figure in figures)


def test_a_form_that_is_none(demo_study: Path) -> None:
    run = CliRunner().invoke
    refused = run(app, ["compare", str(demo_study), "--format", "html"])
    assert isinstance(refused.exception, OutputError)
    assert "--format: found 'html'; allowed: text or md, or --json" in str(refused.exception)
    both = run(app, ["compare", str(demo_study), "--format", "md", "--json"])
    assert "found 'md' beside --json" in str(both.exception)
