"""What freeing the space of an original did, as plain values."""

from __future__ import annotations

from pathlib import Path
from typing import ClassVar

import msgspec

from dunechest.findings import Finding
from dunechest.values import Value


class ReclaimResult(Value, msgspec.Struct, frozen=True):
    """The summary of a deletion.

    `files` and `bytes` were deleted; `freed` is by how many bytes the free space of the disk grew, measured before and after,
    `expected` what the deleted files took there. `why_less` says why that made less room, or is empty. `staying` is what stays,
    and why; `rest` where that is, None if nothing does. `how` says how to get it again.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "files", "freed")
    _document: ClassVar[str] = "reclaim.ReclaimedLibrary"

    name: str
    what: str
    place: Path
    live: Path | None
    parts: tuple[str, ...]
    files: int
    bytes: int
    freed: int
    expected: int
    why_less: str
    trash: bool
    staying: tuple[tuple[str, str], ...]
    rest: Path | None
    outside_paths: tuple[str, ...]
    checked: tuple[str, ...]
    drilled: str
    how: str
    findings: tuple[Finding, ...]
    seconds: float
