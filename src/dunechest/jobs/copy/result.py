"""What copying a library did, as a plain value."""

from __future__ import annotations

from typing import ClassVar, NamedTuple

import msgspec

from dunechest.findings import Finding
from dunechest.values import PathAndWhy, Value


class FromElsewhere(NamedTuple):
    """A file that was not intact in the source, and the label of the chest that it came from instead."""

    path: str
    label: str


class CopyResult(Value, msgspec.Struct, frozen=True):
    """What copying one library did.

    Parameters
    ----------
    name, state : str
        Name of the bag, and ``new``, ``next``, ``unchanged``, ``newer``, ``foreign``, or ``barred``, as planned.
    editions : tuple of int
        Numbers of the editions that were copied.
    edition : int
        The edition that the target has now; 0 if it has none.
    copied_count, copied_bytes : int
        Files and bytes that were copied and read back.
    file_count, size_bytes : int
        Files and bytes of the edition that the target has now.
    resumed_count : int
        Of the files, those that an interrupted run had copied already.
    from_other_chests : tuple of (str, str)
        Files that were not intact in the source and came from another chest: path, and its label.
    missing_files : tuple of (str, str)
        Files that are intact nowhere: path, and why.
    findings : tuple of Finding
        What there is to say of it.
    """

    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "state",
        "ok",
        "editions",
        "edition",
        "copied_count",
        "copied_bytes",
        "resumed_count",
        "file_count",
        "size_bytes",
        "from_other_chests",
        "missing_files",
        "findings",
    )
    _shown: ClassVar[tuple[str, ...]] = ("name", "state", "copied_count", "copied_bytes", "ok")
    _rows: ClassVar[str] = "missing_files"

    name: str
    state: str
    editions: tuple[int, ...] = ()
    edition: int = 0
    copied_count: int = 0
    copied_bytes: int = 0
    file_count: int = 0
    size_bytes: int = 0
    resumed_count: int = 0
    from_other_chests: tuple[FromElsewhere, ...] = ()
    missing_files: tuple[PathAndWhy, ...] = ()
    findings: tuple[Finding, ...] = ()

    @property
    def ok(self) -> bool:
        """Whether the target has all that the source has of it."""
        return not self.missing_files and self.state not in ("barred", "foreign")
