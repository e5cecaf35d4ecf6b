"""Writes the schemas of what commands print with `--json`: `python docs/schemas.py`.

Each is made of what a command prints for the demos, in as many ways as it can be asked. What was there each time must
be there from then on; what may not exist may be null. `libramen schema COMMAND` shows them, and `tests/test_public.py`
holds every output of other studies against them.
"""

from __future__ import annotations

import contextlib
import json
import tempfile
from pathlib import Path
from typing import Any

from genson import SchemaBuilder
from typer.testing import CliRunner

from libramen.cli.app import app
from libramen.demo.write import write_demo
from libramen.study.schema import JSON

SALT, LAND, CABINS, ISLES = (f"{name}/study.toml" for name in ("saltmarsh", "landing", "cabins", "islands"))
PLAIN = "plain/study.toml"
ASKED = {
    "compare": [
        [SALT, "--plan", "bare", "--plan", "lent"], [CABINS], [ISLES], [PLAIN],
        [LAND, "--plan", "noon", "--plan", "one_zone", "--repeats", "2"],
        [LAND, "--plan", "noon", "--doubt"], [LAND, "--plan", "noon", "--against", "old.json"],
    ],
    "replay": [
        [SALT, "--plan", "lent"], [SALT, "--plan", "brisk", "--from", "Thu 17:30", "--to", "Thu 18:30"],
        [CABINS, "--plan", "crowd"], [LAND, "--plan", "careful", "--repeats", "2"], [PLAIN, "--plan", "one"],
        [LAND, "--plan", "noon", "--series", "-"], [ISLES, "--plan", "ready_for_it"],
    ],
    "check": [[SALT], [CABINS], [LAND], [ISLES], [PLAIN]],
    "search": [
        [SALT, "--plan", "steady", "--vary", "replicas=8..12"], [CABINS, "--plan", "pooled", "--vary", "auto"],
        [LAND, "--vary", "plan=noon,lone", "--vary", "trace.scale=0.5,1"],
        [PLAIN, "--plan", "one", "--vary", "replicas=1..2"],
        [ISLES, "--plan", "ready_for_it", "--vary", "plan.services.web.mix.1.replicas=0..1"],
    ],
    "headroom": [[LAND, "--plan", "noon", "--plan", "lone", "--grow", "5%..8%"], [CABINS, "--plan", "crowd"]],
    "breakeven": [[LAND, "--between", "noon,lone", "--loads", "0.5..2"], [PLAIN, "--loads", "0.5..2"]],
    "events": [
        [LAND, "--plan", "careful"], [LAND, "--plan", "three_zones"], [CABINS, "--plan", "failover"],
        [ISLES, "--plan", "ready_for_it"],
    ],
    "backtest": [[SALT], [SALT, "--fit", "cpu_share"], [SALT, "--invoice", "invoice.csv"]],
    "tiers": [["saltmarsh/tiers.toml"], [CABINS]],
    "inspect": [
        ["saltmarsh/saltmarsh.log.gz"], ["cabins/cabins.parquet"], ["islands/islands.parquet"], ["plain/t.csv"],
    ],
}  # fmt: skip
"""Of each kind the ways in which it is asked."""
_COMMANDS = {"inspect": ["trace", "inspect"]}
_MAPS = frozenset({
    "figures", "limits", "skipped_reasons", "statuses", "impossible", "varied", "services", "tiers", "series",
    "moved", "regions", "short", "taken",
})  # fmt: skip
"""Objects whose keys are names, or differ by kind."""
_PLAIN = """
[trace]
files = ["t.csv"]
demand = "given"
[service]
slots = 2
[tiers.t]
billing = "per_hour"
[tiers.t.sizes.s]
cores = 1
per_hour = 0.02
[tiers.u]
billing = "per_request"
per_million_requests = 3
[tiers.u.sizes.s]
cores = 1
[plans.one]
tier = "t"
size = "s"
[plans.two]
tier = "u"
size = "s"
"""


def _widened(schema: dict[str, Any], key: str = "") -> dict[str, Any]:
    """A schema that allows what the samples happen not to have: fractions, null."""
    if "anyOf" in schema:
        parts = [_widened(part, key) for part in schema["anyOf"]]
        return {} if {} in parts else {"anyOf": parts}
    kinds = schema.get("type", [])
    kinds = {kinds} if isinstance(kinds, str) else set(kinds)
    if kinds <= {"null"}:
        return {}
    if "object" in kinds:
        if key in _MAPS:
            return {"type": ["object", "null"]}
        properties = {name: _widened(one, name) for name, one in schema.get("properties", {}).items()}
        return {"type": "object", "properties": properties, "required": sorted(schema.get("required", []))}
    if "array" in kinds:
        return {"type": ["array", "null"], **({"items": _widened(schema["items"])} if "items" in schema else {})}
    kinds = {"number" if kind == "integer" else kind for kind in kinds} | {"null"}
    return {"type": sorted(kinds)}


def schema_of(samples: list[Any], kind: str) -> dict[str, Any]:
    """The schema of all samples."""
    builder = SchemaBuilder(schema_uri=None)
    for sample in samples:
        builder.add_object(sample)
    head = {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": f"What `libramen {' '.join(_COMMANDS.get(kind, [kind]))} --json` prints",
        "description": "Keys may be added; none goes. null: it does not exist.",
    }
    return head | _widened(builder.to_schema())


def _samples(kind: str) -> list[Any]:
    found = []
    for arguments in ASKED[kind]:
        done = CliRunner().invoke(app, [*_COMMANDS.get(kind, [kind]), *arguments, "--json"], catch_exceptions=False)
        assert done.exit_code in {0, 1}, (arguments, done.stderr)
        found.append(json.loads(done.stdout))
    return found


def main() -> None:
    """Write all of them."""
    JSON.mkdir(exist_ok=True)
    with tempfile.TemporaryDirectory() as folder, contextlib.chdir(folder):
        for study in ("saltmarsh", "landing", "cabins", "islands"):
            write_demo(Path(study), study=study)
        Path("plain").mkdir()
        rows = "\n".join(f"{0.7 * n},0.1,0.05" for n in range(200))
        Path("plain/t.csv").write_text(f"at_s,cpu_s,wait_s\n{rows}\n", encoding="utf-8")
        Path(PLAIN).write_text(_PLAIN, encoding="utf-8")
        Path("invoice.csv").write_text("item,amount\nbalancer,14.00\nsomething else,3\n", encoding="utf-8")
        old = CliRunner().invoke(app, ["compare", LAND, "--plan", "noon", "--json"])
        Path("old.json").write_text(old.stdout, encoding="utf-8")
        for kind in ASKED:
            schema = schema_of(_samples(kind), kind)
            (JSON / f"{kind}.json").write_text(json.dumps(schema, indent=1) + "\n", encoding="utf-8")


if __name__ == "__main__":
    main()
