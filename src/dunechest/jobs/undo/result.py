"""What was undone, as a plain value."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from dunechest.jobs.undo.plan import UndoAction
from dunechest.ledger.deeds import Deed
from dunechest.values import Value


@dataclass(frozen=True, slots=True, repr=False)
class UndoResult(Value):
    """What was undone: the changes of the command, the latest first, and each action."""

    _document: ClassVar[str] = "undo.Undo"

    deeds: tuple[Deed, ...]
    actions: tuple[UndoAction, ...]
    only_references: bool = False
    done: bool = True
    changed: tuple[str, ...] = ()

    @property
    def deed(self) -> Deed:
        """The latest of the changes."""
        return self.deeds[0]
