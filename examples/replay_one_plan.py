"""Replay one plan of the demo study and look at its worst minutes, on its second day. Run `libramen demo` first."""

from libramen import load_study, replay

study = load_study("saltmarsh/study.toml")
outcome = replay(study.trace(), study.service, study.plans["late"], study.objectives, terms=study.terms)

series = outcome.series.set_index("time")
rush = series.loc["2031-06-05"].between_time("17:50", "18:20").iloc[::5]
print("time   arrivals/s  failed  p95 [s]  ready  coming  CPU in use")
for time, minute in rush.iterrows():
    failed = minute["arrivals"] - minute["ok"]
    print(
        f"{time:%H:%M}  {minute['arrivals'] / 60:10.1f}  {failed:6.0f}  {minute['p95_s']:7.2f}  "
        f"{minute['ready']:5.1f}  {minute['coming']:6.1f}  {minute['utilisation']:10.0%}"
    )

orders = outcome.decisions.query("ordered > 0")
first = orders.iloc[0]
print(f"first order at {first['at_s'] / 3600:.2f} h, {len(orders)} orders in all")
print(f"it saw {first['measured']:.0%} CPU from {first['window_from_s']:.0f} s to {first['window_to_s']:.0f} s")
