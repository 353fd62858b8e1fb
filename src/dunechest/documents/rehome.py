"""Documents of ``rehome``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

from dunechest.documents.base import Bytes, Count, Document, Moment
from dunechest.documents.common import PathAndWhy
from dunechest.documents.envelope import Finding
from dunechest.documents.reclaim import ReclaimedLibrary
from dunechest.documents.restore import ReferenceByHand, RenamedPath, Setting, UpdatedReference


class NewLibrary(Document):
    """A second library that was made where the moved one used to be found."""

    path: str
    file_count: Count
    made_at: Moment | None

    _sources: ClassVar[Mapping[str, str]] = {"file_count": "files", "made_at": "since"}


class RehomedLibrary(Document):
    """A library that was moved to a drive: where it was and is, and whether its drive is connected.

    `way` is how its application finds it: ``setting`` or ``link``. `second` is another library that was made meanwhile.
    """

    name: str
    kind: str
    old_path: str
    path: str
    drive: str
    connected: bool
    way: str
    moved_at: Moment | None
    second: NewLibrary | None
    message: str
    command: str

    _sources: ClassVar[Mapping[str, str]] = {
        "old_path": "old",
        "path": "place",
        "moved_at": "since",
        "message": "sentence",
    }


class MovedLibrary(Document):
    """A library, or parts of it, that was moved: where it was and is, and what was updated.

    `set_aside_path` is where the original is now; `shared_paths` are files of parts that stay in the library, too.
    """

    name: str
    path: str
    new_path: str
    old_path: str
    drive: str
    way: str
    back: bool
    parts: list[str]
    set_aside_path: str | None
    file_count: Count
    size_bytes: Bytes
    link_count: Count
    updated_references: list[UpdatedReference]
    references_by_hand: list[ReferenceByHand]
    settings: list[Setting]
    unmoved_files: list[PathAndWhy]
    outside_files: list[RenamedPath]
    shared_paths: list[str]
    findings: list[Finding]

    _sources: ClassVar[Mapping[str, str]] = {
        "path": "source",
        "new_path": "target",
        "old_path": "old",
        "set_aside_path": "aside",
        "file_count": "files",
        "size_bytes": "bytes",
        "link_count": "links",
        "updated_references": "updated",
        "references_by_hand": "by_hand",
        "unmoved_files": "not_moved",
        "outside_files": "outside_moves",
        "shared_paths": "stayed",
    }


class Rehome(Document):
    """What was moved; `reclaimed_libraries` says how much room it made, where the original was deleted as well."""

    libraries: list[MovedLibrary]
    reclaimed_libraries: list[ReclaimedLibrary]


class PlannedMove(Document):
    """What moving a library would do."""

    name: str
    path: str
    new_path: str
    old_path: str
    drive: str
    way: str
    back: bool
    set_aside_path: str
    file_count: Count
    size_bytes: Bytes
    need_bytes: Bytes
    free_bytes: Bytes
    references: list[UpdatedReference]
    settings: list[Setting]
    unmoved_files: list[PathAndWhy]
    outside_files: list[RenamedPath]
    would_run: bool
    findings: list[Finding]

    _sources: ClassVar[Mapping[str, str]] = {
        "path": "source",
        "new_path": "target",
        "old_path": "old",
        "set_aside_path": "aside",
        "size_bytes": "bytes",
        "need_bytes": "room.need",
        "free_bytes": "room.free",
        "references": "references.updates",
        "unmoved_files": "not_moved",
        "outside_files": "outside_moves",
    }


class PlannedPartMove(Document):
    """What moving parts of a library would do; with `merge` they join a library of theirs that is there already."""

    name: str
    path: str
    new_path: str
    drive: str
    parts: list[str]
    merge: bool
    set_aside_path: str
    file_count: Count
    size_bytes: Bytes
    need_bytes: Bytes
    free_bytes: Bytes
    edited_paths: list[str]
    shared_paths: list[str]
    would_run: bool
    findings: list[Finding]

    _sources: ClassVar[Mapping[str, str]] = {
        "path": "source",
        "new_path": "target",
        "parts": "part_titles",
        "set_aside_path": "aside",
        "size_bytes": "bytes",
        "need_bytes": "room.need",
        "free_bytes": "room.free",
        "edited_paths": "taken.edits",
    }


class RehomePlanned(Document):
    """What moving would do."""

    libraries: list[PlannedMove]


class RehomePartPlanned(Document):
    """What moving parts would do."""

    libraries: list[PlannedPartMove]


class RejoinedLibrary(Document):
    """A moved library and what of a second one was brought into it.

    `same_count` files were there already, `kept_paths` stayed as they were on the drive; `set_aside_path` is where the second
    library is now.
    """

    name: str
    path: str
    old_path: str
    drive: str
    way: str
    second_path: str | None
    set_aside_path: str | None
    added_count: Count
    same_count: Count
    merged_paths: list[str]
    renamed_files: list[RenamedPath]
    kept_paths: list[str]
    settings: list[Setting]
    findings: list[Finding]

    _sources: ClassVar[Mapping[str, str]] = {
        "path": "place",
        "old_path": "old",
        "second_path": "second",
        "set_aside_path": "aside",
        "added_count": "added",
        "same_count": "same",
        "merged_paths": "merged",
        "renamed_files": "conflicts",
        "kept_paths": "kept",
    }


class Rejoin(Document):
    """What was rejoined."""

    libraries: list[RejoinedLibrary]


class PlannedRejoin(Document):
    """What rejoining would do."""

    name: str
    path: str
    old_path: str
    second_path: str | None
    second_file_count: Count
    set_aside_path: str | None
    settings: list[Setting]
    findings: list[Finding]

    _sources: ClassVar[Mapping[str, str]] = {
        "path": "home.place",
        "old_path": "home.old",
        "second_path": "second",
        "set_aside_path": "aside",
    }


class RejoinPlanned(Document):
    """What rejoining would do."""

    libraries: list[PlannedRejoin]


class RehomeForgotten(Document):
    """The moved libraries that are not expected any more."""

    libraries: list[RehomedLibrary]
