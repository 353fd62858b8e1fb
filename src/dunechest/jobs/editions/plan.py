"""What dropping editions means, as a plain value."""

from __future__ import annotations

from typing import Any, ClassVar

import msgspec

from dunechest.chest.chest import Chest
from dunechest.chest.records import LibraryRecord
from dunechest.values import Value


class DropPlan(Value, msgspec.Struct, frozen=True, eq=False):
    """Which editions are dropped, and what that frees.

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
        Of those that stay, the ones that the rule would drop and that are protected: much changed after them.
    files : tuple of str
        Paths in the bag that go.
    bytes : int
        What becomes free by that.
    marked : tuple of int
        Of those that stay, the ones whose own record is to say that they are protected.
    """

    _document: ClassVar[str] = "editions.DroppedEditions"

    chest: Chest
    bag: str
    rule: str
    record: LibraryRecord
    kept: tuple[int, ...]
    dropped: tuple[int, ...]
    exempt: tuple[int, ...]
    files: tuple[str, ...]
    bytes: int
    marked: tuple[int, ...] = ()

    def decisions(self) -> dict[str, Any]:
        """Return all that the plan decides, as JSON values: two plans with the same do the same."""
        return {
            "chest": self.chest.id,
            "library": self.bag,
            "archived": self.record.archived,
            "edition": self.record.edition,
            "rule": self.rule,
            "kept": list(self.kept),
            "dropped": list(self.dropped),
            "exempt": list(self.exempt),
            "files": list(self.files),
            "bytes": self.bytes,
            "marked": list(self.marked),
        }

    def __repr__(self) -> str:
        return f"<DropPlan {self.bag}: {len(self.dropped)} of {len(self.kept) + len(self.dropped)} editions>"

    def __eq__(self, other: object) -> bool:
        return isinstance(other, DropPlan) and self.decisions() == other.decisions()

    def __hash__(self) -> int:
        return hash((self.chest.id, self.bag, self.dropped))
