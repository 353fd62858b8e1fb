"""What dropping editions means, as a plain value."""

from __future__ import annotations

from dataclasses import dataclass

from dunechest.chest.chest import Chest
from dunechest.chest.records import LibraryRecord


@dataclass(frozen=True, slots=True)
class DropPlan:
    """What thinning means.

    Parameters
    ----------
    chest, bag
        Where.
    rule : str
        The rule, as it was given.
    record : LibraryRecord
        The current edition.
    kept, dropped : tuple of int
        Editions that stay and that go.
    exempt : tuple of int
        Of those that stay, the ones that the rule would drop: they come before a mass change.
    files : tuple of str
        Paths in the bag that go.
    bytes : int
        What becomes free by that.
    """

    chest: Chest
    bag: str
    rule: str
    record: LibraryRecord
    kept: tuple[int, ...]
    dropped: tuple[int, ...]
    exempt: tuple[int, ...]
    files: tuple[str, ...]
    bytes: int
