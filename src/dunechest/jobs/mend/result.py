"""What mending did, as a plain value."""

from __future__ import annotations

from typing import ClassVar

import msgspec

from dunechest.findings import Finding
from dunechest.values import Value


class MendResult(Value, msgspec.Struct, frozen=True):
    """What mending one library did.

    Parameters
    ----------
    bag : str
        Its name in the chest.
    files : int
        Number of files and records that were read to find the damage.
    mended : tuple of (str, str)
        Files and records that are what they were again, and where their content came from.
    bytes : int
        Bytes of these.
    not_mended : tuple of (str, str)
        What is still damaged or missing, and why.
    left : tuple of (str, str)
        What is no part of the archive and was left alone, and what it is.
    findings : tuple of Finding
        What there is to say of it.
    """

    _document: ClassVar[str] = "mend.MendedLibrary"
    _shown: ClassVar[tuple[str, ...]] = ("bag", "mended", "not_mended")

    bag: str
    files: int = 0
    mended: tuple[tuple[str, str], ...] = ()
    bytes: int = 0
    not_mended: tuple[tuple[str, str], ...] = ()
    left: tuple[tuple[str, str], ...] = ()
    findings: tuple[Finding, ...] = ()

    @property
    def well(self) -> bool:
        """Whether the library is intact now."""
        return not self.not_mended
