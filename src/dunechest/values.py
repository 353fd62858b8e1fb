"""What plain values have in common: a short text, a document of JSON values, and a table."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar, NamedTuple, NoReturn, TypeVar

from blake3 import blake3

if TYPE_CHECKING:
    import pandas as pd


class Value:
    """A plain value that a job returns. `repr` shows what matters of it in one line; `to_dict` returns all."""

    __slots__ = ()

    #: The fields and properties that `repr` shows.
    _shown: ClassVar[tuple[str, ...]] = ()
    #: The fields and properties that its document has, in order; all fields if empty.
    _told: ClassVar[tuple[str, ...]] = ()
    #: The list that `to_frame` makes a table of.
    _rows: ClassVar[str] = ""

    def to_dict(self) -> dict[str, Any]:
        """Return the value as JSON values, just as the command line's document has it."""
        from dunechest.document import to_json

        return to_json(self)

    def to_frame(self, of: str = "") -> pd.DataFrame:
        """Return one of the value's lists as a table: a row for each item, with a column for each of its single values.

        Parameters
        ----------
        of : str
            Name of the list, such as ``findings``, or of a list in its items: ``libraries.problems``. The one that matters
            most, if it is empty.

        Raises
        ------
        PackageMissingError
            If pandas is not installed.
        UsageError
            If there is no such list.
        """
        from dunechest.table import table_of

        return table_of(self, of or self._rows)

    def __repr__(self) -> str:
        shown = " ".join(f"{name}={getattr(self, name)!r}" for name in self._shown)
        return f"<{type(self).__name__} {shown}>"


_K = TypeVar("_K")
_V = TypeVar("_V")


class PathAndWhy(NamedTuple):
    """A path, and what is the matter with it."""

    path: str
    why: str


class RenamedPath(NamedTuple):
    """A path that has another name here."""

    path: str
    new_path: str


class MovedPath(NamedTuple):
    """A file that was moved, and where it is now."""

    path: str
    new_path: Path


class SetAside(NamedTuple):
    """Something that was in the way, and where it is now."""

    path: Path
    new_path: Path


class StoredName(NamedTuple):
    """A name that the drive or a manifest cannot hold, and the one it is stored under."""

    path: str
    stored_as: str


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
