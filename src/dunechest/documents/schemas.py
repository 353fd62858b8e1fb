"""The schemas of all documents (JSON Schema, draft 2020-12), made from the structs."""

from __future__ import annotations

import functools
import inspect
from typing import Any

import msgspec

from dunechest.documents import (
    archive,
    chest,
    compare,
    computers,
    copy,
    demo,
    drill,
    editions,
    find,
    kinds,
    look,
    mend,
    office,
    places,
    reclaim,
    rehome,
    release,
    report,
    restore,
    routine,
)
from dunechest.documents import search as searching
from dunechest.documents import status as protection
from dunechest.documents import undo as undoing
from dunechest.documents import verify as verifying
from dunechest.documents.base import Document
from dunechest.documents.envelope import Envelope

#: Version of all of them; it grows with the first change that a reader has to know of.
VERSION = 1

#: What a command's document has beside the envelope, by the document's name.
BODIES: dict[str, type[Document] | None] = {
    "find": find.Find,
    "look": look.Look,
    "look-watch": look.Watch,
    "kinds-list": kinds.KindList,
    "kinds-show": kinds.KindShown,
    "kinds-draft": kinds.KindDraft,
    "kinds-check": kinds.KindCheck,
    "kinds-try": kinds.KindTrial,
    "kinds-add": kinds.KindAdded,
    "chest-new": chest.ChestMade,
    "chest-list": chest.ChestList,
    "chest-show": chest.ChestShown,
    "chest-rename": chest.ChestRenamed,
    "chest-place": chest.ChestKnown,
    "chest-retire": chest.ChestKnown,
    "chest-new-id": chest.ChestMade,
    "chest-rebuild": chest.ChestMade,
    "chest-forget": chest.ChestForget,
    "archive": archive.Archive,
    "archive-plan": archive.ArchivePlanned,
    "copy": copy.Copy,
    "copy-plan": copy.CopyPlanned,
    "status": protection.Status,
    "report": report.Report,
    "verify": verifying.Verify,
    "editions-list": editions.EditionsListed,
    "editions-drop": editions.EditionsDropped,
    "mend": mend.Mend,
    "mend-plan": mend.MendPlanned,
    "search": searching.Search,
    "restore": restore.Restore,
    "restore-list": restore.RestoreList,
    "restore-plan": restore.RestorePlanned,
    "drill": drill.Drill,
    "rehome": rehome.Rehome,
    "rehome-plan": rehome.RehomePlanned,
    "rehome-part-plan": rehome.RehomePartPlanned,
    "rehome-forget": rehome.RehomeForgotten,
    "rejoin": rehome.Rejoin,
    "rejoin-plan": rehome.RejoinPlanned,
    "reclaim": reclaim.Reclaim,
    "reclaim-plan": reclaim.ReclaimPlanned,
    "routine-add": routine.RoutineAdded,
    "routine-list": routine.RoutineList,
    "routine-run": routine.RoutinesRun,
    "routine-remove": routine.RoutineRemoved,
    "office-set-up": office.OfficeMade,
    "office-add": office.ComputerAdded,
    "office-remove": office.ComputerRemoved,
    "office-join": office.Joined,
    "office-leave": office.Left,
    "office-send": office.Sent,
    "office-show": office.Office,
    "release": release.Release,
    "undo": undoing.Undo,
    "compare": compare.Compare,
    "compare-chests": compare.CompareChests,
    "computers-list": computers.ComputerList,
    "computers-mine": computers.ComputerList,
    "computers-not-mine": computers.ComputerList,
    "places-list": places.PlaceList,
    "places-forget": places.PlacesForgotten,
    "demo": demo.Demo,
    "error": None,
}


def name_of(schema: str) -> str:
    """Return what stands in a document's `schema`.

    >>> name_of("verify")
    'dunechest/verify/1'
    """
    return f"dunechest/{schema}/{VERSION}"


@functools.cache
def schema_of(name: str) -> dict[str, Any]:
    """Return the schema of a document.

    A document that reports an error may lack what its command would have found out; any other has all of it.

    Parameters
    ----------
    name : str
        One of `BODIES`.
    """
    body = BODIES[name]
    structs = [Envelope] if body is None else [Envelope, body]
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
        "description": inspect.cleandoc((body or Envelope).__doc__ or ""),
        "type": "object",
        "required": list(envelope["required"]),
    }
    if body is not None:
        own = parts.pop(body.__name__)
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
