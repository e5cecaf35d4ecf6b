"""Where paying for use is cheap, and where it is not: the demo's two days, thinned out and as they are."""

from libramen import load_study, replay, shaped

study = load_study("saltmarsh/study.toml")
day = study.trace()
print("load    requests  " + "".join(f"{name:>26}" for name in ("single", "planned", "lamp")))
for scale in (0.001, 0.01, 0.1, 1.0):
    trace = shaped(day, [{"scale": scale}]) if scale < 1 else day
    cells = []
    for name in ("single", "planned", "lamp"):
        outcome = replay(trace, study.service, study.plans[name], study.objectives, terms=study.terms)
        cells.append(f"{outcome.bill.month:>9} {study.currency} {outcome.month.availability:>8.2%} ok")
    print(f"{scale:<7} {len(trace):>8,}  " + "".join(f"{cell:>26}" for cell in cells))
    waits = outcome.waits  # those of `lamp`
    if waits is not None and len(waits.wait_s):
        print(f"        {len(waits.wait_s):>8,}  waited for a cold start on lamp, {waits.wait_s.max():.1f} s at most")
