"""Carry out any plan: archive, restore, drop editions, undo."""

from __future__ import annotations

from collections.abc import Sequence
from typing import overload

from dunechest.jobs import archive, editions, restore, undo
from dunechest.jobs.archive import ArchivePlan, ArchiveResult
from dunechest.jobs.editions import DropPlan, DropResult
from dunechest.jobs.restore import RestorePlan, RestoreResult
from dunechest.jobs.undo import UndoPlan, UndoResult
from dunechest.progress import Progress, silent

AnyPlan = ArchivePlan | RestorePlan | DropPlan | UndoPlan
AnyResult = ArchiveResult | RestoreResult | DropResult | UndoResult


@overload
def carry_out(plan: ArchivePlan, *, progress: Progress = ...) -> ArchiveResult: ...
@overload
def carry_out(plan: RestorePlan, *, progress: Progress = ...) -> RestoreResult: ...
@overload
def carry_out(plan: DropPlan, *, progress: Progress = ...) -> DropResult: ...
@overload
def carry_out(plan: UndoPlan, *, progress: Progress = ...) -> UndoResult: ...
@overload
def carry_out(plan: Sequence[ArchivePlan], *, progress: Progress = ...) -> tuple[ArchiveResult, ...]: ...
@overload
def carry_out(plan: Sequence[RestorePlan], *, progress: Progress = ...) -> tuple[RestoreResult, ...]: ...


def carry_out(plan: AnyPlan | Sequence[AnyPlan], *, progress: Progress = silent) -> AnyResult | tuple[AnyResult, ...]:
    """Do what a plan says, and nothing else.

    Parameters
    ----------
    plan : ArchivePlan, RestorePlan, DropPlan, UndoPlan, or a sequence of them
        From `plan_archive`, `plan_restore`, `plan_drop` or `plan_undo`. Of a sequence, an error ends it; what was done before
        that stays done.
    progress : Progress
        Told how far it is, where that takes long.

    Returns
    -------
    ArchiveResult, RestoreResult, DropResult or UndoResult
        The summary; of a sequence, one for each plan, in its order.

    Raises
    ------
    RefusedError
        If a blocking finding remains, or something changed since the plan was made. Nothing was changed.
    CutOffError
        If a drive is full, gone or failing.
    TypeError
        If it is not a plan.
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
        case list() | tuple():
            return tuple(carry_out(one, progress=progress) for one in plan)
        case _:
            raise TypeError(f"a plan is needed, or a sequence of plans; this is of the type {type(plan).__name__}")
