"""Make docs/json.md from the structs of all JSON documents; --check only compares."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

from _pages import keep

from dunechest.model.bodies import BODIES
from dunechest.model.schemas import schema_of

PAGE = Path(__file__).resolve().parents[1] / "docs" / "json.md"

HEAD = """\
# JSON documents

With `--json` every command prints one document on standard output and nothing else, however it ends. All have the same envelope;
each adds fields of its own. The schemas (JSON Schema, draft 2020-12) are in `docs/schema/`, and `dunechest schema COMMAND` prints
them. In Python `to_dict()` of a result returns the same.

Names are in snake_case. A number says what it counts (`_bytes`, `_count`, `seconds`); a moment ends in `_at` and is text as RFC 3339
has it, in UTC; a plural is always a list; a name means the same everywhere. Names of files that are not UTF-8 are written with
escapes of lone surrogates (`\\\\udc80` to `\\\\udcff`), so that nothing is lost. If `error` is not null, fields that the command would have
found out may be missing; `libraries` then has those that were finished.
"""


def _type(schema: dict[str, Any]) -> str:
    if "$ref" in schema:
        return schema["$ref"].rpartition("/")[2]
    if "anyOf" in schema:
        return " or ".join(_type(inner) for inner in schema["anyOf"])
    if "const" in schema:
        return f"`{schema['const']}`"
    if "enum" in schema:
        return ", ".join(f"`{value}`" for value in schema["enum"])
    if schema.get("type") == "array":
        return f"list of {_type(schema.get('items', {}))}"
    return "moment" if schema.get("format") == "date-time" else str(schema.get("type", "anything"))


def _fields(schema: dict[str, Any], without: set[str]) -> list[str]:
    rows = [f"| `{name}` | {_type(inner)} |" for name, inner in schema["properties"].items() if name not in without]
    return ["| field | type |", "|---|---|", *rows, ""] if rows else ["No fields of its own.", ""]


def page() -> str:
    envelope = schema_of("error")
    lines = [HEAD, "## The envelope", "", *_fields(envelope, set())]
    shared = set(envelope["properties"])
    parts: dict[str, dict[str, Any]] = {}
    for name in BODIES:
        parts |= dict(schema_of(name)["$defs"]) if name == "error" else {}
    for inner, told in sorted(parts.items()):
        lines += [f"### {inner}", "", *_told(told), *_fields(told, set())]
    common = set(parts)
    for name, body in BODIES.items():
        if body is None:
            continue
        schema = schema_of(name)
        lines += [f"## {name}", "", *_told(schema)]
        own = {key: inner for key, inner in schema["properties"].items() if key not in shared or key == "libraries"}
        lines += _fields({"properties": own}, set())
        for inner, told in sorted(schema["$defs"].items()):
            if inner not in common:
                lines += [f"### {name}: {inner}", "", *_told(told), *_fields(told, set())]
    return "\n".join(lines).rstrip() + "\n"


def _told(schema: dict[str, Any]) -> list[str]:
    text = " ".join(str(schema.get("description", "")).split())
    return [text, ""] if text else []


def main() -> int:
    return keep(PAGE.parent, ".md", {PAGE.name: page()})


if __name__ == "__main__":
    sys.exit(main())
