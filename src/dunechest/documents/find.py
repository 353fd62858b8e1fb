"""Documents of ``find``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

from dunechest.documents.base import Bytes, Count, Document, Moment
from dunechest.documents.common import InnerLibrary
from dunechest.documents.rehome import RehomedLibrary


class FoundLibrary(Document):
    """A library on this computer or a drive; `whose` says which old system or drive it is from, or is empty."""

    name: str
    kind: str
    path: str
    drive: str
    whose: str
    file_count: Count
    size_bytes: Bytes
    rebuildable_bytes: Bytes
    changed_at: Moment | None
    evidence: list[str]
    contains: list[InnerLibrary]

    _sources: ClassVar[Mapping[str, str]] = {
        "name": "library.name",
        "kind": "library.kind.name",
        "path": "library.path",
        "whose": "where",
        "file_count": "files",
        "size_bytes": "bytes",
        "rebuildable_bytes": "rebuildable",
        "changed_at": "changed",
        "evidence": "library.evidence",
    }


class FoundDrive(Document):
    """A drive with libraries on it."""

    path: str
    filesystem: str
    free_bytes: Bytes
    total_bytes: Bytes
    essential_bytes: Bytes
    rebuildable_bytes: Bytes

    _sources: ClassVar[Mapping[str, str]] = {
        "path": "place",
        "free_bytes": "free",
        "total_bytes": "total",
        "essential_bytes": "essential",
        "rebuildable_bytes": "rebuildable",
    }


class UnknownFolder(Document):
    """A folder that looks like an application's library, of no known kind."""

    path: str
    file_count: Count
    size_bytes: Bytes
    evidence: list[str]

    _sources: ClassVar[Mapping[str, str]] = {"file_count": "files", "size_bytes": "bytes"}


class LooseFolder(Document):
    """A folder of the home with files that lie in no library; `standard` is true for the documents, pictures and such."""

    path: str
    file_count: Count
    size_bytes: Bytes
    standard: bool

    _sources: ClassVar[Mapping[str, str]] = {"file_count": "files", "size_bytes": "bytes"}


class Find(Document):
    """What was found, and where it was searched."""

    libraries: list[FoundLibrary]
    drives: list[FoundDrive]
    moved_libraries: list[RehomedLibrary]
    unknown_folders: list[UnknownFolder]
    searched_paths: list[str]
    unreadable_paths: list[str]
    kind_file_errors: list[str]
    loose_folders: list[LooseFolder]

    _sources: ClassVar[Mapping[str, str]] = {
        "moved_libraries": "moved",
        "unknown_folders": "unknown",
        "searched_paths": "searched",
        "unreadable_paths": "unreadable",
        "kind_file_errors": "broken_kinds",
        "loose_folders": "loose",
    }
