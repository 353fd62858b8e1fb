"""The schemas of all documents (JSON Schema, draft 2020-12), made from what is declared of them."""

from __future__ import annotations

import functools
import inspect
from typing import Any

import msgspec

from dunechest.document import document_hint, document_type, hint_of, names_of, struct_of
from dunechest.model.bodies import BODIES, Body
from dunechest.model.envelope import Envelope
from dunechest.model.events import SCHEMA, Event

#: Version of a document that changed since the first in a way that a reader has to know of; of any other it is 1.
VERSIONS = {"archive-plan": 2, "copy": 2, "copy-plan": 2, "rehome-part-plan": 2, "rehome-plan": 2}


def name_of(schema: str) -> str:
    """Return what stands in a document's `schema`.

    >>> name_of("verify")
    'dunechest/verify/1'
    """
    return f"dunechest/{schema}/{VERSIONS.get(schema, 1)}"


@functools.cache
def schema_of(name: str) -> dict[str, Any]:
    """Return the schema of a document.

    A document that reports an error may lack what its command would have found out; any other has all of it.

    Parameters
    ----------
    name : str
        One of `BODIES`, or ``event`` for a line that a running job tells.
    """
    if name == "event":
        return _event_schema()
    body = BODIES[name]
    structs = [document_type(Envelope)] if body is None else [document_type(Envelope), _struct(body)]
    _, found = msgspec.json.schema_components(structs, ref_template="#/$defs/{name}")
    # Newer Pythons cut the indentation of docstrings, older ones keep it: the schema is the same with both.
    parts = {
        inner: {**told, "description": inspect.cleandoc(told.get("description", ""))} for inner, told in found.items()
    }
    envelope = parts.pop("Envelope")
    properties = dict(envelope["properties"])
    properties["schema"] = {"const": name_of(name)}
    schema: dict[str, Any] = {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "$id": name_of(name),
        "title": name,
        "description": body.about if body is not None else envelope["description"],
        "type": "object",
        "required": list(envelope["required"]),
    }
    if body is not None:
        own = parts.pop("Body")
        libraries = own["properties"].pop("libraries", None)
        properties |= own["properties"]
        if libraries is not None:
            properties["libraries"] = libraries
        needed = [field for field in own["required"] if field != "libraries"]
        if needed:
            error = {"properties": {"error": {"type": "object"}}}
            schema["anyOf"] = [{"required": needed}, error]
    schema |= {"properties": properties, "additionalProperties": False, "$defs": dict(sorted(parts.items()))}
    ordered: dict[str, Any] = _ordered(schema)
    return ordered


def _event_schema() -> dict[str, Any]:
    _, found = msgspec.json.schema_components([document_type(Event)])
    told = found["Event"]
    properties = {**told["properties"], "schema": {"const": SCHEMA}}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "$id": SCHEMA,
        **told,
        "title": "event",
        "description": inspect.cleandoc(told.get("description", "")),
        "properties": properties,
    }


def _struct(body: Body) -> type[msgspec.Struct]:
    """Return the struct of a command's own fields: those of its value, and its own."""
    kind = body.value
    of_value = [(name, hint_of(kind, name)) for name in names_of(kind)] if kind is not None else []
    fields = [(name, document_hint(hint, name)) for name, hint in (*of_value, *body.fields.items())]
    return struct_of("Body", body.about, fields, (*body.maybe, *getattr(kind, "_maybe", ())))


def _ordered(value: Any) -> Any:
    """Return a schema in which null is the last of several types: versions of the library that makes it differ there."""
    if isinstance(value, list):
        return [_ordered(inner) for inner in value]
    if not isinstance(value, dict):
        return value
    told = {key: _ordered(inner) for key, inner in value.items()}
    if isinstance(told.get("anyOf"), list):
        told["anyOf"] = sorted(told["anyOf"], key=lambda inner: inner.get("type") == "null")
    return told
