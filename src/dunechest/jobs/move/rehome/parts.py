"""Move parts of a library to a drive: they become a library of their own there, and the rest goes on without them."""

from __future__ import annotations

import os
import time
from collections.abc import Iterable

from dunechest.errors import ChangedMeanwhileError, CutOffError, DuneChestError, RefusedError, refuse_blocked
from dunechest.jobs.known.homes import must_note_aside
from dunechest.jobs.move.reclaim.doing.take_out import take_out_parts
from dunechest.jobs.move.rehome.one_of_two import undo_command
from dunechest.jobs.move.rehome.scratch import archive_to, listed_in, scratch_chest
from dunechest.jobs.restore import (
    RestoreOptions,
    RestoreResult,
    carry_out,
    new_command,
    plan_restore,
    refuse_if_stopped,
)
from dunechest.ledger import past_changes
from dunechest.ledger.asides import AsideFile, write_aside
from dunechest.ledger.past_changes import OpenChange
from dunechest.library.in_use import in_use
from dunechest.machine.folders import own_home
from dunechest.model.rehome import PartMovePlan, RehomeResult
from dunechest.model.study import Choice
from dunechest.names import from_wire, shown, to_line, to_wire
from dunechest.progress import Progress, silent
from dunechest.transfer.walk import entry_of


def carry_out_parts(plan: PartMovePlan, *, progress: Progress = silent, command: str = "") -> RehomeResult:
    """Move the parts of a plan.

    Parameters
    ----------
    plan : PartMovePlan
        From `plan_rehome_parts`.
    progress : Progress
        Told how far it is.
    command : str
        Something that all changes of one command have in common: they are undone together.

    Returns
    -------
    RehomeResult
        What went is set aside, not deleted: `reclaim` frees its space.

    Raises
    ------
    RefusedError
        If a blocking finding remains, or something changed meanwhile. Nothing was changed.
    CutOffError
        If a drive is full, gone or failing. What was done by then is undone.
    """
    refuse_blocked("Refused: nothing was moved, because {} cannot be moved like this.", {plan.name: plan.blocked})
    begun = time.monotonic()
    command = command or new_command()
    past_change = past_changes.begin("rehome", plan.name, to_wire(str(plan.path)), command)
    try:
        restored, listed = _to_drive(plan, past_change, command, progress)
        _refuse_changed(plan, listed)
        _aside(plan, past_change, listed)
    except BaseException as error:
        undo_command(command)
        if isinstance(error, OSError) and not isinstance(error, DuneChestError):
            raise CutOffError(
                f"The move of {shown(plan.taken.title)} was interrupted: {error.strerror or error}. The library is as it was; "
                "the same command starts again."
            ) from error
        raise
    past_change.close()
    return _summary(plan, restored, time.monotonic() - begun)


def _summary(plan: PartMovePlan, restored: RestoreResult, seconds: float) -> RehomeResult:
    return RehomeResult(
        name=plan.name,
        application=plan.library.kind.application,
        path=plan.path,
        new_path=plan.new_path,
        old_path=plan.path,
        drive=plan.drive,
        way="",
        back=False,
        set_aside_path=plan.set_aside_path,
        file_count=len(plan.taken.files),
        size_bytes=plan.size_bytes,
        link_count=restored.link_count,
        updated_references=restored.updated_references,
        references_by_hand=restored.references_by_hand,
        settings=(),
        unmoved_files=(),
        outside_files=(),
        findings=tuple(f for f in plan.findings if f.severity != "blocks"),
        seconds=seconds,
        parts=plan.parts,
        shared_paths=plan.taken.shared,
    )


def _to_drive(
    plan: PartMovePlan, past_change: OpenChange, command: str, progress: Progress
) -> tuple[RestoreResult, dict[str, AsideFile]]:
    """Make the parts a library of their own on the drive; return what was proven of their files."""
    names = tuple(f"{part.what}:{part.name}" for part in plan.taken.parts)
    with scratch_chest(plan.new_path, past_change) as chest:
        archived = archive_to(chest, plan.contents, Choice(names, rebuildable=True, outside_files=False), progress)
        listed = {from_wire(file.path): file for file in listed_in(chest, archived.archived_as)}
        options = RestoreOptions(
            into=plan.new_path, if_exists="merge" if plan.merge else "refuse", settings=False, outside_links=True,
            day=plan.options.day,
        )  # fmt: skip
        restoring = plan_restore(chest, archived.archived_as, options, progress=progress)
        refuse_if_stopped([restoring])
        result = carry_out(restoring, command=command, progress=progress)
    lost = [item for item in result.not_restored if item.fault]
    if lost:
        raise CutOffError(f"{shown(lost[0].path)} could not be moved: {shown(lost[0].why)}. Nothing was changed.")
    return result, listed


def _refuse_changed(plan: PartMovePlan, listed: dict[str, AsideFile]) -> None:
    """See that what goes is still just what was proven, and that nobody has the library open."""
    for file in plan.taken.files:
        now, then = entry_of(str(plan.path / file.path)), listed.get(file.path)
        if now is None or then is None or (now.size, now.mtime_ns) != (then.size, then.mtime_ns):
            raise ChangedMeanwhileError(
                f"{shown(file.path)} changed meanwhile, so nothing was moved. Close whatever works with it, and run the same "
                "command again."
            )
    uses = in_use(plan.path, plan.library.kind, _paths(plan), own_home())
    if uses:
        raise RefusedError(
            f"{shown(plan.name)} was opened meanwhile, by {shown(uses[0].process)}: {shown(uses[0].how)}. Nothing was moved."
        )


def _paths(plan: PartMovePlan) -> list[str]:
    return [file.path for file in plan.contents.listing.files if not file.placeholder]


def _aside(plan: PartMovePlan, past_change: OpenChange, listed: dict[str, AsideFile]) -> None:
    """Take the parts out of the library, and write down what was set aside."""
    going = {file.path for file in plan.taken.files}
    write_aside(plan.id, [*(listed[path] for path in sorted(going)), *_folders(going)])
    along = take_out_parts(plan.library, plan.taken, going, plan.set_aside_path, past_change)
    if along:
        extra = [
            AsideFile(
                to_wire(p), os.lstat(plan.set_aside_path / p).st_size, os.lstat(plan.set_aside_path / p).st_mtime_ns
            )
            for p in along
        ]
        write_aside(plan.id, [*(listed[path] for path in sorted(going)), *_folders(going), *extra])
    # The library that these are an original of is the parts' own.
    facts = {"id": plan.id, "name": shown(plan.name), "old": to_line(str(plan.new_path)), "listing": plan.id}
    must_note_aside(plan.set_aside_path, facts)


def _folders(paths: Iterable[str]) -> list[AsideFile]:
    from dunechest.names import parents

    return [AsideFile(to_wire(folder), -1, 0) for folder in sorted({f for path in paths for f in parents(path)})]
