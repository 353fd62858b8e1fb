"""What copying a library did, as a plain value."""

from __future__ import annotations

from typing import ClassVar

import msgspec

from dunechest.findings import Finding
from dunechest.values import Value


class CopyResult(Value, msgspec.Struct, frozen=True):
    """What copying one library did.

    Parameters
    ----------
    bag, state : str
        Name of the bag, and ``new``, ``next``, ``unchanged``, ``newer``, ``foreign``, or ``barred``, as planned.
    editions : tuple of int
        Numbers of the editions that were copied.
    edition : int
        The edition that the target has now; 0 if it has none.
    files, bytes : int
        Files and bytes that were copied and read back.
    total_files, total_bytes : int
        Files and bytes of the edition that the target has now.
    resumed : int
        Of the files, those that an interrupted run had copied already.
    from_elsewhere : tuple of (str, str)
        Files that were not intact in the source and came from another chest: path, and its label.
    not_copied : tuple of (str, str)
        Files that are intact nowhere: path, and why.
    findings : tuple of Finding
        What there is to say of it.
    """

    _document: ClassVar[str] = "copy.CopiedLibrary"
    _shown: ClassVar[tuple[str, ...]] = ("bag", "state", "files", "bytes", "well")

    bag: str
    state: str
    editions: tuple[int, ...] = ()
    edition: int = 0
    files: int = 0
    bytes: int = 0
    total_files: int = 0
    total_bytes: int = 0
    resumed: int = 0
    from_elsewhere: tuple[tuple[str, str], ...] = ()
    not_copied: tuple[tuple[str, str], ...] = ()
    findings: tuple[Finding, ...] = ()

    @property
    def well(self) -> bool:
        """Whether the target has all that the source has of it."""
        return not self.not_copied and self.state not in ("barred", "foreign")
