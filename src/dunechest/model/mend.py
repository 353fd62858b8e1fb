"""What mending plans, and did."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar, NamedTuple

import msgspec

from dunechest.chest.chest import Chest
from dunechest.findings import Finding
from dunechest.library.library import Library
from dunechest.values import PathAndWhy, Value


class FileToMend(msgspec.Struct, frozen=True, gc=False):
    """A damaged or missing file: its path in the bag, what it should be, and what is wrong with it."""

    path: str
    size: int
    blake3: str
    mtime_ns: int
    mode: int
    why: str


class MendPlan(Value, msgspec.Struct, frozen=True, eq=False):
    """What is damaged in one library of a chest, and what can be done about it.

    Parameters
    ----------
    chest : Chest
        The chest with the damage.
    name : str
        Name of the bag.
    helpers : tuple of Chest
        Chests that intact files are taken from, in this order.
    library : Library or None
        The library itself, where files may be as they were archived.
    records : mapping
        Damaged records whose content is known, by path in the bag: each has the digest that was recorded.
    wanted : tuple of FileToMend
        Damaged files; whether a helper has them is seen when they are read there.
    unmendable_files : tuple of (str, str)
        What cannot be mended, and why.
    other_files : tuple of (str, str)
        What is no part of the archive and is left alone, and what it is.
    checked_count : int
        Number of files that were read.
    renamed : tuple of (str, str)
        Files that lie under a name that differs in case or in the form of accents alone: that name, and theirs.
    findings : tuple of Finding
        What there is to say of it.
    """

    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "checked_count",
        "damaged_count",
        "damaged_bytes",
        "damaged_files",
        "unmendable_files",
        "other_files",
        "findings",
    )
    _shown: ClassVar[tuple[str, ...]] = ("name", "damaged_count")
    _rows: ClassVar[str] = "damaged_files"

    chest: Chest
    name: str
    helpers: tuple[Chest, ...]
    library: Library | None
    records: Mapping[str, bytes]
    wanted: tuple[FileToMend, ...]
    unmendable_files: tuple[PathAndWhy, ...]
    other_files: tuple[PathAndWhy, ...]
    checked_count: int
    renamed: tuple[tuple[str, str], ...] = ()
    findings: tuple[Finding, ...] = ()
    #: What changes whenever a change of the bag is decided.
    _stamp: object = None

    @property
    def damaged_count(self) -> int:
        """How many files and records are damaged or missing."""
        return len(self.records) + len(self.wanted) + len(self.renamed) + len(self.unmendable_files)

    @property
    def damaged_bytes(self) -> int:
        """Bytes of the damaged files."""
        return sum(item.size for item in self.wanted)

    @property
    def damaged_files(self) -> tuple[PathAndWhy, ...]:
        """What is damaged and may be mended: path, and what is wrong."""
        told = [PathAndWhy(path, "a damaged or missing record") for path in sorted(self.records)]
        told += [PathAndWhy(path, f"it is called {other}") for other, path in self.renamed]
        return (*told, *(PathAndWhy(item.path, item.why) for item in self.wanted))

    def decisions(self) -> dict[str, Any]:
        """Return all that the plan decides, as JSON values: two plans with the same do the same."""
        return {
            "chest": self.chest.id,
            "library": self.name,
            "helpers": [chest.id for chest in self.helpers],
            "records": sorted(self.records),
            "renamed": [list(item) for item in self.renamed],
            "wanted": [[item.path, item.blake3] for item in self.wanted],
            "hopeless": [list(item) for item in self.unmendable_files],
        }

    def __eq__(self, other: object) -> bool:
        return isinstance(other, MendPlan) and self.decisions() == other.decisions()

    def __hash__(self) -> int:
        return hash((self.chest.id, self.name))


class MendedFile(NamedTuple):
    """A file that is what it was again, and where its content came from."""

    path: str
    came_from: str


class MendResult(Value, msgspec.Struct, frozen=True):
    """What mending one library did.

    Parameters
    ----------
    name : str
        Its name in the chest.
    checked_count : int
        Number of files and records that were read to find the damage.
    mended_files : tuple of (str, str)
        Files and records that are what they were again, and where their content came from.
    mended_bytes : int
        Bytes of these.
    unmended_files : tuple of (str, str)
        What is still damaged or missing, and why.
    other_files : tuple of (str, str)
        What is no part of the archive and was left alone, and what it is.
    findings : tuple of Finding
        What there is to say of it.
    """

    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "ok",
        "checked_count",
        "mended_files",
        "mended_bytes",
        "unmended_files",
        "other_files",
        "findings",
    )
    _shown: ClassVar[tuple[str, ...]] = ("name", "mended_files", "unmended_files")
    _rows: ClassVar[str] = "mended_files"

    name: str
    checked_count: int = 0
    mended_files: tuple[MendedFile, ...] = ()
    mended_bytes: int = 0
    unmended_files: tuple[PathAndWhy, ...] = ()
    other_files: tuple[PathAndWhy, ...] = ()
    findings: tuple[Finding, ...] = ()

    @property
    def ok(self) -> bool:
        """Whether the library is intact now."""
        return not self.unmended_files
