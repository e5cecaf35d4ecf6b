"""Writes `trace-keys.md`: the keys of `[trace]`, from the table that declares them.

python docs/trace_keys.py
"""

from __future__ import annotations

from pathlib import Path

from libramen.study.trace_table import TraceTable
from libramen.trace.formats.registry import users_of

HEAD = """# The keys of `[trace]`

Written by `python docs/trace_keys.py` from `src/libramen/trace/options.py`. All but `files`, `shape`,
`recorded_on`, `server`, `cpu_use` and `settle` are also keywords of `read_trace`. How they are used is in
[your-own-log.md](your-own-log.md).

| key | | default | only for |
|---|---|---|---|
"""


def page() -> str:
    """The whole page."""
    rows = []
    for name, field in TraceTable.model_fields.items():
        shown = {None: "", (): "", (1, 1): "`[1, 1]`"}.get(
            field.default if isinstance(field.default, tuple | None) else 0,
            f"`{getattr(field.default, 'share', field.default)}`",
        )
        default = "must be given" if field.is_required() else "" if field.default == {} else shown
        rows.append(f"| `{name}` | {field.description} | {default} | {', '.join(users_of(name))} |\n")
    return HEAD + "".join(rows)


if __name__ == "__main__":
    Path(__file__).with_name("trace-keys.md").write_text(page())
