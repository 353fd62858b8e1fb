"""How a value becomes a JSON document: its struct, with its types, is made from the value's own declaration.

A value is declared once. Its document has the same names: all its fields, or those that `_told` lists, properties included.
The rules of names: snake_case; a number says what it counts (``_bytes``, ``_count``, ``seconds``); a moment is text as
RFC 3339 has it, in UTC, and ends in ``_at``; a plural is always a list; a name means one thing everywhere.
"""

from __future__ import annotations

import ast
import datetime
import enum
import functools
import importlib
import inspect
import os
import sys
import types
import typing
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence, Set
from typing import Annotated, Any

import msgspec

from dunechest.names import RawName, from_wire

#: A moment: RFC 3339, in UTC.
Moment = Annotated[str, msgspec.Meta(extra_json_schema={"format": "date-time"})]
#: A number of things, or of bytes.
Count = Annotated[int, msgspec.Meta(ge=0)]


class Document(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """Part of a document."""


def document_type(kind: type, names: Sequence[str] = ()) -> type[Document]:
    """Return the struct of the documents of a value's class.

    Parameters
    ----------
    kind : type
        The class: its fields or what its `_told` lists are told, under the same names. A field in `_maybe` may be missing.
    names : sequence of str
        Tell only these.
    """
    return _document_type(kind, tuple(names))


def fill(kind: type[Document], value: Any) -> Document:
    """Make a document of a value that has an attribute for each of its fields."""
    told = {}
    for name, hint in _hints(kind).items():
        if name in _optional(kind) and not hasattr(value, name):
            continue
        told[name] = _turn(hint, getattr(value, name))
    return kind(**told)


def to_json(value: Any) -> dict[str, Any]:
    """Return a value as the JSON values of its document."""
    told: dict[str, Any] = msgspec.to_builtins(fill(document_type(type(value)), value))
    return told


def plain(value: Any) -> Any:
    """Return a value as JSON values; what is none of these becomes its text."""
    if value is None or isinstance(value, bool | int | float | str):
        return value
    known: tuple[tuple[Any, Callable[[Any], Any]], ...] = (
        (bytes, bytes.hex),
        (os.PathLike, os.fspath),
        (datetime.datetime, datetime.datetime.isoformat),
        (msgspec.Struct, lambda struct: {name: plain(getattr(struct, name)) for name in struct.__struct_fields__}),
        (Mapping, lambda mapping: {_key(key): plain(inner) for key, inner in mapping.items()}),
        (Set, lambda items: sorted(map(plain, items), key=str)),
        (Sequence, lambda items: [plain(item) for item in items]),
    )
    if hasattr(value, "to_dict"):
        return value.to_dict()
    if _is_declared(type(value)) and not isinstance(value, msgspec.Struct):
        return to_json(value)
    for kind, turn in known:
        if isinstance(value, kind):
            return turn(value)
    return str(value)


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
def _document_type(kind: type, names: tuple[str, ...]) -> type[Document]:
    fields = names or names_of(kind)
    maybe = getattr(kind, "_maybe", ())
    typed = [(name, document_hint(hint_of(kind, name), name)) for name in fields]
    return struct_of(kind.__name__, kind.__doc__ or "", typed, maybe, kind.__module__)


def struct_of(
    name: str, doc: str, fields: Iterable[tuple[str, Any]], maybe: Collection[str] = (), module: str = __name__
) -> type[Document]:
    """Return a struct of documents with fields of these types; those in `maybe` may be missing, or null."""
    typed: list[Any] = [(field, hint, _nothing(hint)) if field in maybe else (field, hint) for field, hint in fields]
    about = inspect.cleandoc(doc).partition("\n\nParameters\n")[0].partition("\n\nAttributes\n")[0]
    made: Any = msgspec.defstruct(
        name, typed, bases=(Document,), namespace={"__doc__": about}, module=module, kw_only=True
    )
    return typing.cast(type[Document], made)


def _nothing(hint: Any) -> Any:
    """Return what stands for a field that a run of a command does not tell."""
    return msgspec.field(default_factory=list) if typing.get_origin(hint) is list else None


def names_of(kind: type) -> tuple[str, ...]:
    """Return the names that the document of a value's class has, in order."""
    told: tuple[str, ...] = getattr(kind, "_told", ())
    own: tuple[str, ...] = getattr(kind, "__struct_fields__", getattr(kind, "_fields", ()))
    return told or tuple(name for name in own if not name.startswith("_"))


def hint_of(kind: type, name: str) -> Any:
    """Return the type that a class declares for a field or property."""
    for base in kind.__mro__:
        found = inspect.get_annotations(base).get(name)
        if found is None and isinstance(base.__dict__.get(name), property | functools.cached_property):
            attribute = base.__dict__[name]
            getter = attribute.fget if isinstance(attribute, property) else attribute.func
            found = getter.__annotations__["return"]
        if found is not None:
            text = found.__forward_arg__ if isinstance(found, typing.ForwardRef) else found
            return _resolve(text, sys.modules[base.__module__]) if isinstance(text, str) else text
    raise AttributeError(f"{kind.__name__} has no field {name}")


def document_hint(hint: Any, name: str = "") -> Any:
    """Return the type of a document's field for that of a value's; the name tells moments and counts from other numbers."""
    origin, arguments = typing.get_origin(hint), typing.get_args(hint)
    if origin is Annotated:
        return document_hint(arguments[0], name)
    if origin in (typing.Union, types.UnionType):
        told = [document_hint(inner, name) for inner in arguments if inner is not types.NoneType]
        told = [Moment] if name.endswith("_at") else list(dict.fromkeys(told))
        return typing.Union[(*told, None)] if types.NoneType in arguments else typing.Union[tuple(told)]  # noqa: UP007
    if origin in (tuple, list, frozenset, set, Sequence, Collection, Iterable):
        mixed = origin is tuple and arguments[1:] != (...,)
        return list[Any if mixed else document_hint(arguments[0])]  # type: ignore[misc]
    if origin in (dict, Mapping) or getattr(hint, "_told", ()) is None:
        return dict[str, Any]
    if hint in (int, float, str) and name.endswith("_at"):
        return Moment if hint is str else Moment | None  # a clock, or the time of a file, can be anything
    if hint in (int, float) and name.endswith(("_count", "_bytes")):
        return Count
    if isinstance(hint, type):
        if hint is RawName:
            return str
        if _is_declared(hint):
            return document_type(hint)
        if issubclass(hint, os.PathLike | enum.Enum | str):
            return str
        return Any if hint is object else hint
    return hint


def _is_declared(kind: type) -> bool:
    """Whether a class says what its document has."""
    return hasattr(kind, "__struct_fields__") or hasattr(kind, "_fields") or bool(getattr(kind, "_told", ()))


def _resolve(text: str, module: types.ModuleType) -> Any:
    """Return what an annotation means; a module's imports for type checkers alone are made up for."""
    while True:
        try:
            return eval(text, {**_hidden(module), **vars(module)})  # the library's own annotations
        except NameError as error:
            raise TypeError(f"{module.__name__} names no type {error.name}") from error


@functools.cache
def _hidden(module: types.ModuleType) -> dict[str, Any]:
    """Return what a module imports only where types are checked."""
    found: dict[str, Any] = {}
    for node in ast.parse(inspect.getsource(module)).body:
        if isinstance(node, ast.If) and ast.unparse(node.test) == "TYPE_CHECKING":
            for inner in node.body:
                if isinstance(inner, ast.ImportFrom) and str(inner.module).startswith("dunechest."):
                    source = importlib.import_module(str(inner.module))
                    found |= {alias.asname or alias.name: getattr(source, alias.name) for alias in inner.names}
    return found


@functools.cache
def _hints(kind: type[Document]) -> dict[str, Any]:
    return {field.name: field.type for field in msgspec.structs.fields(kind)}


@functools.cache
def _optional(kind: type[Document]) -> frozenset[str]:
    return frozenset(field.name for field in msgspec.structs.fields(kind) if not field.required)


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
        items = sorted(value) if isinstance(value, Set) else value
        return [_turn(arguments[0], item) for item in items]
    if origin in (typing.Union, types.UnionType):
        kinds = [inner for inner in arguments if inner is not types.NoneType]
        return _turn(kinds[0] if len(kinds) == 1 else Any, value)
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
    return plain(value) if hint is Any or origin is dict else value


def _key(key: Any) -> str:
    return " / ".join(map(str, key)) if isinstance(key, tuple) else str(key)
