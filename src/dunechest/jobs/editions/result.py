"""What dropping editions did, as a plain value."""

from __future__ import annotations

from typing import ClassVar

import msgspec

from dunechest.values import Value


class DropResult(Value, msgspec.Struct, frozen=True):
    """What dropping editions did.

    Parameters
    ----------
    chest, bag : str
        Label of the chest, and name of the bag.
    kept, dropped : tuple of int
        Editions that stay, and that are gone.
    files, bytes : int
        Files of the bag that are gone, and their bytes.
    """

    _shown: ClassVar[tuple[str, ...]] = ("chest", "bag", "dropped", "bytes")

    chest: str
    bag: str
    kept: tuple[int, ...]
    dropped: tuple[int, ...]
    files: int
    bytes: int
