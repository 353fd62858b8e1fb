"""The summary of an archive run: what was found, what was copied, what was left out and why."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, ClassVar

import msgspec

from dunechest.chest.records import ChangeCounts
from dunechest.findings import Finding
from dunechest.jobs.archive.plan import CarriedFile
from dunechest.jobs.study.choice import LeftBehind
from dunechest.names import shown
from dunechest.values import Value, frame

if TYPE_CHECKING:
    import pandas as pd


#: Why a file is lost that only the chest had just now.
NOT_SEEN_NOW = "it cannot be seen on this computer now"


class ArchiveResult(Value, msgspec.Struct, frozen=True):
    """The summary of an archive run for one library.

    `files_found` is `files_copied` plus the number of `left_out`, and so for bytes;
    `bytes_stored` differs from `bytes_copied` only by captured databases, which
    have a size of their own. `again` are files that changed while they were read and
    were read again; `broken` are databases that SQLite finds damaged or cannot
    read, with its words; `appeared` and `moved_on` are files that came, or changed, after
    they could be copied. `resumed` counts files that an earlier, interrupted run had
    already brought to the drive. `parts` are the titles of the parts asked for, empty
    for the whole library; `outside_files` of the files copied came from outside it, and
    `outside_left` were not gathered. `edition` is the one that was made, or is there just so;
    `kept` of the files copied were on the drive already, from an earlier edition; `changes` count
    what changed since; `silent` are files with other bytes though size and time are the same. `healed` are files that
    had gone from the chest, or had another size there, and were copied again; `lost` are those of which the library has
    other bytes by now. `chest` is the label of the chest. `carried` are files that could not be seen, and that the archive
    keeps as they were.
    """

    _shown: ClassVar[tuple[str, ...]] = ("library", "state", "edition", "files_copied", "bytes_copied", "well")
    _document: ClassVar[str] = "archive.ArchivedLibrary"

    library: str
    bag: str
    folder: Path
    state: str
    files_found: int
    bytes_found: int
    left_out: tuple[LeftBehind, ...]
    folders: int
    links: int
    databases: int
    seconds: float
    findings: tuple[Finding, ...] = ()
    files_copied: int = 0
    bytes_copied: int = 0
    bytes_stored: int = 0
    changed_names: tuple[tuple[str, str], ...] = ()
    again: tuple[str, ...] = ()
    broken: tuple[tuple[str, str], ...] = ()
    appeared: tuple[str, ...] = ()
    moved_on: tuple[str, ...] = ()
    resumed: int = 0
    parts: tuple[str, ...] = ()
    outside_files: int = 0
    outside_bytes: int = 0
    outside_left: int = 0
    edition: int = 1
    kept: int = 0
    changes: ChangeCounts | None = None
    silent: tuple[str, ...] = ()
    healed: tuple[str, ...] = ()
    lost: tuple[tuple[str, str], ...] = ()
    chest: str = ""
    carried: tuple[CarriedFile, ...] = ()

    @property
    def bytes_left_out(self) -> int:
        """Bytes of the files left out."""
        return sum(file.size for file in self.left_out)

    @property
    def well(self) -> bool:
        """Whether everything that can be archived was, and nothing moved meanwhile."""
        return not (
            any(file.fault for file in self.left_out)
            or self.broken
            or self.appeared
            or self.moved_on
            or self.silent
            or self.lost
        )

    def to_frame(self) -> pd.DataFrame:
        """Return one row a file left out: path, bytes, why, fault."""
        return frame(
            [{"path": shown(o.path), "bytes": o.size, "why": o.why, "fault": o.fault} for o in self.left_out],
            columns=["path", "bytes", "why", "fault"],
        )
