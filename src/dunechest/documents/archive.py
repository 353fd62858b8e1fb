"""Documents of ``archive``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

import msgspec

from dunechest.documents.base import Bytes, Count, Document
from dunechest.documents.common import Changes, LeftOut, OutsideFile, PathAndWhy, StoredName
from dunechest.documents.envelope import Finding
from dunechest.documents.release import ReleasedDrive


class CarriedFile(Document):
    """A file that could not be seen: the archive keeps it as it was in the edition in which it was seen last.

    `why` is ``away`` (the folder or drive `place` is not there), ``closed`` (it may not be read), ``placeholder``,
    ``too-large`` or ``unread``.
    """

    path: str
    size_bytes: Bytes
    outside: bool
    last_seen_edition: int
    why: str
    place: str

    _sources: ClassVar[Mapping[str, str]] = {"size_bytes": "size", "last_seen_edition": "seen"}


class ArchivedLibrary(Document):
    """What was archived of a library.

    `found_count` is `archived_count` plus the number of `left_out`. Of the archived files, `unchanged_count` were on the
    drive already, `outside_count` came from outside the library, and `resumed_count` from a run that was interrupted.
    """

    name: str
    chest_label: str
    archived_as: str
    folder: str
    state: str
    edition: int
    ok: bool
    found_count: Count
    found_bytes: Bytes
    archived_count: Count
    archived_bytes: Bytes
    stored_bytes: Bytes
    unchanged_count: Count
    resumed_count: Count
    folder_count: Count
    link_count: Count
    database_count: Count
    outside_count: Count
    outside_bytes: Bytes
    outside_left_count: Count
    parts: list[str]
    changes: Changes | None
    left_out: list[LeftOut]
    changed_names: list[StoredName]
    reread_paths: list[str]
    appeared_paths: list[str]
    changed_paths: list[str]
    silently_changed_paths: list[str]
    repaired_paths: list[str]
    lost_files: list[PathAndWhy]
    not_seen_files: list[CarriedFile]
    damaged_databases: list[PathAndWhy]
    findings: list[Finding]
    seconds: float

    _sources: ClassVar[Mapping[str, str]] = {
        "name": "library",
        "chest_label": "chest",
        "archived_as": "bag",
        "ok": "well",
        "found_count": "files_found",
        "found_bytes": "bytes_found",
        "archived_count": "files_copied",
        "archived_bytes": "bytes_copied",
        "stored_bytes": "bytes_stored",
        "unchanged_count": "kept",
        "resumed_count": "resumed",
        "folder_count": "folders",
        "link_count": "links",
        "database_count": "databases",
        "outside_count": "outside_files",
        "outside_left_count": "outside_left",
        "reread_paths": "again",
        "appeared_paths": "appeared",
        "changed_paths": "moved_on",
        "silently_changed_paths": "silent",
        "repaired_paths": "healed",
        "lost_files": "lost",
        "not_seen_files": "carried",
        "damaged_databases": "broken",
    }


class Archive(Document):
    """The libraries that were archived."""

    libraries: list[ArchivedLibrary]
    released_drives: list[ReleasedDrive] = msgspec.field(default_factory=list)


class PlannedFile(Document):
    """A file that would be copied: its path in the library, its path in the bag's ``data/``, and its role."""

    path: str
    stored_as: str
    size_bytes: Bytes
    role: str

    _sources: ClassVar[Mapping[str, str]] = {
        "path": "entry.path",
        "stored_as": "stored",
        "size_bytes": "entry.size",
    }


class PlannedArchive(Document):
    """What archiving a library would do."""

    name: str
    kind: str
    path: str
    archived_as: str
    state: str
    edition: int
    parts: list[str]
    found_count: Count
    found_bytes: Bytes
    unchanged_count: Count
    dropped_count: Count
    copy_count: Count
    copy_bytes: Bytes
    folder_count: Count
    link_count: Count
    needed_bytes: Bytes
    free_bytes: Bytes
    database_paths: list[str]
    outside_files: list[OutsideFile]
    left_out: list[LeftOut]
    not_seen_files: list[CarriedFile]
    changed_names: list[StoredName]
    files: list[PlannedFile]
    findings: list[Finding]

    _sources: ClassVar[Mapping[str, str]] = {
        "name": "library.name",
        "kind": "library.kind.name",
        "path": "library.path",
        "archived_as": "bag",
        "parts": "part_titles",
        "found_count": "files_found",
        "found_bytes": "bytes_found",
        "copy_bytes": "bytes_to_copy",
        "needed_bytes": "room.need",
        "free_bytes": "room.free",
        "outside_files": "all_outside_files",
        "left_out": "all_left_out",
        "not_seen_files": "carried",
        "changed_names": "renamed",
        "files": "all_to_copy",
    }


class ArchivePlanned(Document):
    """What archiving would do, and whether it would be refused."""

    libraries: list[PlannedArchive]
    would_run: bool
