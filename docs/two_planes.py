"""Draws `two-planes.png`: the two planes of the engine, and the state of the compiled one.

python docs/two_planes.py
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from matplotlib import pyplot as plt
from matplotlib.patches import FancyBboxPatch

if TYPE_CHECKING:
    from matplotlib.axes import Axes

INK, SEA, FOAM, SAND, PAPER = "#22313f", "#1f7a8c", "#bfdbe2", "#e9c46a", "#ffffff"


def box(axes: Axes, at: tuple[float, float], size: tuple[float, float], title: str, text: str, fill: str) -> None:
    style = "round,pad=0.02,rounding_size=0.12"
    axes.add_patch(FancyBboxPatch(at, *size, boxstyle=style, facecolor=fill, edgecolor=INK, linewidth=1.2))
    x, y = at[0] + size[0] / 2, at[1] + size[1]
    axes.text(x, y - 0.16, title, ha="center", va="top", fontsize=12, fontweight="bold", color=INK)
    axes.text(x, y - 0.52, text, ha="center", va="top", fontsize=10, color=INK, linespacing=1.45)


def arrow(axes: Axes, start: tuple[float, float], end: tuple[float, float], text: str, at: tuple[float, float]) -> None:
    axes.annotate("", end, start, arrowprops={"arrowstyle": "-|>", "color": SEA, "linewidth": 1.8})
    axes.text(*at, text, fontsize=10, color=SEA, ha="left", va="center", linespacing=1.4)


def main() -> None:
    figure = plt.figure(figsize=(12.8, 8))
    axes = figure.add_axes((0, 0, 1, 1))
    axes.set_xlim(0, 12.8)
    axes.set_ylim(0, 8)
    axes.axis("off")
    axes.text(0.3, 7.75, "Control plane: Python, thousands of events", fontsize=13, color=INK, fontweight="bold")
    box(axes, (0.3, 6.0), (2.8, 1.4), "agenda", "events by time, kind,\nreplica number", SAND)
    box(axes, (3.5, 6.0), (2.8, 1.4), "fleet", "replicas ordered, ready,\ndead, draining, gone", SAND)
    box(axes, (6.7, 6.0), (2.8, 1.4), "scaler, scaling rules", "measures in,\nwanted replicas out", SAND)
    box(axes, (9.9, 6.0), (2.6, 1.4), "updates, rollouts", "versions replaced, step by step", SAND)
    arrow(axes, (2.4, 5.9), (2.4, 4.75), "advance(until)\nadd, drain, withdraw, remove", (2.55, 5.33))
    arrow(
        axes,
        (8.0, 4.75),
        (8.0, 5.9),
        "until is reached; a replica has emptied or died;\nthe chunk is at its end",
        (8.15, 5.33),
    )
    axes.text(
        0.3,
        4.5,
        "Data plane: compiled (kernel) or readable (plain), millions of events",
        fontsize=13,
        color=INK,
        fontweight="bold",
    )
    box(axes, (0.3, 2.75), (2.8, 1.4), "arrivals", "chunk of the trace,\nattempts to be repeated", FOAM)
    box(axes, (3.5, 2.75), (2.8, 1.4), "balancer", "winner tree of loads,\nready rows, held queue", FOAM)
    box(axes, (6.7, 2.75), (2.8, 1.4), "service", "slots, CPU turns, waits,\nbacklog, bank", FOAM)
    box(axes, (9.9, 2.75), (2.6, 1.4), "results", "32 bytes a request,\nor histograms", FOAM)
    for x in (3.1, 6.3, 9.5):
        axes.annotate("", (x + 0.4, 3.45), (x, 3.45), arrowprops={"arrowstyle": "-|>", "color": SEA, "linewidth": 1.8})
    axes.text(
        0.3,
        2.3,
        "The kernel's state: arrays of records, all reached through WORLD",
        fontsize=13,
        color=INK,
        fontweight="bold",
    )
    columns = (
        ("WORLD (1)", "clock, counts,\nlists' ends, addresses"),
        ("LEVEL (2)", "in use now,\nintegrals"),
        ("REPLICA (rows)", "counts, v, bank,\nheads of lists"),
        ("HEAP (2 a row)", "running by v,\nwaiting by time"),
        ("NODE (2 rows)", "earliest completion,\nleast load"),
        ("REQUEST (pool)", "copies, links\nof its list"),
    )
    for k, (title, text) in enumerate(columns):
        axes.add_patch(
            FancyBboxPatch(
                (0.3 + 2.07 * k, 0.75),
                1.86,
                1.2,
                boxstyle="round,pad=0.02,rounding_size=0.08",
                facecolor=PAPER,
                edgecolor=SEA,
            )
        )
        axes.text(1.23 + 2.07 * k, 1.78, title, ha="center", va="top", fontsize=9.5, fontweight="bold", color=INK)
        axes.text(1.23 + 2.07 * k, 1.42, text, ha="center", va="top", fontsize=9, color=INK, linespacing=1.4)
    axes.text(
        0.3,
        0.4,
        "At one instant: completions, control events, time-outs, arrivals, repeated attempts.",
        fontsize=11,
        color=INK,
    )
    figure.savefig(Path(__file__).with_name("two-planes.png"), dpi=100)


if __name__ == "__main__":
    main()
