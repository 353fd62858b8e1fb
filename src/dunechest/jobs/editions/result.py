"""What dropping editions did, as a plain value."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from dunechest.values import Value


@dataclass(frozen=True, slots=True, repr=False)
class DropResult(Value):
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
