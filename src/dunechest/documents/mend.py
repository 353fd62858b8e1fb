"""Documents of ``mend``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

import msgspec

from dunechest.documents.base import Bytes, Count, Document
from dunechest.documents.common import PathAndWhy
from dunechest.documents.envelope import Finding
from dunechest.documents.release import ReleasedDrive


class MendedFile(Document):
    """A file that is what it was again, and where its content came from."""

    path: str
    came_from: str


class MendedLibrary(Document):
    """What was damaged in a library, and what was mended; `other_files` are no part of the archive."""

    name: str
    ok: bool
    checked_count: Count
    mended_files: list[MendedFile]
    mended_bytes: Bytes
    unmended_files: list[PathAndWhy]
    other_files: list[PathAndWhy]
    findings: list[Finding]

    _sources: ClassVar[Mapping[str, str]] = {
        "name": "bag",
        "ok": "well",
        "checked_count": "files",
        "mended_files": "mended",
        "mended_bytes": "bytes",
        "unmended_files": "not_mended",
        "other_files": "left",
    }


class Mend(Document):
    """The libraries that were mended."""

    libraries: list[MendedLibrary]
    released_drives: list[ReleasedDrive] = msgspec.field(default_factory=list)


class LibraryToMend(Document):
    """What is damaged in a library."""

    name: str
    checked_count: Count
    damaged_count: Count
    damaged_bytes: Bytes
    damaged_files: list[PathAndWhy]
    unmendable_files: list[PathAndWhy]
    other_files: list[PathAndWhy]
    findings: list[Finding]

    _sources: ClassVar[Mapping[str, str]] = {
        "name": "bag",
        "checked_count": "files",
        "damaged_count": "damaged",
        "damaged_bytes": "bytes",
        "unmendable_files": "hopeless",
        "other_files": "left",
    }


class MendPlanned(Document):
    """What is damaged, and could be mended."""

    libraries: list[LibraryToMend]
