"""JSON Schema of the study file and of catalogues, so that editors complete and mark mistakes.

It follows from the tables themselves. What they say in validators about one key alone, or about which keys go together,
is repeated here as far as JSON Schema can say it; what it cannot, such as whether a plan names a tier that is there,
`libramen check` does.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any, Final, Literal

from pydantic.json_schema import JsonSchemaMode, models_json_schema

from libramen.prices.fees import KINDS as FEES
from libramen.rules.scaling import PREFIX
from libramen.study.catalogue import Catalogue
from libramen.study.edge import Edge
from libramen.study.file import StudyFile
from libramen.study.hosting import Hosting

Kind = Literal["study", "catalogue"]
KINDS: Final[tuple[Kind, ...]] = ("study", "catalogue")
JSON: Final = Path(__file__).parent / "json"
"""Where the schemas of what commands print are."""
_DIALECT: Final = "https://json-schema.org/draft/2020-12/schema"
_MODE: Final[JsonSchemaMode] = "validation"
_NAMED: Final = ("Tier", "Size")
"""Tables whose name stands in the key of the table."""
_TAGS: Final = ("rule", "strategy", "kind")
_SLOTS: Final = [{"required": ["slots"]}, {"required": ["slots_per_core"]}]


def outputs() -> tuple[str, ...]:
    """The kinds of JSON that commands print."""
    return tuple(sorted(file.stem for file in JSON.glob("*.json")))


def schema_of_output(kind: str) -> dict[str, Any]:
    """The schema of what a command prints with `--json`.

    Example:
        >>> schema_of_output("tiers")["required"][0]
        'bytes'
    """
    found: dict[str, Any] = json.loads((JSON / f"{kind}.json").read_text(encoding="utf-8"))
    return found


def schema_of(kind: Kind) -> dict[str, Any]:
    """The schema of a kind of file.

    Example:
        >>> sorted(schema_of("catalogue")["properties"])
        ['tiers']
    """
    table = StudyFile if kind == "study" else Catalogue
    tables = [(of, _MODE) for of in (StudyFile, Catalogue, Hosting, Edge)]
    _, found = models_json_schema(tables, ref_template="#/$defs/{model}")
    every: dict[str, dict[str, Any]] = found["$defs"]
    every["Custom"]["properties"]["rule"]["pattern"] = f"^{PREFIX}"
    for one in every.values():
        _tidied(one, every)
    _as_written(every)
    top = every[table.__name__]
    if kind == "study":
        _study(top)
    title = {"study": "A study of Libramen", "catalogue": "A catalogue of Libramen"}[kind]
    kept = _reached(top, every)
    return {"$schema": _DIALECT, "title": title} | top | {"$defs": {name: every[name] for name in sorted(kept)}}


_PLAN_OF_SERVICES: Final[dict[str, Any]] = {
    "type": "object",
    "description": "A plan of several services: a table for each that is not as the service says.",
    "additionalProperties": False,
    "properties": {
        "edge": {"$ref": "#/$defs/Edge"},
        "faults": {
            "type": "array",
            "description": "regions that are lost, with all that stands there",
            "items": {"$ref": "#/$defs/RegionLoss"},
        },
        "services": {
            "type": "object",
            "description": "what each service runs on",
            "additionalProperties": {"$ref": "#/$defs/Hosting"},
        },
    },
}
_SEARCH: Final[dict[str, Any]] = {
    "type": "object",
    "description": "What `libramen search` tries: the plan, or several, and keys of it with their values.",
    "required": ["plan"],
    "properties": {
        "plan": {
            "anyOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}}],
            "description": "name of the plan of which keys are varied, or of several",
        }
    },
    "additionalProperties": {
        "if": {"type": "object"},
        "then": {
            "required": ["from", "to"], "additionalProperties": False,
            "properties": {"from": {"type": "integer"}, "to": {"type": "integer"}},
        },
    },
}  # fmt: skip


def _as_written(every: dict[str, Any]) -> None:
    """Tables as a file has them: names of tiers and sizes instead of these, and no names where the key is one."""
    for name in _NAMED:
        every[name]["properties"].pop("name")
    _tier(every["Tier"])
    every["Fee"]["oneOf"] = [{"required": [kind]} for kind in FEES]
    of_greatest = every["Greatest"]["properties"]["rules"]["items"]
    of_greatest.clear()
    of_greatest |= {
        "if": {"properties": {"rule": {"const": "steps"}}, "required": ["rule"]},
        "then": {"$ref": "#/$defs/Steps"},
        "else": {"$ref": "#/$defs/Target"},
    }
    service, hosting = every["Service"], every["Hosting"]
    every["ServiceOfPlan"] = {key: value for key, value in service.items() if key != "required"}
    every["ServiceBesideOthers"] = service | {
        "properties": service["properties"] | {"plan": {"$ref": "#/$defs/Hosting"}},
        "anyOf": _SLOTS,
    }
    service["anyOf"] = _SLOTS
    properties = hosting["properties"]
    for key in ("plan", "region", "heir_of", "copies_gb", "part_of", "breaks_too"):  # not the file's
        properties.pop(key)
    every["Tier"]["properties"].pop("region")
    for table in (properties, every["Stock"]["properties"]):
        for key in ("tier", "size"):
            table[key] = {"type": "string", "description": table[key]["description"]}
    hosting["required"] = [key for key in hosting["required"] if key not in {"tier", "size"}]
    hosting["anyOf"] = [{"required": ["tier", "size"]}, {"required": ["mix"]}]
    properties["service"] = {"$ref": "#/$defs/ServiceOfPlan"}
    every["PlanOfServices"] = _PLAN_OF_SERVICES
    every["PlanOfOne"] = hosting | {"properties": properties | {"edge": {"$ref": "#/$defs/Edge"}}}
    every["Search"] = _SEARCH


def _tier(tier: dict[str, Any]) -> None:
    """Which price the sizes of a tier need goes by how it is paid for."""
    priced = {"per_hour": ("per_second", "per_hour"), "per_month": ("per_month",)}
    tier["allOf"] = [
        {
            "if": {"properties": {"billing": {"enum": list(billing)}}, "required": ["billing"]},
            "then": {"properties": {"sizes": {"additionalProperties": {"required": [key]}}}},
        }
        for key, billing in priced.items()
    ]
    uses = [{"required": [key]} for key in ("per_million_requests", "per_core_second", "per_gb_second")]
    tier["allOf"].append(
        {"if": {"properties": {"billing": {"const": "per_request"}}, "required": ["billing"]}, "then": {"anyOf": uses}}
    )


def _study(top: dict[str, Any]) -> None:
    """The tables of a study file that the reader reads by themselves."""
    of = top["properties"]
    described = {
        key: {"description": of[key]["description"], "type": "object"} for key in ("services", "plans", "search")
    }
    of["services"] = described["services"] | {"additionalProperties": {"$ref": "#/$defs/ServiceBesideOthers"}}
    of["search"] = described["search"] | {"additionalProperties": {"$ref": "#/$defs/Search"}}
    of["plans"] = described["plans"] | {
        "minProperties": 1,
        "additionalProperties": {
            "if": {"anyOf": [{"required": ["services"]}, {"maxProperties": 0}]},
            "then": {"$ref": "#/$defs/PlanOfServices"},
            "else": {"$ref": "#/$defs/PlanOfOne"},
        },
    }
    top["oneOf"] = [{"required": ["service"]}, {"required": ["services"]}]


def _tidied(schema: Any, every: dict[str, dict[str, Any]]) -> None:
    """Without what is about Python, or that TOML has not; a table of one of several kinds by the key that tells it."""
    if isinstance(schema, list):
        for one in schema:
            _tidied(one, every)
        return
    if not isinstance(schema, dict):
        return
    if isinstance(schema.get("title"), str):
        del schema["title"]
    if schema.get("default", "") is None or isinstance(schema.get("default"), dict):
        del schema["default"]
    if isinstance(text := schema.get("description"), str):
        schema["description"] = " ".join(text.split("\n\n")[0].split())
    if isinstance(kinds := schema.get("anyOf"), list):
        kept = [one for one in kinds if one != {"type": "null"}]
        if len(kept) < len(kinds):
            del schema["anyOf"]
            schema |= kept[0] | schema if len(kept) == 1 else {"anyOf": kept}
    if isinstance(kinds := schema.get("oneOf"), list) and (tag := _tag(kinds, every)):
        del schema["oneOf"]
        schema.pop("discriminator", None)
        schema |= _told_apart(kinds, tag, every)
    for inner in list(schema.values()):
        _tidied(inner, every)


def _tag(kinds: list[Any], every: dict[str, dict[str, Any]]) -> str | None:
    """The key whose value tells tables of several kinds apart; None: there is none."""
    return next((tag for tag in _TAGS if all(tag in _of(one, every)["properties"] for one in kinds)), None)


def _told_apart(kinds: list[Any], tag: str, every: dict[str, dict[str, Any]]) -> dict[str, Any]:
    """A table of one of several kinds: mistakes in it are told of that kind alone."""
    said = [_of(one, every)["properties"][tag] for one in kinds]
    allowed = [{key: one[key] for key in ("const", "pattern") if key in one} for one in said]
    ways = [
        {"if": {"properties": {tag: how}, "required": [tag]}, "then": one}
        for how, one in zip(allowed, kinds, strict=True)
    ]
    return {"type": "object", "required": [tag], "properties": {tag: {"anyOf": allowed}}, "allOf": ways}


def _of(ref: dict[str, str], every: dict[str, dict[str, Any]]) -> dict[str, Any]:
    return every[ref["$ref"].removeprefix("#/$defs/")]


def _reached(top: dict[str, Any], every: dict[str, Any]) -> set[str]:
    """The tables that a schema needs."""
    found: set[str] = set()
    waiting: list[Any] = [top]
    while waiting:
        one = waiting.pop()
        if isinstance(one, dict):
            name = str(one.get("$ref", "")).removeprefix("#/$defs/")
            if name and name not in found:
                found.add(name)
                waiting.append(every[name])
            waiting += one.values()
        elif isinstance(one, list):
            waiting += one
    return found
