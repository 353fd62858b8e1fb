"""What was undone, as a plain value."""

from __future__ import annotations

from typing import ClassVar

import msgspec

from dunechest.jobs.undo.plan import UndoAction
from dunechest.ledger.deeds import Deed
from dunechest.values import Value


class UndoResult(Value, msgspec.Struct, frozen=True):
    """What was undone: the changes of the command, the latest first, and each action."""

    _rows: ClassVar[str] = "actions"

    libraries: tuple[Deed, ...]
    actions: tuple[UndoAction, ...]
    only_references: bool = False
    done: bool = True
    changed_since: tuple[str, ...] = ()

    @property
    def deed(self) -> Deed:
        """The latest of the changes."""
        return self.libraries[0]
