"""Draws `scaling-rules.png` and prints the table of choosing-a-scaling-rule.md: one day under six rules.

python docs/scaling_rules.py
"""

from __future__ import annotations

from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Any

import numpy as np
from matplotlib import pyplot as plt

from libramen import Outcome, Plan, Service, Trace, load_study, replay
from libramen.base.units import show_duration, show_money, show_share
from libramen.demo.make import make_day
from libramen.demo.write import write_demo
from libramen.trace.shape import shaped
from libramen.trace.steps import Campaign, Jitter, Repeat, Scale, Without

if TYPE_CHECKING:
    from matplotlib.axes import Axes

INK, SEA, FOAM, BUOY, SAND, DUSK = "#22313f", "#1f7a8c", "#bfdbe2", "#e4572e", "#e9c46a", "#7d5ba6"
DAYS = 3

LIMITS = {"floor": 2, "ceiling": 40}
SEEN = {"every": "20s", "lag": "20s", "pause_down": "5m"} | LIMITS
STEPS = {"up": [{"above": "40%", "add": 2}, {"above": "70%", "add": 6}], "down": [{"below": "20%", "remove": 1}]}
TIMES = [{"at": "06:00", "floor": 18}, {"at": "09:00", "floor": 8}, {"at": "22:30", "floor": 2}]
RULES: dict[str, tuple[str, dict[str, Any]]] = {
    "target, CPU at 40 %": ("tidal", {"rule": "target", "measure": "cpu", "target": "40%"} | SEEN),
    "target, 1.5 in progress": ("tidal", {"rule": "target", "measure": "in_progress", "target": 1.5} | SEEN),
    "steps of CPU": ("tidal", {"rule": "steps", "measure": "cpu"} | STEPS | SEEN),
    "fixed, by timetable": ("tidal", {"rule": "fixed", "timetable": TIMES}),
    "ahead, 1.5 in progress": (
        "tidal",
        {"rule": "ahead", "measure": "in_progress", "target": 1.5, "margin": "25%"} | SEEN,
    ),
    "on arrival": ("lantern", {"rule": "on_arrival", "idle": "5m", "ceiling": 40}),
}


def three_days() -> Trace:
    """Three like days without a festival, six times the demo's load; on the last half an hour by surprise."""
    steps = [Without(without=["/festival/tickets"]), Scale(scale=6), Repeat(repeat=f"{DAYS}d")]
    surprise = Campaign(campaign=f"{24 * (DAYS - 1) + 14}h", height=8, rise="5m", fall="30m")
    return shaped(make_day(), [*steps, Jitter(jitter="10s"), surprise], seed=1)


def draw(axes: Axes, name: str, outcome: Outcome) -> None:
    series, first = outcome.series_arrays(), (DAYS - 1) * 1440
    hour = (series["at_s"][first:] / 3600) % 24
    load = series["arrivals"][first:] / 60
    axes.fill_between(hour, load / 4, step="post", color=FOAM, linewidth=0, label="requests / s, divided by 4")
    axes.step(hour, series["ready"][first:], where="post", color=SEA, linewidth=1.3, label="replicas ready")
    failed = (series["arrivals"] - series["ok"])[first:] > 0
    axes.plot(hour[failed], np.full(np.count_nonzero(failed), -1.6), "|", color=BUOY, markersize=8, label="some failed")
    scaled = [d.at_s / 3600 % 24 for d in outcome.run.only.decisions if d.acted and d.at_s >= first * 60]
    axes.set_title(name, loc="left", fontsize=11, fontweight="bold", color=INK)
    axes.text(
        0.995, 1.03, f"{show_money(outcome.bill.month, 'EUR')}, scaled {len(scaled)} times", transform=axes.transAxes,
        ha="right", fontsize=9, color=INK,
    )  # fmt: skip
    axes.set(xlim=(0, 24), ylim=(-3, 42), xticks=range(0, 25, 4))
    axes.tick_params(labelsize=9, colors=INK)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)


def main() -> None:
    here = Path(__file__).parent
    with TemporaryDirectory() as folder:
        study = load_study(write_demo(Path(folder, "saltmarsh")))
    trace = three_days()
    service: Service = study.service
    figure, panels = plt.subplots(3, 2, figsize=(12.8, 8.0), sharex=True, sharey=True, layout="constrained")
    print("| rule | failed | p95 | mean replicas | scaled | a month |\n|---|---|---|---|---|---|")
    for axes, (name, (tier, rule)) in zip(panels.flat, RULES.items(), strict=True):
        plan = Plan(tier=study.tiers[tier], size="small", replicas=2, scaling=rule)
        outcome = replay(trace, service, plan, settle=(DAYS - 1) * 86400)
        draw(axes, name, outcome)
        first = (DAYS - 1) * 1440
        scaled = sum(d.acted and d.at_s >= first * 60 for d in outcome.run.only.decisions)
        failed = outcome.n_requests - outcome.endings["ok"]
        print(
            f"| {name} | {failed:,} ({show_share(1 - (outcome.availability or 0), 2)}) | "
            f"{show_duration(outcome.latency_s['p95'])} | {outcome.series_arrays()['ready'][first:].mean():.1f} | "
            f"{scaled} | {show_money(outcome.bill.month, 'EUR')} |"
        )
    panels[0, 0].legend(loc="upper left", fontsize=9, frameon=False)
    for axes in panels[-1]:
        axes.set_xlabel("hour of the third day", color=INK)
    figure.supylabel("replicas", color=INK, fontsize=11)
    figure.savefig(here / "scaling-rules.png", dpi=100)


if __name__ == "__main__":
    main()
