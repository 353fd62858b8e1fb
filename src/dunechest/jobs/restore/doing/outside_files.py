"""Restore files from outside the library: to their old places, or beside it; nothing existing is touched."""

from __future__ import annotations

import os
from pathlib import Path

from dunechest.errors import CutOffError, RefusedError
from dunechest.jobs.restore.doing.one_file import bag_of, copy_task, put_together, why_not, without_overwriting
from dunechest.jobs.restore.doing.run import Run
from dunechest.jobs.restore.outside import goes_astray, same_bytes
from dunechest.ledger.past_changes import Made, MadeFolder, Working
from dunechest.model.restore import RestoreOutsideFile, RestorePlan
from dunechest.names import shown, to_wire
from dunechest.transfer import medium, patient
from dunechest.transfer.below import make_folders
from dunechest.transfer.tasks import CopyJob, CopyOutcome
from dunechest.transfer.workers import Workers


def restore_outside_files(run: Run) -> list[RestoreOutsideFile]:
    """Restore the files from outside to the places a plan names; return those that are there.

    The library itself is in its place already.

    Raises
    ------
    CutOffError
        If the drive is full, gone or failing.
    """
    plan = run.plan
    done = []
    with Workers.for_job(len(plan.outside_files), 0, (plan.chest.folder,), lambda count: None) as workers:
        for number, outside_file in enumerate(plan.outside_files):
            try:
                if outside_file.exists or _one(run, outside_file, number, workers):
                    done.append(outside_file)
            except CutOffError as error:
                raise CutOffError(
                    f"Restoring the outside files of {shown(plan.name)} was interrupted: {error} What the restore had done "
                    "was undone; the same command starts again."
                ) from error
            except OSError as error:
                run.leave(outside_file.file.stored, f"it cannot be written: {error.strerror or error}")
    return done


def _one(run: Run, outside_file: RestoreOutsideFile, number: int, workers: Workers) -> bool:
    place, past_change = outside_file.new_path, run.past_change
    if goes_astray(place, outside_file.top or place.parent, run.place):  # the library's own links are there by now
        run.leave(outside_file.file.stored, f"{place} would be behind a link; it is not made")
        return False
    missing = []
    above = place.parent
    while not above.is_dir():
        missing.append(above)
        above = above.parent
    past_change.will(*(MadeFolder(to_wire(str(folder))) for folder in reversed(missing)))
    make_folders(place.parent)
    beside = place.parent / f".dune-restore-{run.plan.chest.id[:8]}-{number}"
    patient.unlink(beside, missing_ok=True)
    past_change.will(Working(to_wire(str(beside))))
    try:
        why = _copy(run.plan, outside_file, beside, workers)
        if why is not None:
            run.leave(outside_file.file.stored, why, damage=True)
            return False
        info = beside.stat()
        past_change.will(Made(to_wire(str(place)), info.st_size, info.st_mtime_ns, "", info.st_dev, info.st_ino))
        try:
            without_overwriting(beside, place)
        except RefusedError:
            past_change.will_not(place)
            if same_bytes(outside_file.file, place):  # another library of the same command needs it too
                return True
            why = f"something appeared in {shown(str(place))} meanwhile"
            run.leave(outside_file.file.stored, why)
            return False
        medium.flush_folder(str(place.parent))
        return True
    finally:
        patient.unlink(beside, missing_ok=True)


def _copy(plan: RestorePlan, outside_file: RestoreOutsideFile, beside: Path, workers: Workers) -> str | None:
    if outside_file.file.pieces:
        return put_together(plan, outside_file.file, beside, lambda count: None)
    job = CopyJob(
        [copy_task(outside_file.file, bag_of(plan), os.fsencode(beside))], outside_file.file.blake3 is None, False
    )
    (done,) = workers.run([job])
    (outcome,) = done.copies or (CopyOutcome("cut-off", why="no answer"),)
    return why_not(outside_file.file, outcome, beside)
