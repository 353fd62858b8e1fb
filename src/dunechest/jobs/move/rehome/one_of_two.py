"""Make one library of a moved one and the second one that its application made while the drive was missing."""

from __future__ import annotations

import time
import uuid

from msgspec.structs import replace

from dunechest.errors import CutOffError, DuneChestError, RefusedError, refuse_blocked
from dunechest.jobs.known.named import library_at
from dunechest.jobs.move.rehome.doing.rejoin import set_right
from dunechest.jobs.move.rehome.scratch import archive_to, listed_in, scratch_chest
from dunechest.jobs.restore import (
    RestoreOptions,
    RestoreResult,
    carry_out,
    new_command,
    plan_restore,
    refuse_if_stopped,
)
from dunechest.jobs.study.contents import study
from dunechest.jobs.undo import undo_change
from dunechest.ledger import past_changes
from dunechest.ledger.asides import write_aside
from dunechest.model.rehome import RejoinPlan, RejoinResult
from dunechest.model.study import Choice
from dunechest.names import from_wire, shown, to_wire
from dunechest.progress import Progress, silent


def carry_out_rejoin(plan: RejoinPlan, *, progress: Progress = silent) -> RejoinResult:
    """Merge the second library into the moved one, set it aside, and have the application find the moved one again.

    Parameters
    ----------
    plan : RejoinPlan
        From `plan_rejoin`.
    progress : Progress
        Told how far it is.

    Returns
    -------
    RejoinResult

    Raises
    ------
    RefusedError
        If a blocking finding remains, or the two cannot be made one. Nothing was changed.
    CutOffError
        If a drive is full, gone or failing. What was done by then is undone.
    """
    refuse_blocked("Refused: nothing was changed, because {} cannot be rejoined now.", {plan.name: plan.blocked})
    begun = time.monotonic()
    home = plan.home
    if plan.nothing:
        return _summary(plan, None, time.monotonic() - begun)
    command, move = new_command(), uuid.uuid4().hex
    past_change = past_changes.begin("rejoin", home.name, to_wire(str(home.old_path)), command, id=move)
    try:
        merged, listing = _merge(plan, past_change, command, progress)
        set_right(plan, past_change, listing, move)
    except BaseException as error:
        undo_command(command)
        if isinstance(error, OSError) and not isinstance(error, DuneChestError):
            raise CutOffError(
                f"The rejoining of {shown(home.name)} was interrupted: {error.strerror or error}. Both libraries are as they "
                "were; the same command starts again."
            ) from error
        raise
    past_change.close()
    return _summary(plan, merged, time.monotonic() - begun)


def _summary(plan: RejoinPlan, merged: RestoreResult | None, seconds: float) -> RejoinResult:
    home = plan.home
    return RejoinResult(
        name=home.name,
        path=home.path,
        old_path=home.old_path,
        drive=home.drive,
        way=home.way,
        second_path=plan.second_path,
        set_aside_path=plan.set_aside_path,
        added_count=merged.file_count
        - merged.existing_count
        - len(merged.renamed_conflicts)
        - len(merged.merged_files)
        if merged is not None
        else 0,
        same_count=merged.existing_count if merged is not None else 0,
        merged_paths=tuple(item.path for item in merged.merged_files) if merged is not None else (),
        renamed_files=merged.renamed_conflicts if merged is not None else (),
        kept_paths=merged.kept_paths if merged is not None else (),
        settings=plan.settings,
        findings=(*plan.findings, *(merged.findings if merged is not None else ())),
        seconds=seconds,
    )


def _merge(
    plan: RejoinPlan, past_change: past_changes.OpenChange, command: str, progress: Progress
) -> tuple[RestoreResult | None, str]:
    """Bring what the second library holds into the moved one; return what that did, and the name of its list."""
    home, listing = plan.home, uuid.uuid4().hex
    if home.second is None or not home.second.file_count:
        if home.second is not None:
            write_aside(listing, ())
        return None, listing
    second = replace(library_at(home.second.path, kind=_kind(plan)), name=home.name)
    with scratch_chest(home.path, past_change) as chest:
        archived = archive_to(chest, study(second), Choice(rebuildable=True, outside_files=False), progress)
        listed = listed_in(chest, archived.archived_as)
        options = RestoreOptions(
            into=home.path, if_exists="merge", on_conflict=plan.options.on_conflict, settings=False,
            day=plan.options.day, outside_links=True,
        )  # fmt: skip
        restoring = plan_restore(chest, archived.archived_as, options, progress=progress)
        try:
            refuse_if_stopped([restoring])
            result = carry_out(restoring, command=command, progress=progress)
        except RefusedError as error:
            raise RefusedError(
                f"Refused: the two libraries cannot be made one: {_reason(error)} With --on-conflict keep-mine the one on the "
                "drive stays as it is where both have the same file, and the second one is kept aside."
            ) from error
    # What stayed as it is on the drive, or differs in what was made one, is in the second library alone.
    alone = {*result.kept_paths, *(item.path for item in result.merged_files if item.differing)}
    write_aside(listing, [file for file in listed if from_wire(file.path) not in alone])
    lost = [item for item in result.not_restored if item.fault]
    if lost:
        raise CutOffError(
            f"{shown(lost[0].path)} could not be brought over: {shown(lost[0].why)}. Nothing was changed."
        )
    return result, listing


def _reason(error: RefusedError) -> str:
    return error.findings[0].message if error.findings else error.message


def _kind(plan: RejoinPlan) -> str | None:
    """Return the kind that the second library has: a new, empty one may not show its signs yet."""
    return plan.home.kind if plan.home.kind != "folder" else None


def undo_command(command: str) -> None:
    """Undo all that was done under a command, the latest first."""
    for known in [
        item for item in past_changes.past_changes() if item.head.command == command and item.how != "undone"
    ]:
        try:
            undo_change(known)
        except (OSError, DuneChestError):
            return  # a drive that is gone: the next command that moves, restores or undoes finishes this
