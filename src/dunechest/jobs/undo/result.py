"""What was undone, as a plain value."""

from __future__ import annotations

from dataclasses import dataclass

from dunechest.jobs.undo.plan import UndoAction
from dunechest.ledger.deeds import Deed
from dunechest.values import Value


@dataclass(frozen=True, slots=True, repr=False)
class UndoResult(Value):
    """What was undone: the latest deed of the command, and each thing that was done."""

    deed: Deed
    actions: tuple[UndoAction, ...]
