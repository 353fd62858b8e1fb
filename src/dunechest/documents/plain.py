"""Any value as JSON values."""

from __future__ import annotations

import datetime
import os
from collections.abc import Callable, Mapping, Sequence, Set
from typing import Any

import msgspec


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
    for kind, turn in known:
        if isinstance(value, kind):
            return turn(value)
    return str(value)


def _key(key: Any) -> str:
    return " / ".join(map(str, key)) if isinstance(key, tuple) else str(key)
