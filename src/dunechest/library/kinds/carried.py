"""The kind that a library was archived with, carried along in the archive, for computers that do not know it.

It is data: patterns, and which reader reads what. It comes from a drive, so it is held to what a kind file may say, to a
measure, and it decides nothing outside the library: where libraries belong and what an application's settings say is left
out.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

import msgspec

from dunechest.library.kinds import check
from dunechest.library.kinds.load import load_kinds
from dunechest.library.kinds.schema import PLAIN, Kind
from dunechest.values import frozen

#: So many texts may be in it, each so long, and so many ``**`` in one: patterns of more are made to take for ever.
_MOST_TEXTS, _LONGEST, _MOST_STARS = 2000, 500, 3
#: What of a kind counts outside the library it describes.
_OUTSIDE = ("places", "settings", "elsewhere")


def carried(kind: Kind) -> dict[str, Any]:
    """Return a kind as JSON values, to be put into an archive; nothing for one that every Dune Chest has."""
    if kind.name == PLAIN or load_kinds().get(kind.name) == kind:
        return {}
    whole = msgspec.to_builtins(kind)
    usual = msgspec.to_builtins(Kind(format=kind.format, name=kind.name, title=kind.title))
    needed = ("format", "name", "title")
    told: dict[str, Any] = frozen(
        {key: value for key, value in whole.items() if key in needed or value != usual[key]}
    )
    return told


def kind_from(document: Mapping[str, Any], name: str) -> Kind | None:
    """Return the kind that an archive carries; None if it carries none of that name, or one that cannot be one.

    Parameters
    ----------
    document : mapping
        JSON values, from a drive.
    name : str
        What the archive calls its kind.
    """
    if not document or document.get("name") != name or not _measured(document):
        return None
    try:
        kind = msgspec.convert({key: value for key, value in document.items() if key not in _OUTSIDE}, Kind)
    except (msgspec.ValidationError, TypeError, RecursionError):
        return None
    return None if check.wrong_values(kind) else kind


def _measured(document: object) -> bool:
    for count, text in enumerate(_texts(document, 0)):
        if count > _MOST_TEXTS or len(text) > _LONGEST or text.count("**") > _MOST_STARS:
            return False
    return True


def _texts(value: object, depth: int) -> Iterator[str]:
    if isinstance(value, str):
        yield value
    elif isinstance(value, dict | list | tuple) and depth < 8:
        for inner in value.values() if isinstance(value, dict) else value:
            yield from _texts(inner, depth + 1)
    elif isinstance(value, dict | list | tuple):
        yield "x" * (_LONGEST + 1)
