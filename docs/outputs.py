"""Runs the commands of the pages and writes what they print: `python docs/outputs.py [PAGE ...] [--check]`.

What stands in a block of the language `console` after a `$ ` is a command, and what follows is its output. In comments
before the block `shows: /REGEX/+2; /REGEX/` picks lines of an output, `shows: all` all of it, and `run: COMMAND` is run
before and not shown. All is run in one folder in which the four demos stand. With `--check` nothing is written, and a
page that says something else is an error.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tempfile
from pathlib import Path

from libramen.demo.write import write_demo

DOCS = Path(__file__).parent
_BLOCK = re.compile(r"((?:<!-- (?:shows|run): [^\n]*? -->\n)*)(```console\n)(.*?)(^```$)", re.DOTALL | re.MULTILINE)
_WIDE = "124"
"""Characters of a line: so many fit into the page."""


_ALLOWED = ("libramen", "cut", "head", "ls")


class PageError(Exception):
    """A command of a page does not work, or does not print what the page wants of it."""


def ran(command: str, folder: Path) -> str:
    """What a command prints on stdout."""
    if command.split(maxsplit=1)[0] not in _ALLOWED:
        raise PageError(f"{command}: found a command that is not to be run for a page; allowed: {', '.join(_ALLOWED)}")
    environment = {**os.environ, "COLUMNS": _WIDE, "TERM": "dumb", "NO_COLOR": "1"}
    done = subprocess.run(command, shell=True, cwd=folder, env=environment, capture_output=True, text=True, check=False)  # noqa: S602  (the pages are ours)
    if done.returncode not in {0, 1}:
        raise PageError(f"{command}: {done.stderr}")
    return done.stdout


def _picked(output: str, shows: str) -> str:
    """The lines that are asked for: `/REGEX/+N; ...`, each from its first match after those before it, and N more."""
    lines = [line.rstrip() for line in output.strip("\n").split("\n")]
    if not shows:
        return "\n".join(lines)
    kept: list[str] = []
    at = 0
    for part in shows.split("; "):
        asked = re.fullmatch(r"/(.*)/(?:\+(\d+))?", part)
        found = [] if asked is None else [n for n, line in enumerate(lines) if n >= at and re.search(asked[1], line)]
        if asked is None or not found:
            raise PageError(f"shows: {part!r} is not in the output that begins with {lines[:3]}")
        if kept and found[0] > at:
            kept.append("...")
        at = found[0] + 1 + int(asked[2] or 0)
        kept += lines[found[0] : at]
    return "\n".join(kept)


def filled(page: str, folder: Path) -> str:
    """A page with the outputs of its commands as they are now."""

    def again(block: re.Match[str]) -> str:
        for command in re.findall(r"<!-- run: (.*?) -->", block[1]):
            subprocess.run(command, shell=True, cwd=folder, capture_output=True, check=True)  # noqa: S602
        shows = re.findall(r"<!-- shows: (.*?) -->", block[1])
        parts = []
        commands = re.findall(r"^\$ ((?:[^\n]*\\\n)*[^\n]*)", block[3], re.MULTILINE)
        for place, command in enumerate(commands):
            output = _picked(
                ran(command, folder), shows[min(place, len(shows) - 1)].replace("all", "") if shows else ""
            )
            parts.append(f"$ {command}\n{output}".rstrip())
        return f"{block[1]}{block[2]}" + "\n".join(parts) + f"\n{block[4]}"

    return _BLOCK.sub(again, page)


def main(arguments: list[str]) -> int:
    """Fill the pages that are named, or all."""
    check = "--check" in arguments
    named = [Path(name).resolve() for name in arguments if name != "--check"]
    wrong = []
    with tempfile.TemporaryDirectory() as made:
        folder = Path(made)
        os.environ["LIBRAMEN_CACHE"] = os.environ.get("LIBRAMEN_CACHE", str(folder / "cache"))
        for study in ("saltmarsh", "landing", "cabins", "islands"):
            write_demo(folder / study, study=study)
        for page in named or sorted(DOCS.rglob("*.md")):
            text = page.read_text(encoding="utf-8")
            if not _BLOCK.search(text):
                continue
            try:
                new = filled(text, folder)
            except PageError as error:
                wrong.append(f"{page.name} ({error})")
                continue
            if new != text and check:
                wrong.append(page.name)
            elif new != text:
                page.write_text(new, encoding="utf-8")
            print(page.name, flush=True)
    if wrong:
        print("say something else than the program (`python docs/outputs.py` writes them anew):", *wrong, sep="\n  ")
    return bool(wrong)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
