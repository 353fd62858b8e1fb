"""What freeing the space of an original did, as plain values."""

from __future__ import annotations

from pathlib import Path
from typing import ClassVar

import msgspec

from dunechest.findings import Finding
from dunechest.values import PathAndWhy, Value


class ReclaimResult(Value, msgspec.Struct, frozen=True):
    """The summary of a deletion.

    `deleted_count` and `deleted_bytes` were deleted; `freed_bytes` is by how many bytes the free space of the disk grew,
    measured before and after, `disk_bytes` what the deleted files took there. `why_less` says why that made less room, or is
    empty. `kept_files` is what stays, and why; `kept_path` where that is, None if nothing does. `restore_command` says how to
    get it again.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "deleted_count", "freed_bytes")
    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "what",
        "path",
        "in_use_path",
        "parts",
        "deleted_count",
        "deleted_bytes",
        "freed_bytes",
        "disk_bytes",
        "why_less",
        "to_trash",
        "kept_files",
        "kept_path",
        "outside_paths",
        "checked_labels",
        "drilled_label",
        "restore_command",
        "findings",
    )
    _rows: ClassVar[str] = "kept_files"

    name: str
    what: str
    path: Path
    in_use_path: Path | None
    parts: tuple[str, ...]
    deleted_count: int
    deleted_bytes: int
    freed_bytes: int
    disk_bytes: int
    why_less: str
    to_trash: bool
    kept_files: tuple[PathAndWhy, ...]
    kept_path: Path | None
    outside_paths: tuple[str, ...]
    checked_labels: tuple[str, ...]
    drilled_label: str
    restore_command: str
    findings: tuple[Finding, ...]
    seconds: float
