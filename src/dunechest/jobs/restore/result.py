"""The summary of a restore, as plain values."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, ClassVar, NamedTuple

import msgspec

from dunechest.chest.tag_lists import RecordFault
from dunechest.findings import Finding
from dunechest.jobs.restore.plan import ByHand, NotDone, Repoint
from dunechest.library.still_named import NO_OLD_PLACE, OldPlace
from dunechest.values import MovedPath, RenamedPath, SetAside, Value

if TYPE_CHECKING:
    pass


class MergeResult(Value, msgspec.Struct, frozen=True):
    """The outcome of merging one file: how many entries were `added_count`, and the names of those that `differing`.

    `staged` is the joined file, on its way to its place; None if nothing changed. `taken_out_count` things were taken
    out, where only a part was asked for.
    """

    _shown: ClassVar[tuple[str, ...]] = ("path", "added_count")
    _told: ClassVar[tuple[str, ...]] = ("path", "added_count", "taken_out_count", "differing")

    path: str
    added_count: int
    differing: tuple[str, ...]
    staged: Path | None = None
    taken_out_count: int = 0


class Compared(Value, msgspec.Struct, frozen=True):
    """One check: subject, before, after, passed, details."""

    _shown: ClassVar[tuple[str, ...]] = ("what", "before", "after", "passed")

    what: str
    before: str
    after: str
    passed: bool
    details: tuple[str, ...] = ()


class Proof(Value, msgspec.Struct, frozen=True):
    """What was compared after a restore."""

    _shown: ClassVar[tuple[str, ...]] = ("ok",)

    lines: tuple[Compared, ...]

    @property
    def ok(self) -> bool:
        """Whether everything is as it was."""
        return all(line.passed for line in self.lines)


class UpdatedSetting(NamedTuple):
    """A setting that was updated, or the reason why it was not."""

    file: Path
    key: str
    old: str | None
    new: str
    why_not: str


class RestoreResult(Value, msgspec.Struct, frozen=True):
    """The summary of a restore.

    `file_count` and `size_bytes` are in place and proven, `existing_count` of them were there already; `kept_paths` were left
    as they are here though the chest has other bytes, and `renamed_conflicts` came under another name; `not_restored` lists
    everything of the archive that was not brought back, with the reason; `renamed` what has another name here; `application`
    what keeps such a library, if that is known; `outside_files` says of each file from outside the library where it was and
    where it is now. `set_aside` are old and new places of what was in the way. `updated_references` are references that were
    updated, `references_by_hand` those that a person has to look at, `settings` what was written of the application's, each
    with the reason if it was not. `merged_files` is what merging did; `proof` what the library was and is; `damaged_records`
    what is not proven of the archive's records; `old_place` what still names where it was. `undoable` says whether anything
    was done that could be undone; `single_file_paths` are the paths in the library of those that were asked for, empty if it
    was not for single ones.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "path", "file_count", "ok")
    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "edition",
        "path",
        "ok",
        "parts",
        "listed_count",
        "file_count",
        "size_bytes",
        "existing_count",
        "folder_count",
        "link_count",
        "kept_paths",
        "replaced_paths",
        "renamed_conflicts",
        "merged_files",
        "set_aside",
        "outside_files",
        "updated_references",
        "references_by_hand",
        "settings",
        "checks",
        "not_restored",
        "damaged_records",
        "renamed",
        "application",
        "old_place",
        "findings",
        "undoable",
        "single_file_paths",
        "seconds",
    )
    _rows: ClassVar[str] = "not_restored"

    name: str
    path: Path
    edition: int
    listed_count: int
    file_count: int
    size_bytes: int
    existing_count: int
    kept_paths: tuple[str, ...]
    renamed_conflicts: tuple[RenamedPath, ...]
    replaced_paths: tuple[str, ...]
    folder_count: int
    link_count: int
    not_restored: tuple[NotDone, ...]
    renamed: tuple[RenamedPath, ...]
    application: str
    seconds: float
    findings: tuple[Finding, ...]
    proof: Proof
    parts: tuple[str, ...] = ()
    outside_files: tuple[MovedPath, ...] = ()
    set_aside: tuple[SetAside, ...] = ()
    updated_references: tuple[Repoint, ...] = ()
    references_by_hand: tuple[ByHand, ...] = ()
    settings: tuple[UpdatedSetting, ...] = ()
    merged_files: tuple[MergeResult, ...] = ()
    damaged_records: tuple[RecordFault, ...] = ()
    undoable: bool = True
    old_place: OldPlace = NO_OLD_PLACE
    single_file_paths: tuple[str, ...] = ()

    @property
    def checks(self) -> tuple[Compared, ...]:
        """What was compared with what was archived."""
        return self.proof.lines

    @property
    def ok(self) -> bool:
        """Whether everything that could be brought back was, no damage was met, and it is what it was."""
        return not any(item.fault for item in self.not_restored) and not self.damaged_records and self.proof.ok

    @property
    def only_closed(self) -> bool:
        """Whether nothing is wrong but that this user may not read some files of the chest."""
        faults = [item for item in self.not_restored if item.fault]
        return bool(faults) and all(item.closed for item in faults) and not self.damaged_records
