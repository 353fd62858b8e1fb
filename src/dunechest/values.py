"""What plain values have in common: a short text, a document of JSON values, and a table."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from importlib import import_module
from typing import TYPE_CHECKING, Any, ClassVar, NoReturn, TypeVar

from blake3 import blake3

from dunechest.documents.plain import plain
from dunechest.errors import PackageMissingError

if TYPE_CHECKING:
    import pandas as pd


class Value:
    """A plain value that a job returns. `repr` shows what matters of it in one line; `to_dict` returns all."""

    __slots__ = ()

    #: The fields and properties that `repr` shows.
    _shown: ClassVar[tuple[str, ...]] = ()
    #: The document that it is: module and struct in `dunechest.documents`; its fields as they are if empty.
    _document: ClassVar[str] = ""

    def to_dict(self) -> dict[str, Any]:
        """Return the value as JSON values, just as the command line's document has it."""
        if self._document:
            return document_of(self)
        return {name: plain(getattr(self, name)) for name in self.__struct_fields__}  # type: ignore[attr-defined]

    def __repr__(self) -> str:
        shown = " ".join(f"{name}={getattr(self, name)!r}" for name in self._shown)
        return f"<{type(self).__name__} {shown}>"


_K = TypeVar("_K")
_V = TypeVar("_V")


def document_of(value: Value) -> dict[str, Any]:
    """Return the JSON document of a value that has one."""
    from dunechest.documents.base import fill, to_json

    module, _, name = value._document.partition(".")
    return to_json(fill(getattr(import_module(f"dunechest.documents.{module}"), name), value))


class FrozenDict(dict[_K, _V]):
    """A dictionary that does not change any more, for values that are shared: every change is a `TypeError`."""

    def _refuse(self, *args: object, **more: object) -> NoReturn:
        raise TypeError("this is part of a value and does not change")

    __setitem__ = __delitem__ = clear = pop = popitem = setdefault = update = __ior__ = _refuse

    def __reduce__(self) -> tuple[type[FrozenDict[_K, _V]], tuple[dict[_K, _V]]]:
        """Return how to make it again: pickle and copy would otherwise fill an empty one."""
        return type(self), (dict(self),)


def frozen(value: Any) -> Any:
    """Return JSON values that do not change any more: lists as tuples, objects as `FrozenDict`."""
    if isinstance(value, dict):
        return FrozenDict({key: frozen(inner) for key, inner in value.items()})
    if isinstance(value, list | tuple):
        return tuple(frozen(inner) for inner in value)
    return value


def digest_of_values(value: Any) -> str:
    """Return the BLAKE3 digest (hexadecimal) of JSON values; the order of keys does not count."""
    import json

    return blake3(json.dumps(value, sort_keys=True, ensure_ascii=True).encode()).hexdigest()


def frame(rows: Iterable[Mapping[str, Any]], columns: Sequence[str], times: Collection[str] = ()) -> pd.DataFrame:
    """Return a table, a row for each mapping.

    Parameters
    ----------
    rows : iterable of mapping
        Values by column.
    columns : sequence of str
        The columns, in order; they are there even without a row.
    times : collection of str
        Those that hold times: text as RFC 3339 writes it, or seconds since 1970. They become times in UTC.

    Raises
    ------
    PackageMissingError
        If pandas is not installed.
    """
    try:
        import pandas as pd
    except ImportError as error:
        raise PackageMissingError(
            "A table needs pandas, which is not installed. Install it with: pip install 'dunechest[frames]'"
        ) from error
    table = pd.DataFrame(list(rows), columns=list(columns))
    for column in times:
        if pd.api.types.is_numeric_dtype(table[column]):
            table[column] = pd.to_datetime(table[column], utc=True, unit="s")
        else:
            table[column] = pd.to_datetime(table[column], utc=True)
    return table
