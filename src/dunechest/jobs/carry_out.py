"""Carry out any plan: archive, copy, mend, restore, drop editions, move to a drive, free space, undo."""

from __future__ import annotations

from collections.abc import Sequence
from typing import overload

from dunechest.jobs import copy, editions, restore, undo
from dunechest.jobs.archive.doing import archiving as archive
from dunechest.jobs.check import mend
from dunechest.jobs.check.mend import MendPlan, MendResult
from dunechest.jobs.copy import CopyPlan, CopyResult
from dunechest.jobs.editions import DropPlan, DropResult
from dunechest.jobs.move import reclaim, rehome
from dunechest.jobs.move.reclaim import ReclaimPlan, ReclaimResult
from dunechest.jobs.move.rehome import PartMovePlan, RehomePlan, RehomeResult, RejoinPlan, RejoinResult
from dunechest.jobs.restore import RestorePlan, RestoreResult
from dunechest.jobs.undo import UndoPlan, UndoResult
from dunechest.model.archive import ArchivePlan, ArchiveResult
from dunechest.progress import Progress, silent

AnyPlan = (
    ArchivePlan
    | CopyPlan
    | MendPlan
    | RestorePlan
    | DropPlan
    | RehomePlan
    | PartMovePlan
    | RejoinPlan
    | ReclaimPlan
    | UndoPlan
)
AnyResult = (
    ArchiveResult
    | CopyResult
    | MendResult
    | RestoreResult
    | DropResult
    | RehomeResult
    | RejoinResult
    | ReclaimResult
    | UndoResult
)


@overload
def carry_out(plan: ArchivePlan, *, progress: Progress = ...) -> ArchiveResult: ...
@overload
def carry_out(plan: RestorePlan, *, progress: Progress = ...) -> RestoreResult: ...
@overload
def carry_out(plan: CopyPlan, *, progress: Progress = ...) -> CopyResult: ...
@overload
def carry_out(plan: MendPlan, *, progress: Progress = ...) -> MendResult: ...
@overload
def carry_out(plan: DropPlan, *, progress: Progress = ...) -> DropResult: ...
@overload
def carry_out(plan: RehomePlan | PartMovePlan, *, progress: Progress = ...) -> RehomeResult: ...
@overload
def carry_out(plan: RejoinPlan, *, progress: Progress = ...) -> RejoinResult: ...
@overload
def carry_out(plan: ReclaimPlan, *, progress: Progress = ...) -> ReclaimResult: ...
@overload
def carry_out(plan: UndoPlan, *, progress: Progress = ...) -> UndoResult: ...
@overload
def carry_out(plan: Sequence[ArchivePlan], *, progress: Progress = ...) -> tuple[ArchiveResult, ...]: ...
@overload
def carry_out(plan: Sequence[CopyPlan], *, progress: Progress = ...) -> tuple[CopyResult, ...]: ...
@overload
def carry_out(plan: Sequence[MendPlan], *, progress: Progress = ...) -> tuple[MendResult, ...]: ...
@overload
def carry_out(plan: Sequence[RestorePlan], *, progress: Progress = ...) -> tuple[RestoreResult, ...]: ...
@overload
def carry_out(plan: Sequence[ReclaimPlan], *, progress: Progress = ...) -> tuple[ReclaimResult, ...]: ...


def carry_out(plan: AnyPlan | Sequence[AnyPlan], *, progress: Progress = silent) -> AnyResult | tuple[AnyResult, ...]:
    """Do what a plan says, and nothing else.

    Parameters
    ----------
    plan : a plan, or a sequence of them
        From `plan_archive`, `plan_copy`, `plan_mend`, `plan_restore`, `plan_drop`, `plan_rehome` and those like it,
        `plan_reclaim` or `plan_undo`. Of a sequence, an error ends it; what was done before that stays done.
    progress : Progress
        Told how far it is, where that takes long.

    Returns
    -------
    ArchiveResult, CopyResult, MendResult, RestoreResult, DropResult, RehomeResult, RejoinResult, ReclaimResult or UndoResult
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
        case CopyPlan():
            return copy.carry_out(plan, progress=progress)
        case MendPlan():
            return mend.carry_out(plan, progress=progress)
        case RestorePlan():
            return restore.carry_out(plan, progress=progress)
        case DropPlan():
            return editions.carry_out(plan)
        case RehomePlan():
            return rehome.carry_out(plan, progress=progress)
        case PartMovePlan():
            return rehome.carry_out_parts(plan, progress=progress)
        case RejoinPlan():
            return rehome.carry_out_rejoin(plan, progress=progress)
        case ReclaimPlan():
            return reclaim.prove_and_carry_out(plan, progress=progress)
        case UndoPlan():
            return undo.carry_out(plan)
        case list() | tuple():
            return tuple(carry_out(single, progress=progress) for single in plan)
        case _:
            raise TypeError(f"expected a plan or a sequence of plans, not a {type(plan).__name__}")
