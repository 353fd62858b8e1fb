"""What all documents have in common: how one is filled from a value, and how numbers and times are written.

The rules of names: snake_case; a number says what it counts (``_bytes``, ``_count``, ``seconds``); a moment is text as
RFC 3339 has it, in UTC, and ends in ``_at``; a plural is always a list; a name means one thing everywhere.
"""

from __future__ import annotations

import datetime
import functools
import os
import typing
from collections.abc import Mapping
from typing import Annotated, Any, ClassVar, TypeVar

import msgspec

from dunechest.documents.plain import plain
from dunechest.names import RawName, from_wire

#: A moment: RFC 3339, in UTC.
Moment = Annotated[str, msgspec.Meta(extra_json_schema={"format": "date-time"})]
Count = Annotated[int, msgspec.Meta(ge=0)]
Bytes = Annotated[int, msgspec.Meta(ge=0)]


class Document(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """Part of a document. `_sources` says where a field's value is found, if not in an attribute of its name."""

    _sources: ClassVar[Mapping[str, str]] = {}


_D = TypeVar("_D", bound=Document)


def fill(kind: type[_D], value: Any) -> _D:
    """Make a document of a value.

    Parameters
    ----------
    kind : type
        The struct.
    value : object
        It has an attribute for each field, or is a tuple of them in order.
    """
    hints = _hints(kind)
    if isinstance(value, tuple) and not kind._sources:
        return kind(**{name: _turn(hint, item) for (name, hint), item in zip(hints.items(), value, strict=True)})
    sources = kind._sources
    optional = kind.__struct_fields__[len(kind.__struct_fields__) - len(kind.__struct_defaults__) :]
    told = {}
    for name, hint in hints.items():
        path = sources.get(name, name)
        if path == name and name in optional and not hasattr(value, name):
            continue
        told[name] = _turn(hint, _find(value, path))
    return kind(**told)


def to_json(document: Document) -> dict[str, Any]:
    """Return a document as JSON values."""
    told: dict[str, Any] = msgspec.to_builtins(document)
    return told


def moment(when: float | str | None) -> str | None:
    """Return a moment as documents write it: whole seconds, in UTC.

    Parameters
    ----------
    when : float, str or None
        Seconds since 1970, or text as RFC 3339 has it.

    >>> moment(0), moment("2026-03-01T10:00:00+02:00"), moment(None)
    ('1970-01-01T00:00:00Z', '2026-03-01T08:00:00Z', None)
    """
    if when is None:
        return None
    try:
        if isinstance(when, str):
            told = datetime.datetime.fromisoformat(when).astimezone(datetime.UTC)
        else:
            told = datetime.datetime.fromtimestamp(when, datetime.UTC)
    except (OverflowError, ValueError, OSError):  # a file's time can be anything
        return None
    return told.isoformat(timespec="seconds").replace("+00:00", "Z")


@functools.cache
def _hints(kind: type[Document]) -> dict[str, Any]:
    hints = typing.get_type_hints(kind, include_extras=True)
    return {name: hints[name] for name in kind.__struct_fields__}


def _find(value: Any, path: str) -> Any:
    for step in path.split(".") if path else ():
        value = value[int(step)] if step.isdigit() else getattr(value, step)
        if value is None:
            return None
    return value


def _turn(hint: Any, value: Any) -> Any:
    """Return a value as a field of this type holds it."""
    if value is None:
        return None
    origin, arguments = typing.get_origin(hint), typing.get_args(hint)
    if hint is Moment:
        return moment(value)
    if origin is Annotated:
        return _turn(arguments[0], value)
    if origin is list:
        items = sorted(value) if isinstance(value, set | frozenset) else value
        return [_turn(arguments[0], item) for item in items]
    if arguments and type(None) in arguments:
        (inner,) = (kind for kind in arguments if kind is not type(None))
        return _turn(inner, value)
    if isinstance(hint, type) and issubclass(hint, Document):
        return value if isinstance(value, hint) else fill(hint, value)
    if hint is str:
        if isinstance(value, RawName):
            return from_wire(value)
        return os.fspath(value) if isinstance(value, os.PathLike) else str(value)
    if origin is dict and isinstance(value, msgspec.Struct):
        return msgspec.json.decode(msgspec.json.encode(value))
    if hint is int:
        return int(value)
    if hint is float:
        return round(float(value), 3)
    return plain(value) if hint is Any else value
