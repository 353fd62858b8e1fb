"""Documents of ``restore``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

from dunechest.documents.base import Bytes, Count, Document, Moment
from dunechest.documents.common import DamagedRecord, LeftBehind
from dunechest.documents.envelope import Finding


class RestorableLibrary(Document):
    """A library in a chest: where it came from, and where it would be restored (`destination`, if that is known)."""

    name: str
    kind: str | None
    editions: list[int]
    archived_at: Moment | None
    computer: str | None
    path: str | None
    file_count: Count | None
    size_bytes: Bytes | None
    destination: str | None
    exists: bool
    why_not: str

    _sources: ClassVar[Mapping[str, str]] = {
        "name": "entry.name",
        "kind": "entry.library.kind",
        "archived_at": "entry.library.archived",
        "computer": "entry.library.origin.machine",
        "path": "origin_path",
        "file_count": "entry.library.totals.files_copied",
        "size_bytes": "entry.library.totals.bytes_stored",
        "destination": "placement.place",
        "exists": "existing",
    }


class RestoreList(Document):
    """What a chest holds that can be restored."""

    libraries: list[RestorableLibrary]
    left_behind: list[LeftBehind]


class RenamedPath(Document):
    """A path that has another name here."""

    path: str
    new_path: str


class MergedFile(Document):
    """What merging did to one file; `differing` names entries that both have, and that differ."""

    path: str
    added_count: Count
    taken_out_count: Count
    differing: list[str]

    _sources: ClassVar[Mapping[str, str]] = {
        "added_count": "added",
        "taken_out_count": "taken",
        "differing": "differ",
    }


class PlannedOutsideFile(Document):
    """A file from outside the library: where it was and where it goes."""

    path: str
    new_path: str
    size_bytes: Bytes
    exists: bool

    _sources: ClassVar[Mapping[str, str]] = {
        "path": "origin",
        "new_path": "place",
        "size_bytes": "file.size",
        "exists": "there",
    }


class UpdatedReference(Document):
    """A reference that is updated: its file, where in it, what it said and says."""

    file: str
    spot: str
    old: str
    new: str

    _sources: ClassVar[Mapping[str, str]] = {"file": "source"}


class ReferenceByHand(Document):
    """A reference that a person has to look at, and what to do."""

    file: str
    spot: str
    text: str
    action: str

    _sources: ClassVar[Mapping[str, str]] = {"file": "source", "action": "why"}


class Setting(Document):
    """A setting of the application that names the library's place."""

    file: str
    key: str
    old: str | None
    new: str

    _sources: ClassVar[Mapping[str, str]] = {"old": "old_or_none"}


class UpdatedSetting(Document):
    """A setting that was updated, or the reason why it was not."""

    file: str
    key: str
    old: str | None
    new: str
    why_not: str

    _sources: ClassVar[Mapping[str, str]] = {
        "file": "0.file",
        "key": "0.key",
        "old": "0.old_or_none",
        "new": "0.new",
        "why_not": "1",
    }


class NotRestored(Document):
    """Something of an archive that is not restored, and why; `fault` says whether that is damage."""

    path: str
    why: str
    fault: bool


class Check(Document):
    """One check after a restore: what, before, after, whether it passed, and details if not."""

    what: str
    before: str
    after: str
    passed: bool
    details: list[str]

    _sources: ClassVar[Mapping[str, str]] = {"before": "then", "after": "now", "passed": "well", "details": "why"}


class FileNamingOldPlace(Document):
    """A file that still names an old place, and how often."""

    path: str
    mention_count: Count

    _sources: ClassVar[Mapping[str, str]] = {"mention_count": "count"}


class OldPlaces(Document):
    """Old places, and the files that still name one."""

    paths: list[str]
    files: list[FileNamingOldPlace]

    _sources: ClassVar[Mapping[str, str]] = {"paths": "names"}


class RestoredLibrary(Document):
    """What was restored of a library: so many files are in place and checked; `existing_count` of them were there already."""

    name: str
    edition: int
    path: str
    ok: bool
    parts: list[str]
    listed_count: Count
    file_count: Count
    size_bytes: Bytes
    existing_count: Count
    folder_count: Count
    link_count: Count
    kept_paths: list[str]
    replaced_paths: list[str]
    renamed_conflicts: list[RenamedPath]
    merged_files: list[MergedFile]
    set_aside: list[RenamedPath]
    outside_files: list[RenamedPath]
    updated_references: list[UpdatedReference]
    references_by_hand: list[ReferenceByHand]
    settings: list[UpdatedSetting]
    checks: list[Check]
    not_restored: list[NotRestored]
    damaged_records: list[DamagedRecord]
    renamed: list[RenamedPath]
    application: str
    old_place: OldPlaces
    findings: list[Finding]
    undoable: bool
    single_file_paths: list[str]
    seconds: float

    _sources: ClassVar[Mapping[str, str]] = {
        "name": "bag",
        "path": "place",
        "ok": "well",
        "listed_count": "files_listed",
        "file_count": "files",
        "size_bytes": "bytes",
        "existing_count": "same",
        "folder_count": "folders",
        "link_count": "links",
        "kept_paths": "kept",
        "replaced_paths": "replaced",
        "renamed_conflicts": "beside",
        "merged_files": "merged",
        "updated_references": "updated",
        "references_by_hand": "by_hand",
        "checks": "proof.lines",
        "not_restored": "not_done",
        "damaged_records": "damage",
        "single_file_paths": "single_files",
    }


class Restore(Document):
    """The libraries that were restored."""

    libraries: list[RestoredLibrary]
    left_behind: list[LeftBehind]


class PlannedRestore(Document):
    """What restoring a library would do."""

    name: str
    edition: int
    path: str | None
    path_known_by: str
    parts: list[str]
    partial: list[str]
    file_count: Count
    size_bytes: Bytes
    folder_count: Count
    link_count: Count
    if_exists: str
    set_aside: list[RenamedPath]
    existing_count: Count
    kept_paths: list[str]
    replaced_paths: list[str]
    renamed_conflicts: list[RenamedPath]
    merged_paths: list[str]
    outside_files: list[PlannedOutsideFile]
    unchanged_reference_count: Count
    updated_references: list[UpdatedReference]
    references_by_hand: list[ReferenceByHand]
    settings: list[Setting]
    unchanged_settings: list[Setting]
    needed_bytes: Bytes
    free_bytes: Bytes
    not_restored: list[NotRestored]
    damaged_records: list[DamagedRecord]
    renamed: list[RenamedPath]
    old_place: OldPlaces
    findings: list[Finding]
    would_run: bool

    _sources: ClassVar[Mapping[str, str]] = {
        "name": "bag",
        "edition": "record.edition",
        "path": "place",
        "path_known_by": "placement.how",
        "parts": "part_titles",
        "partial": "record.partial",
        "file_count": "file_count",
        "size_bytes": "bytes",
        "folder_count": "folder_count",
        "link_count": "link_count",
        "if_exists": "existing.mode",
        "set_aside": "existing.set_aside",
        "existing_count": "existing.there",
        "kept_paths": "existing.kept_paths",
        "replaced_paths": "existing.replaced_paths",
        "renamed_conflicts": "existing.conflicts",
        "merged_paths": "existing.merged_paths",
        "unchanged_reference_count": "references.stay",
        "updated_references": "references.updates",
        "references_by_hand": "references.lost",
        "unchanged_settings": "settings_left",
        "needed_bytes": "room.need",
        "free_bytes": "room.free",
        "not_restored": "not_done",
        "damaged_records": "damage",
    }


class RestorePlanned(Document):
    """What restoring would do; `saved_plan` is what ``--apply-plan`` reads."""

    libraries: list[PlannedRestore]
    left_behind: list[LeftBehind]
    would_run: bool
    saved_plan: dict[str, Any]
