"""A list of a value as a table for pandas, with the names and types that its document has."""

from __future__ import annotations

import types
import typing
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, Any

import msgspec

from dunechest.document import Document, Moment, document_type, to_json
from dunechest.errors import PackageMissingError, UsageError
from dunechest.names import shown

if TYPE_CHECKING:
    import pandas as pd

    from dunechest.values import Value


def table_of(value: Value, name: str) -> pd.DataFrame:
    """Return a list of a value as a table.

    Parameters
    ----------
    value : Value
        What holds the list.
    name : str
        Its name, or ``outer.inner`` for the lists in the items of another: each row then has the outer item's values, too.

    Raises
    ------
    PackageMissingError
        If pandas is not installed.
    UsageError
        If the value has no such list.
    """
    try:
        import pandas as pd
    except ImportError as error:
        raise PackageMissingError(
            "A table needs pandas, which is not installed. Install it with: pip install 'dunechest[frames]'"
        ) from error
    columns: dict[str, bool] = {}
    kind: type[Document] | None = document_type(type(value))
    for step in name.split("."):
        kind = _item_of(kind, step) if kind is not None else None
        if kind is None:
            lists = ", ".join(
                field.name for field in msgspec.structs.fields(document_type(type(value))) if _is_list(field.type)
            )
            raise UsageError(f"There is no table {name!r} in it. Its lists: {lists or 'none'}.")
        columns = dict(_columns(kind)) | columns
    rows = [_shown(row) for row in _rows([to_json(value)], name.split("."))]
    table = pd.DataFrame(rows, columns=list(columns))
    for column, timed in columns.items():
        if timed:
            table[column] = pd.to_datetime(table[column], utc=True)
    return table


def _item_of(kind: type[Document], name: str) -> type[Document] | None:
    """Return the struct of the items of one of a document's lists."""
    for field in msgspec.structs.fields(kind):
        if field.name == name and _is_list(field.type):
            (item,) = typing.get_args(field.type)
            return item if isinstance(item, type) and issubclass(item, Document) else None
    return None


def _is_list(hint: Any) -> bool:
    return typing.get_origin(hint) is list


def _columns(kind: type[Document]) -> Iterator[tuple[str, bool]]:
    """Yield the names of single values, those of its parts included, and whether each is a moment."""
    for field in msgspec.structs.fields(kind):
        hint = field.type
        if typing.get_origin(hint) in (typing.Union, types.UnionType):
            (hint,) = (inner for inner in typing.get_args(hint) if inner is not types.NoneType)
        if isinstance(hint, type) and issubclass(hint, Document):
            yield from _columns(hint)
        elif not _is_list(hint) and typing.get_origin(hint) is not dict:
            yield field.name, hint is Moment


def _rows(items: Iterable[dict[str, Any]], steps: list[str]) -> Iterator[dict[str, Any]]:
    for item in items:
        if steps:
            own = _flat(item)
            yield from (own | row for row in _rows(item[steps[0]], steps[1:]))
        else:
            yield _flat(item)


def _flat(item: dict[str, Any]) -> dict[str, Any]:
    told: dict[str, Any] = {}
    for name, value in item.items():
        if isinstance(value, dict):
            told |= {inner: own for inner, own in _flat(value).items() if inner not in told}
        elif not isinstance(value, list):
            told[name] = value
    return told


def _shown(row: dict[str, Any]) -> dict[str, Any]:
    """Return a row that can be printed: no name in it does anything to a terminal."""
    return {name: shown(value) if isinstance(value, str) else value for name, value in row.items()}
