"""What mending did, as a plain value."""

from __future__ import annotations

from typing import ClassVar, NamedTuple

import msgspec

from dunechest.findings import Finding
from dunechest.values import PathAndWhy, Value


class MendedFile(NamedTuple):
    """A file that is what it was again, and where its content came from."""

    path: str
    came_from: str


class MendResult(Value, msgspec.Struct, frozen=True):
    """What mending one library did.

    Parameters
    ----------
    name : str
        Its name in the chest.
    checked_count : int
        Number of files and records that were read to find the damage.
    mended_files : tuple of (str, str)
        Files and records that are what they were again, and where their content came from.
    mended_bytes : int
        Bytes of these.
    unmended_files : tuple of (str, str)
        What is still damaged or missing, and why.
    other_files : tuple of (str, str)
        What is no part of the archive and was left alone, and what it is.
    findings : tuple of Finding
        What there is to say of it.
    """

    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "ok",
        "checked_count",
        "mended_files",
        "mended_bytes",
        "unmended_files",
        "other_files",
        "findings",
    )
    _shown: ClassVar[tuple[str, ...]] = ("name", "mended_files", "unmended_files")
    _rows: ClassVar[str] = "mended_files"

    name: str
    checked_count: int = 0
    mended_files: tuple[MendedFile, ...] = ()
    mended_bytes: int = 0
    unmended_files: tuple[PathAndWhy, ...] = ()
    other_files: tuple[PathAndWhy, ...] = ()
    findings: tuple[Finding, ...] = ()

    @property
    def ok(self) -> bool:
        """Whether the library is intact now."""
        return not self.unmended_files
