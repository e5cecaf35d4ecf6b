"""Draws `rooms.png`: the rooms of the house, and the way of a plan and of a trace through them.

python docs/rooms.py
"""

from __future__ import annotations

from pathlib import Path

from matplotlib import pyplot as plt
from matplotlib.patches import FancyBboxPatch

INK, SEA, FOAM, SAND, STONE = "#22313f", "#1f7a8c", "#bfdbe2", "#e9c46a", "#e8e8e4"
WIDTH, HEIGHT = 2.3, 1.15

ROOMS = {
    "trace": (0.3, 5.75, FOAM, "files to a Trace:\nformats, shape, making"),
    "load": (2.9, 5.75, FOAM, "the work in a log:\nthe engine backwards"),
    "rules": (0.3, 3.75, SAND, "scaling, releases, faults:\nkeys, and how they decide"),
    "study": (2.9, 3.75, SAND, "tables only: services,\ntiers, plans, the file"),
    "engine": (5.5, 5.75, FOAM, "one replay: two data planes\nand a control plane"),
    "bill": (5.5, 3.75, FOAM, "what was used,\nthen prices"),
    "outcome": (8.1, 5.75, FOAM, "requests, services,\nfigures, findings"),
    "runs": (8.1, 3.75, FOAM, "many replays, here\nor on many machines"),
    "questions": (8.1, 1.75, FOAM, "compare, search,\nheadroom, events"),
    "trust": (5.5, 1.75, FOAM, "backtest, fit, doubt"),
    "report, draw": (10.7, 3.75, STONE, "sentences, sections,\nfigures to look at"),
    "cli, demo": (10.7, 1.75, STONE, "the command line,\nthe shipped studies"),
}
WAYS = [
    ((2.6, 6.45), (2.9, 6.45), ""),
    ((5.2, 6.45), (5.5, 6.45), ""),
    ((2.6, 4.3), (2.9, 4.3), ""),
    ((5.2, 4.7), (6.1, 5.75), "Plan"),
    ((7.8, 6.45), (8.1, 6.45), ""),
    ((6.65, 5.75), (6.65, 4.9), "Run"),
    ((7.8, 4.7), (8.4, 5.75), "Bill"),
    ((9.25, 5.75), (9.25, 4.9), "Figures"),
    ((9.25, 3.75), (9.25, 2.9), "Figures"),
    ((8.1, 2.3), (7.8, 2.3), ""),
    ((10.4, 2.6), (11.2, 3.75), ""),
    ((10.4, 6.2), (11.6, 4.9), "Outcome"),
    ((11.85, 3.75), (11.85, 2.9), ""),
]


def main() -> None:
    figure = plt.figure(figsize=(13.3, 7.4))
    axes = figure.add_axes((0, 0, 1, 1))
    axes.set_xlim(0, 13.3)
    axes.set_ylim(0, 7.4)
    axes.axis("off")
    for name, (x, y, fill, what) in ROOMS.items():
        style = "round,pad=0.02,rounding_size=0.1"
        axes.add_patch(FancyBboxPatch((x, y), WIDTH, HEIGHT, boxstyle=style, facecolor=fill, edgecolor=INK))
        axes.text(x + WIDTH / 2, y + 0.95, name, ha="center", va="top", fontsize=12, fontweight="bold", color=INK)
        axes.text(x + WIDTH / 2, y + 0.6, what, ha="center", va="top", fontsize=9.5, color=INK, linespacing=1.35)
    for start, end, carried in WAYS:
        axes.annotate("", end, start, arrowprops={"arrowstyle": "-|>", "color": SEA, "linewidth": 1.8})
        x, y = (start[0] + end[0]) / 2, (start[1] + end[1]) / 2
        aside = 0.12 if 0 in (end[0] - start[0], end[1] - start[1]) else 0.24
        axes.text(x + aside, y + 0.14, carried, fontsize=10, color=SEA, va="center")
    axes.text(0.3, 7.1, "What happens: a trace", fontsize=11, color=INK, style="italic")
    axes.text(0.3, 5.15, "What is asked: a study", fontsize=11, color=INK, style="italic")
    axes.add_patch(FancyBboxPatch((0.3, 0.35), 12.7, 0.7, boxstyle="round,pad=0.02", facecolor="white", edgecolor=SEA))
    axes.text(
        6.65,
        0.7,
        "below them all, base: errors, units, times, files, streams, tables, results, and the seam",
        ha="center",
        va="center",
        fontsize=10.5,
        color=INK,
    )
    figure.savefig(Path(__file__).with_name("rooms.png"), dpi=100, metadata={"Software": None})


if __name__ == "__main__":
    main()
