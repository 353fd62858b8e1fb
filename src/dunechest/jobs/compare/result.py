"""What two places have in common and what not, as plain values."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar, Literal

import msgspec

from dunechest.chest.tag_lists import RecordFault
from dunechest.values import Value

if TYPE_CHECKING:
    pass


class Mismatch(Value, msgspec.Struct, frozen=True):
    """A file in which two places differ.

    ``silent`` is a change of bytes though size and time are the same; ``unreadable`` one that
    cannot be told. `path` is relative to both.
    """

    _shown: ClassVar[tuple[str, ...]] = ("path", "what")

    path: str
    what: Literal["only in the first", "only in the second", "other bytes", "silent", "unreadable"]
    why: str = ""


class Comparison(Value, msgspec.Struct, frozen=True):
    """The differences between two places; `identical_count` counts the files that are identical.

    A database that was captured through SQLite has bytes of its own; it is alike where all its rows are. `left_out` are files
    of a library that its archive left out on purpose, and names as such. `damaged_records` is what of an archive's
    records is not proven.
    """

    _shown: ClassVar[tuple[str, ...]] = ("first", "second", "identical_count", "same")
    _rows: ClassVar[str] = "differences"

    first: str
    second: str
    identical_count: int
    identical_bytes: int
    differences: tuple[Mismatch, ...]
    left_out: tuple[Mismatch, ...] = ()
    damaged_records: tuple[RecordFault, ...] = ()

    @property
    def same(self) -> bool:
        """Whether they are the same."""
        return not self.differences and not self.damaged_records
