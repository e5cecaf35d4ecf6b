"""Compare the plans of the demo study. Run `libramen demo` first: it writes the study to ./saltmarsh."""

from libramen import compare, load_study

study = load_study("saltmarsh/study.toml")
comparison = compare(study)

for figures in comparison.figures:
    missed = [objective.name for objective in figures.missed]
    p95_s = figures.month.latency_s["p95"] or float("nan")  # None: no request was answered
    print(
        f"{figures.plan:13} p95 {p95_s * 1000:4.0f} ms, "
        f"{figures.month.availability:8.3%} answered, {figures.bill.month:7} {study.currency} a month, "
        f"misses {', '.join(missed) or 'nothing'}"
    )
print(comparison.verdict())
# comparison.table is the same as a pandas frame, comparison.plot() a Matplotlib figure,
# comparison.outcome("brisk") one plan with all its frames.
