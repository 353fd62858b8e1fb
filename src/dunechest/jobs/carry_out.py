"""Carry out any plan: archive, restore, drop editions, undo."""

from __future__ import annotations

from typing import overload

from dunechest.jobs import archive, editions, restore, undo
from dunechest.jobs.archive import ArchivePlan, ArchiveResult
from dunechest.jobs.editions import DropPlan, DropResult
from dunechest.jobs.restore import RestorePlan, RestoreResult
from dunechest.jobs.undo import UndoPlan, UndoResult
from dunechest.progress import Progress, silent


@overload
def carry_out(plan: ArchivePlan, *, progress: Progress = ...) -> ArchiveResult: ...
@overload
def carry_out(plan: RestorePlan, *, progress: Progress = ...) -> RestoreResult: ...
@overload
def carry_out(plan: DropPlan, *, progress: Progress = ...) -> DropResult: ...
@overload
def carry_out(plan: UndoPlan, *, progress: Progress = ...) -> UndoResult: ...


def carry_out(
    plan: ArchivePlan | RestorePlan | DropPlan | UndoPlan, *, progress: Progress = silent
) -> ArchiveResult | RestoreResult | DropResult | UndoResult:
    """Do what a plan says, and nothing else.

    Parameters
    ----------
    plan : ArchivePlan, RestorePlan, DropPlan or UndoPlan
        From `plan_archive`, `plan_restore`, `plan_drop` or `plan_undo`.
    progress : Progress
        Told how far it is, where that takes long.

    Returns
    -------
    ArchiveResult, RestoreResult, DropResult or UndoResult
        The summary.

    Raises
    ------
    RefusedError
        If a *stop* finding remains, or something changed since the plan was made. Nothing was changed.
    CutOffError
        If a drive is full, gone or failing.
    """
    match plan:
        case ArchivePlan():
            return archive.carry_out(plan, progress=progress)
        case RestorePlan():
            return restore.carry_out(plan, progress=progress)
        case DropPlan():
            return editions.carry_out(plan)
        case UndoPlan():
            return undo.carry_out(plan)
