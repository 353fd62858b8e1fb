"""What dropping editions did, as a plain value."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class DropResult:
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

    chest: str
    bag: str
    kept: tuple[int, ...]
    dropped: tuple[int, ...]
    files: int
    bytes: int
