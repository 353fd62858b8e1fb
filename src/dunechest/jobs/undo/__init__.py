"""Undo the last command that changed this computer: `plan_undo` decides, `carry_out` does, `undo` is both in one call."""

from __future__ import annotations

from dunechest.jobs.undo.doing import carry_out, undo_change
from dunechest.jobs.undo.interrupted import cut_off, recover
from dunechest.jobs.undo.planning import last_command, plan_undo
from dunechest.model.undo import UndoAction, UndoPlan, UndoResult

__all__ = [
    "UndoAction",
    "UndoPlan",
    "UndoResult",
    "carry_out",
    "cut_off",
    "last_command",
    "plan_undo",
    "recover",
    "undo_change",
    "undo",
]


def undo(*, only_references: bool = False) -> UndoResult:
    """Undo the last change on this computer, exactly or not at all; parameters as for `plan_undo`.

    Raises
    ------
    UsageError
        If there is nothing to undo.
    RefusedError
        If somebody changed something since; nothing was changed then.
    CutOffError
        If the system refuses in the middle; the same call continues.
    """
    return carry_out(plan_undo(only_references=only_references))
