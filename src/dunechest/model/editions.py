"""The editions of a library, and what dropping some of them plans, and did."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar, Literal

import msgspec

from dunechest.chest.chest import Chest
from dunechest.chest.records import ChangeCounts, LibraryRecord
from dunechest.chest.tag_lists import RecordFault
from dunechest.values import Value

if TYPE_CHECKING:
    pass


class DropPlan(Value, msgspec.Struct, frozen=True, eq=False):
    """Which editions are dropped, and what that frees.

    Parameters
    ----------
    chest, bag
        Where.
    rule : str
        The rule, as it was given.
    record : LibraryRecord
        The current edition.
    kept_editions, dropped_editions : tuple of int
        Editions that stay and that go.
    exempt_editions : tuple of int
        Of those that stay, the ones that the rule would drop and that are protected: much changed after them.
    paths : tuple of str
        Paths in the bag that go.
    freed_bytes : int
        What becomes free by that.
    marked : tuple of int
        Of those that stay, the ones whose own record is to say that they are protected.
    """

    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "rule",
        "kept_editions",
        "dropped_editions",
        "exempt_editions",
        "paths",
        "freed_bytes",
    )

    chest: Chest
    name: str
    rule: str
    record: LibraryRecord
    kept_editions: tuple[int, ...]
    dropped_editions: tuple[int, ...]
    exempt_editions: tuple[int, ...]
    paths: tuple[str, ...]
    freed_bytes: int
    marked: tuple[int, ...] = ()

    def decisions(self) -> dict[str, Any]:
        """Return all that the plan decides, as JSON values: two plans with the same do the same."""
        return {
            "chest": self.chest.id,
            "library": self.name,
            "archived": self.record.archived,
            "edition": self.record.edition,
            "rule": self.rule,
            "kept": list(self.kept_editions),
            "dropped": list(self.dropped_editions),
            "exempt": list(self.exempt_editions),
            "files": list(self.paths),
            "bytes": self.freed_bytes,
            "marked": list(self.marked),
        }

    def __repr__(self) -> str:
        return (
            f"<DropPlan {self.name}: "
            f"{len(self.dropped_editions)} of {len(self.kept_editions) + len(self.dropped_editions)} editions>"
        )

    def __eq__(self, other: object) -> bool:
        return isinstance(other, DropPlan) and self.decisions() == other.decisions()

    def __hash__(self) -> int:
        return hash((self.chest.id, self.name, self.dropped_editions))


class DropResult(Value, msgspec.Struct, frozen=True):
    """What dropping editions did.

    Parameters
    ----------
    chest, bag : str
        Label of the chest, and name of the bag.
    kept, dropped : tuple of int
        Editions that stay, and that are gone.
    files, bytes : int
        Files of the bag that are gone, and their bytes.
    """

    _shown: ClassVar[tuple[str, ...]] = ("chest", "bag", "dropped", "bytes")

    chest: str
    bag: str
    kept: tuple[int, ...]
    dropped: tuple[int, ...]
    files: int
    bytes: int


class Change(Value, msgspec.Struct, frozen=True):
    """One file that changed from an edition to the next; `former_path` is the former path of one that moved.

    Paths are below ``data/``.
    """

    _shown: ClassVar[tuple[str, ...]] = ("what", "path")

    what: Literal["added", "changed", "moved", "dropped"]
    path: str
    former_path: str = ""


class Edition(Value, msgspec.Struct, frozen=True):
    """One state of an archived library.

    Parameters
    ----------
    edition : int
        Its number.
    record : LibraryRecord
        What was recorded when it was made.
    current : bool
        Whether it is what lies in ``data/``.
    file_count, size_bytes : int
        What it holds.
    changes : ChangeCounts or None
        What changed since the edition before that is kept; None for the first.
    changed_files : tuple of Change
        The first hundred of these by name.
    protected : bool
        Whether it is kept whatever a retention rule says.
    """

    _shown: ClassVar[tuple[str, ...]] = ("edition", "file_count", "size_bytes")
    _told: ClassVar[tuple[str, ...]] = (
        "edition",
        "archived_at",
        "computer",
        "current",
        "file_count",
        "size_bytes",
        "incomplete",
        "mass_change",
        "protected",
        "not_seen_count",
        "changes",
        "changed_files",
    )

    edition: int
    record: LibraryRecord
    current: bool
    file_count: int
    size_bytes: int
    changes: ChangeCounts | None
    changed_files: tuple[Change, ...]
    protected: bool = False

    @property
    def archived_at(self) -> str:
        """When it was archived."""
        return self.record.archived

    @property
    def computer(self) -> str:
        """Which computer archived it."""
        return self.record.origin.machine

    @property
    def incomplete(self) -> bool:
        """Whether files are missing in it."""
        return self.record.incomplete

    @property
    def mass_change(self) -> bool:
        """Whether much changed in it."""
        return self.record.mass_change

    @property
    def not_seen_count(self) -> int:
        """Number of files that could not be seen when it was made, and that it has as the edition before had them."""
        return sum(len(item.paths) + len(item.outside) for item in self.record.carried)


class EditionList(Value, msgspec.Struct, frozen=True):
    """The editions of a library in a chest, the first one first, and the bytes that only earlier ones need.

    `damaged_records` is what of the records is not proven: editions may be missing because of it, and the numbers of files
    say less.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name",)
    _told: ClassVar[tuple[str, ...]] = ("name", "earlier_bytes", "editions", "damaged_records")
    _rows: ClassVar[str] = "editions"

    chest: Chest
    name: str
    editions: tuple[Edition, ...]
    earlier_bytes: int
    damaged_records: tuple[RecordFault, ...] = ()
