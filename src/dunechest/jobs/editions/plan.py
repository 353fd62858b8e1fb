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
    kept_editions, dropped_editions : tuple of int
        Editions that stay and that go.
    exempt_editions : tuple of int
        Of those that stay, the ones that the rule would drop and that are protected: much changed after them.
    paths : tuple of str
        Paths in the bag that go.
    freed_bytes : int
        What becomes free by that.
    marked : tuple of int
        Of those that stay, the ones whose own record is to say that they are protected.
    """

    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "rule",
        "kept_editions",
        "dropped_editions",
        "exempt_editions",
        "paths",
        "freed_bytes",
    )

    chest: Chest
    name: str
    rule: str
    record: LibraryRecord
    kept_editions: tuple[int, ...]
    dropped_editions: tuple[int, ...]
    exempt_editions: tuple[int, ...]
    paths: tuple[str, ...]
    freed_bytes: int
    marked: tuple[int, ...] = ()

    def decisions(self) -> dict[str, Any]:
        """Return all that the plan decides, as JSON values: two plans with the same do the same."""
        return {
            "chest": self.chest.id,
            "library": self.name,
            "archived": self.record.archived,
            "edition": self.record.edition,
            "rule": self.rule,
            "kept": list(self.kept_editions),
            "dropped": list(self.dropped_editions),
            "exempt": list(self.exempt_editions),
            "files": list(self.paths),
            "bytes": self.freed_bytes,
            "marked": list(self.marked),
        }

    def __repr__(self) -> str:
        return (
            f"<DropPlan {self.name}: "
            f"{len(self.dropped_editions)} of {len(self.kept_editions) + len(self.dropped_editions)} editions>"
        )

    def __eq__(self, other: object) -> bool:
        return isinstance(other, DropPlan) and self.decisions() == other.decisions()

    def __hash__(self) -> int:
        return hash((self.chest.id, self.name, self.dropped_editions))
