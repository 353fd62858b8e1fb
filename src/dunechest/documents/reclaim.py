"""Documents of ``reclaim``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

from dunechest.documents.base import Bytes, Count, Document, Moment
from dunechest.documents.common import PathAndWhy
from dunechest.documents.envelope import Finding


class CopyEvidence(Document):
    """A copy in a connected chest, as it was looked at just now; `why_not` says why it does not count, or is empty."""

    label: str
    chest_id: str
    archived_as: str
    edition: int
    archived_at: Moment | None
    checked_at: Moment | None
    drilled_at: Moment | None
    counts: bool
    why_not: str

    _sources: ClassVar[Mapping[str, str]] = {
        "chest_id": "chest",
        "archived_as": "bag",
        "archived_at": "archived",
        "checked_at": "checked",
        "drilled_at": "drilled",
    }


class PlannedReclaim(Document):
    """What would be deleted, what stays and why, and the copies that this relies on.

    `what` is ``original``, ``set-aside`` or ``part``; `in_use_path` is where the library goes on, if it was moved;
    `disk_bytes` are what the files take on the disk.
    """

    name: str
    what: str
    path: str
    in_use_path: str | None
    parts: list[str]
    file_count: Count
    size_bytes: Bytes
    disk_bytes: Bytes
    kept_files: list[PathAndWhy]
    outside_paths: list[str]
    shared_paths: list[str]
    copies: list[CopyEvidence]
    first_checked_labels: list[str]
    first_drilled_label: str
    restore_command: str
    would_run: bool
    findings: list[Finding]

    _sources: ClassVar[Mapping[str, str]] = {
        "path": "place",
        "in_use_path": "live",
        "parts": "part_titles",
        "size_bytes": "bytes",
        "disk_bytes": "blocks",
        "kept_files": "staying",
        "first_checked_labels": "to_check",
        "first_drilled_label": "to_drill",
        "restore_command": "how",
    }


class ReclaimPlanned(Document):
    """What would be deleted."""

    libraries: list[PlannedReclaim]


class ReclaimedLibrary(Document):
    """What was deleted, and by how much the free space of the disk grew (`freed_bytes`, measured)."""

    name: str
    what: str
    path: str
    in_use_path: str | None
    parts: list[str]
    deleted_count: Count
    deleted_bytes: Bytes
    freed_bytes: Bytes
    disk_bytes: Bytes
    why_less: str
    to_trash: bool
    kept_files: list[PathAndWhy]
    kept_path: str | None
    outside_paths: list[str]
    checked_labels: list[str]
    drilled_label: str
    restore_command: str
    findings: list[Finding]

    _sources: ClassVar[Mapping[str, str]] = {
        "path": "place",
        "in_use_path": "live",
        "deleted_count": "files",
        "deleted_bytes": "bytes",
        "freed_bytes": "freed",
        "disk_bytes": "expected",
        "to_trash": "trash",
        "kept_files": "staying",
        "kept_path": "rest",
        "checked_labels": "checked",
        "drilled_label": "drilled",
        "restore_command": "how",
    }


class Reclaim(Document):
    """What was deleted."""

    libraries: list[ReclaimedLibrary]
