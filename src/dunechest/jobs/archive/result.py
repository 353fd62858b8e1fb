"""The summary of an archive run: what was found, what was copied, what was left out and why."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, ClassVar

import msgspec

from dunechest.chest.records import ChangeCounts
from dunechest.findings import Finding
from dunechest.jobs.archive.plan import CarriedFile
from dunechest.jobs.study.choice import LeftOutFile
from dunechest.values import PathAndWhy, StoredName, Value

if TYPE_CHECKING:
    pass


#: Why a file is lost that only the chest had just now.
NOT_SEEN_NOW = "it cannot be seen on this computer now"


class ArchiveResult(Value, msgspec.Struct, frozen=True):
    """The summary of an archive run for one library.

    `found_count` is `archived_count` plus the number of `left_out`, and so for bytes; `stored_bytes` differs from
    `archived_bytes` only by captured databases, which have a size of their own. `reread_paths` are files that changed while
    they were read and were read again; `damaged_databases` are databases that SQLite finds damaged or cannot read, with its
    words; `appeared_paths` and `changed_paths` are files that came, or changed, after they could be copied. `resumed_count`
    counts files that an earlier, interrupted run had already brought to the drive. `parts` are the titles of the parts asked
    for, empty for the whole library; `outside_count` of the files copied came from outside it, and `outside_left_count` were
    not gathered. `edition` is the one that was made, or is there just so; `unchanged_count` of the files copied were on the
    drive already, from an earlier edition; `changes` count what changed since; `silently_changed_paths` are files with other
    bytes though size and time are the same. `repaired_paths` are files that had gone from the chest, or had another size
    there, and were copied again; `lost_files` are those of which the library has other bytes by now. `chest_label` is the
    label of the chest. `not_seen_files` are files that could not be seen, and that the archive keeps as they were.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "state", "edition", "archived_count", "archived_bytes", "ok")
    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "chest_label",
        "archived_as",
        "folder",
        "state",
        "edition",
        "ok",
        "found_count",
        "found_bytes",
        "archived_count",
        "archived_bytes",
        "stored_bytes",
        "unchanged_count",
        "resumed_count",
        "folder_count",
        "link_count",
        "database_count",
        "outside_count",
        "outside_bytes",
        "outside_left_count",
        "parts",
        "changes",
        "left_out",
        "changed_names",
        "reread_paths",
        "appeared_paths",
        "changed_paths",
        "silently_changed_paths",
        "repaired_paths",
        "lost_files",
        "not_seen_files",
        "damaged_databases",
        "findings",
        "seconds",
    )
    _rows: ClassVar[str] = "left_out"

    name: str
    archived_as: str
    folder: Path
    state: str
    found_count: int
    found_bytes: int
    left_out: tuple[LeftOutFile, ...]
    folder_count: int
    link_count: int
    database_count: int
    seconds: float
    findings: tuple[Finding, ...] = ()
    archived_count: int = 0
    archived_bytes: int = 0
    stored_bytes: int = 0
    changed_names: tuple[StoredName, ...] = ()
    reread_paths: tuple[str, ...] = ()
    damaged_databases: tuple[PathAndWhy, ...] = ()
    appeared_paths: tuple[str, ...] = ()
    changed_paths: tuple[str, ...] = ()
    resumed_count: int = 0
    parts: tuple[str, ...] = ()
    outside_count: int = 0
    outside_bytes: int = 0
    outside_left_count: int = 0
    edition: int = 1
    unchanged_count: int = 0
    changes: ChangeCounts | None = None
    silently_changed_paths: tuple[str, ...] = ()
    repaired_paths: tuple[str, ...] = ()
    lost_files: tuple[PathAndWhy, ...] = ()
    chest_label: str = ""
    not_seen_files: tuple[CarriedFile, ...] = ()

    @property
    def bytes_left_out(self) -> int:
        """Bytes of the files left out."""
        return sum(file.size_bytes for file in self.left_out)

    @property
    def ok(self) -> bool:
        """Whether everything that can be archived was, and nothing moved meanwhile."""
        return not (
            any(file.fault for file in self.left_out)
            or self.damaged_databases
            or self.appeared_paths
            or self.changed_paths
            or self.silently_changed_paths
            or self.lost_files
        )
