"""What undoing plans, and did."""

from __future__ import annotations

from pathlib import Path
from typing import Any, ClassVar

import msgspec

from dunechest.ledger.past_changes import PastChange
from dunechest.values import Value


class UndoAction(Value, msgspec.Struct, frozen=True):
    """One action of undoing: the path, and what (``removed``, ``as before``, ``renamed back``)."""

    _shown: ClassVar[tuple[str, ...]] = ("path", "what")

    path: Path
    what: str


class UndoPlan(Value, msgspec.Struct, frozen=True, eq=False):
    """What undoing a command would do; `changed_since` lists changes since then, which forbid it.

    `libraries` are all changes of the command, the latest first; `past_change` is the latest.
    """

    _rows: ClassVar[str] = "actions"

    libraries: tuple[PastChange, ...]
    actions: tuple[UndoAction, ...]
    changed_since: tuple[str, ...]
    only_references: bool = False

    @property
    def past_change(self) -> PastChange:
        """The latest change of the command."""
        return self.libraries[0]

    def decisions(self) -> dict[str, Any]:
        """Return all that the plan decides, as JSON values: two plans with the same do the same."""
        return {
            "deeds": [past_change.number for past_change in self.libraries],
            "actions": [[str(action.path), action.what] for action in self.actions],
            "changed": list(self.changed_since),
            "only references": self.only_references,
        }

    def __repr__(self) -> str:
        return f"<UndoPlan {self.past_change.head.about}: {len(self.actions)} actions, {len(self.changed_since)} changed since>"

    def __eq__(self, other: object) -> bool:
        return isinstance(other, UndoPlan) and self.decisions() == other.decisions()

    def __hash__(self) -> int:
        return hash(tuple(past_change.number for past_change in self.libraries))


class UndoResult(Value, msgspec.Struct, frozen=True):
    """What was undone: the changes of the command, the latest first, and each action."""

    _rows: ClassVar[str] = "actions"

    libraries: tuple[PastChange, ...]
    actions: tuple[UndoAction, ...]
    only_references: bool = False
    done: bool = True
    changed_since: tuple[str, ...] = ()

    @property
    def past_change(self) -> PastChange:
        """The latest of the changes."""
        return self.libraries[0]
