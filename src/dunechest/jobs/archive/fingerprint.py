"""The fingerprint of a library: one digest of the names, sizes, times and modes it has, of its kind, and of the choice.

The record of an edition holds it. Where it is the same, nothing can differ by anything that is looked at without reading.
"""

from __future__ import annotations

from collections.abc import Iterable

import msgspec
from blake3 import blake3

from dunechest.library.kinds.schema import Kind
from dunechest.model.study import Choice
from dunechest.transfer.fingerprints import total_of_folder
from dunechest.transfer.totals import total_of


def fingerprint(kind: Kind, choice: Choice, lines: Iterable[str]) -> str:
    """Return the fingerprint of a library by the texts of its folders, in hexadecimal."""
    return fingerprint_of_total(kind, choice, total_of(lines))


def fingerprint_of_folder(kind: Kind, choice: Choice, root: str, files: int) -> str:
    """Return the fingerprint of a library that is a folder with about so many files, in hexadecimal.

    Raises
    ------
    OSError
        If anything in it cannot be listed or asked about.
    """
    return fingerprint_of_total(kind, choice, total_of_folder(root, files))


def fingerprint_of_total(kind: Kind, choice: Choice, total: int) -> str:
    """Return the fingerprint of a library by what the texts of its folders add up to, in hexadecimal."""
    total += int.from_bytes(blake3(msgspec.json.encode((kind, choice))).digest())
    return f"{total % (1 << 256):064x}"
