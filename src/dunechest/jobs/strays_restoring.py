"""Bring gathered strays back: to their old places, or beside the library; nothing existing is touched."""

from __future__ import annotations

import os
from pathlib import Path

from dunechest.errors import CutOff, Refused
from dunechest.jobs.restore import RestorePlan
from dunechest.jobs.restore_contents import NotDone, RestoreStray
from dunechest.jobs.restore_copy import bag_of, copy_task, put_together, why_not, without_overwriting
from dunechest.jobs.stray_places import goes_astray, same_bytes
from dunechest.ledger.deeds import Made, MadeFolder, OpenDeed, Working
from dunechest.names import shown, to_wire
from dunechest.transfer import medium
from dunechest.transfer.below import make_folders
from dunechest.transfer.crew import Crew
from dunechest.transfer.tasks import CopyJob, CopyOutcome


def restore_strays(plan: RestorePlan, not_done: list[NotDone], deed: OpenDeed) -> list[RestoreStray]:
    """Restore the strays of a plan to the places it names; return those that are there.

    Parameters
    ----------
    plan : RestorePlan
        The library itself is in its place already.
    not_done : list of NotDone
        Takes those that could not be restored.
    deed : OpenDeed
        Where each step is written down.

    Raises
    ------
    CutOff
        If the drive is full, gone or failing.
    """
    done = []
    with Crew.for_job(len(plan.strays), 0, (plan.chest.folder,), lambda count: None) as crew:
        for number, stray in enumerate(plan.strays):
            try:
                if stray.there or _one(plan, stray, number, crew, not_done, deed):
                    done.append(stray)
            except OSError as error:
                not_done.append(NotDone(stray.file.stored, f"it cannot be written: {error.strerror or error}", True))
            except CutOff as error:
                raise CutOff(
                    f"The files from outside {shown(plan.bag)} were cut off: {error} What the restore had done is "
                    "taken back; the same command begins again."
                ) from error
    return done


def _one(
    plan: RestorePlan, stray: RestoreStray, number: int, crew: Crew, not_done: list[NotDone], deed: OpenDeed
) -> bool:
    place = stray.place
    assert plan.place is not None
    if goes_astray(place, stray.top or place.parent, plan.place):  # the library's own links are there by now
        not_done.append(NotDone(stray.file.stored, f"{place} would lie behind a link; it is not made", True))
        return False
    missing = []
    above = place.parent
    while not above.is_dir():
        missing.append(above)
        above = above.parent
    deed.will(*(MadeFolder(to_wire(str(folder))) for folder in reversed(missing)))
    make_folders(place.parent)
    beside = place.parent / f".dune-restore-{plan.chest.id[:8]}-{number}"
    beside.unlink(missing_ok=True)
    deed.will(Working(to_wire(str(beside))))
    try:
        why = _copy(plan, stray, beside, crew)
        if why is not None:
            not_done.append(NotDone(stray.file.stored, why, True))
            return False
        info = beside.stat()
        deed.will(Made(to_wire(str(place)), info.st_size, info.st_mtime_ns, "", info.st_dev, info.st_ino))
        try:
            without_overwriting(beside, place)
        except Refused:
            deed.will_not(place)
            if same_bytes(stray.file, place):  # another library of the same command needs it too
                return True
            why = f"something came to be in {shown(str(place))} meanwhile"
            not_done.append(NotDone(stray.file.stored, why, True))
            return False
        medium.flush_folder(str(place.parent))
        return True
    finally:
        beside.unlink(missing_ok=True)


def _copy(plan: RestorePlan, stray: RestoreStray, beside: Path, crew: Crew) -> str | None:
    if stray.file.pieces:
        return put_together(plan, stray.file, beside, lambda count: None)
    job = CopyJob([copy_task(stray.file, bag_of(plan), os.fsencode(beside))], stray.file.blake3 is None, False)
    (done,) = crew.run([job])
    (outcome,) = done.copies or (CopyOutcome("cut-off", why="no answer"),)
    return why_not(stray.file, outcome, beside)
