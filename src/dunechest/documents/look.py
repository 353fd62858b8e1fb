"""Documents of ``look``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

from dunechest.documents.base import Bytes, Count, Document
from dunechest.documents.common import InnerLibrary, OutsideFile
from dunechest.documents.envelope import ChestName, Finding


class RoleTotal(Document):
    """How much of a library has a role."""

    role: str
    file_count: Count
    size_bytes: Bytes

    _sources: ClassVar[Mapping[str, str]] = {"file_count": "files", "size_bytes": "bytes"}


class Item(Document):
    """A file or folder at the top of a library."""

    path: str
    role: str
    file_count: Count
    size_bytes: Bytes

    _sources: ClassVar[Mapping[str, str]] = {"file_count": "files", "size_bytes": "bytes"}


class Part(Document):
    """What can be archived or restored by itself: an album, a title, a project."""

    what: str
    name: str
    title: str
    file_count: Count
    size_bytes: Bytes
    outside_paths: list[str]
    needed_paths: list[str]

    _sources: ClassVar[Mapping[str, str]] = {
        "size_bytes": "bytes",
        "outside_paths": "outside_files",
        "needed_paths": "needs",
    }


class Reference(Document):
    """A reference that does not lead to a file inside the library."""

    source: str
    spot: str
    text: str
    state: str
    target: str


class ReferenceTotal(Document):
    """Where the references of a library lead."""

    inside_count: Count
    outside_count: Count
    missing_count: Count
    web_count: Count
    folder_count: Count


class Use(Document):
    """A process that has the library open."""

    process: str
    process_id: int
    how: str

    _sources: ClassVar[Mapping[str, str]] = {"process_id": "pid"}


class DriveFit(Document):
    """How the drive of a chest suits the library."""

    chest: ChestName
    filesystem: str
    mount: str
    devices: list[str]
    archived_as: str
    state: str
    needed_bytes: Bytes
    free_bytes: Bytes
    bytes_per_second: float
    longest_name: int
    largest_file_bytes: int | None
    tells_case: bool
    symbolic_links: bool | None

    _sources: ClassVar[Mapping[str, str]] = {
        "filesystem": "drive.place.type",
        "mount": "drive.place.mount",
        "devices": "drive.devices",
        "archived_as": "bag",
        "needed_bytes": "need",
        "free_bytes": "free",
        "bytes_per_second": "speed",
        "longest_name": "drive.place.limits.longest",
        "largest_file_bytes": "drive.place.limits.largest",
        "tells_case": "drive.place.limits.tells_case",
        "symbolic_links": "drive.probed.links",
    }


class LookedLibrary(Document):
    """What is in a library, and whether it can be archived."""

    name: str
    kind: str
    path: str
    evidence: list[str]
    file_count: Count
    folder_count: Count
    link_count: Count
    size_bytes: Bytes
    roles: list[RoleTotal]
    largest_items: list[Item]
    parts: list[Part]
    reference_total: ReferenceTotal
    other_references: list[Reference]
    outside_files: list[OutsideFile]
    contains: list[InnerLibrary]
    placeholder_paths: list[str]
    uses: list[Use]
    drive: DriveFit | None
    findings: list[Finding]

    _sources: ClassVar[Mapping[str, str]] = {
        "name": "library.name",
        "kind": "library.kind.name",
        "path": "library.path",
        "evidence": "library.evidence",
        "file_count": "files",
        "folder_count": "folders",
        "link_count": "links",
        "size_bytes": "bytes",
        "largest_items": "biggest",
        "contains": "contents.contains",
        "drive": "fit",
    }


class Look(Document):
    """One library that was looked at."""

    libraries: list[LookedLibrary]


class WatchedLibrary(Document):
    """A library at one moment."""

    name: str
    file_count: Count
    size_bytes: Bytes
    placeholder_count: Count
    placeholder_bytes: Bytes
    processes: list[str]
    bytes_per_second: float
    seconds_left: float | None
    seconds_unchanged: float
    complete: bool

    _sources: ClassVar[Mapping[str, str]] = {
        "file_count": "files",
        "size_bytes": "bytes",
        "placeholder_count": "placeholders",
        "processes": "open_by",
        "bytes_per_second": "rate",
        "seconds_left": "left",
        "seconds_unchanged": "still",
        "complete": "whole",
    }


class Watch(Document):
    """One library as it was last seen."""

    libraries: list[WatchedLibrary]
