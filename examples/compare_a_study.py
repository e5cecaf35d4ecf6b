"""Compare the plans of the demo study. Run `libramen demo` first: it writes the study to ./saltmarsh."""

from libramen import compare, load_study

study = load_study("saltmarsh/study.toml")
comparison = compare(study)

for outcome in comparison.outcomes:
    missed = [objective.name for objective in outcome.objectives if not objective.met]
    print(
        f"{outcome.plan.name:13} p95 {outcome.latency_s['p95'] * 1000:4.0f} ms, "
        f"{outcome.availability:8.3%} answered, {outcome.bill.month:7} {study.currency} a month, "
        f"misses {', '.join(missed) or 'nothing'}"
    )
print(comparison.verdict())
# comparison.table is the same as a pandas frame, comparison.plot() a Matplotlib figure.
