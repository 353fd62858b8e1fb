"""How two places, and two chests, differ."""

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


class LibraryComparison(Value, msgspec.Struct, frozen=True):
    """What two chests have of a library.

    `first_editions` and `second_editions` are the numbers of what each has, empty if it has none; `files` compares the
    current ones, None if that cannot be done, `why` says then why not. `first_only_editions` and `second_only_editions` are
    the numbers of those whose state the other does not have, whatever it is called there.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "same")
    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "same",
        "first_editions",
        "second_editions",
        "first_only_editions",
        "second_only_editions",
        "files",
        "why",
    )

    name: str
    first_editions: tuple[int, ...]
    second_editions: tuple[int, ...]
    files: Comparison | None
    why: str = ""
    first_only_editions: tuple[int, ...] = ()
    second_only_editions: tuple[int, ...] = ()

    @property
    def same_editions(self) -> bool:
        """Whether both have the same states."""
        return not (self.first_only_editions or self.second_only_editions)

    @property
    def same(self) -> bool:
        """Whether both have the same editions, and the current ones are the same."""
        return self.files is not None and self.files.same and self.same_editions


class ChestComparison(Value, msgspec.Struct, frozen=True):
    """The differences between two chests."""

    _shown: ClassVar[tuple[str, ...]] = ("first", "second", "same")
    _rows: ClassVar[str] = "libraries"

    first: str
    second: str
    libraries: tuple[LibraryComparison, ...]

    @property
    def same(self) -> bool:
        """Whether they hold the same."""
        return all(library.same for library in self.libraries)
