"""Parts that the documents of several commands have."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

from dunechest.documents.base import Bytes, Count, Document


class LeftOut(Document):
    """A file that is not in the archive, and why; `fault` says whether that is a problem."""

    path: str
    size_bytes: Bytes
    why: str
    fault: bool

    _sources: ClassVar[Mapping[str, str]] = {"size_bytes": "size"}


class OutsideFile(Document):
    """A file stored elsewhere that a library uses; `why_not` says why it is not archived, or is empty."""

    path: str
    size_bytes: Bytes
    reference_count: Count
    why_not: str

    _sources: ClassVar[Mapping[str, str]] = {
        "path": "entry.path",
        "size_bytes": "entry.size",
        "reference_count": "reference_count",
    }


class StoredName(Document):
    """A name that the drive or a manifest cannot hold, and the one it is stored under."""

    path: str
    stored_as: str


class PathAndWhy(Document):
    """A path, and what is the matter with it."""

    path: str
    why: str


class DamagedRecord(Document):
    """A record of an archive that no digest proves."""

    path: str
    state: str
    why: str


class Changes(Document):
    """What an edition changed in the one before it."""

    added_count: Count
    changed_count: Count
    moved_count: Count
    dropped_count: Count
    added_bytes: Bytes

    _sources: ClassVar[Mapping[str, str]] = {
        "added_count": "added",
        "changed_count": "changed",
        "moved_count": "moved",
        "dropped_count": "dropped",
        "added_bytes": "bytes_added",
    }


class InnerLibrary(Document):
    """A library of another kind inside a library."""

    path: str
    kind: str

    _sources: ClassVar[Mapping[str, str]] = {"kind": "kind.name"}


class LeftBehind(Document):
    """A library of a chest that a restore of all leaves out."""

    name: str
    why: str
