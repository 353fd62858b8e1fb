"""Bring gathered strays back: to their old places, or beside the library; nothing existing is touched."""

from __future__ import annotations

import os
from pathlib import Path

from dunechest.errors import CutOff, Refused
from dunechest.jobs.restore import RestorePlan
from dunechest.jobs.restore_contents import NotDone, RestoreStray
from dunechest.jobs.restore_copy import bag_of, copy_task, why_not, without_overwriting
from dunechest.names import shown
from dunechest.transfer import medium
from dunechest.transfer.copying import digest_files
from dunechest.transfer.crew import Crew
from dunechest.transfer.tasks import CopyJob, CopyOutcome, DigestTask


def restore_strays(plan: RestorePlan, not_done: list[NotDone]) -> list[tuple[RestoreStray, Path]]:
    """Restore the strays of a plan; return each with the place it has now.

    Parameters
    ----------
    plan : RestorePlan
        The library itself is in its place already.
    not_done : list of NotDone
        Takes those that could not be restored.

    Raises
    ------
    CutOff
        If the drive is full, gone or failing; the library itself is whole.
    """
    done = []
    with Crew.for_job(len(plan.strays), 0, (plan.chest.folder,), lambda count: None) as crew:
        for number, stray in enumerate(plan.strays):
            try:
                place = _one(plan, stray, number, crew, not_done)
            except OSError as error:
                not_done.append(NotDone(stray.file.stored, f"it cannot be written: {error.strerror or error}", True))
                continue
            except CutOff as error:
                raise CutOff(
                    f"The library {shown(plan.bag)} is in its place, {shown(str(plan.place))}, but the files from "
                    f"outside it were cut off. They lie in data/strays of the bag. ({error})"
                ) from error
            if place is not None:
                done.append((stray, place))
    return done


def _one(plan: RestorePlan, stray: RestoreStray, number: int, crew: Crew, not_done: list[NotDone]) -> Path | None:
    for place in stray.places:
        if os.path.lexists(place):
            if _same(stray, place):
                return place
            continue
        try:
            place.parent.mkdir(parents=True, exist_ok=True)
        except OSError:  # the old place makes no sense here
            if place != stray.places[-1]:
                continue
            raise
        beside = place.parent / f".dune-restore-{plan.chest.id[:8]}-{number}"
        beside.unlink(missing_ok=True)
        try:
            job = CopyJob(
                [copy_task(stray.file, bag_of(plan), os.fsencode(beside))], stray.file.blake3 is None, False
            )
            (done,) = crew.run([job])
            (outcome,) = done.copies or (CopyOutcome("cut-off", why="no answer"),)
            why = why_not(stray.file, outcome, beside)
            if why is not None:
                not_done.append(NotDone(stray.file.stored, why, True))
                return None
            try:
                without_overwriting(beside, place)
            except Refused:
                continue
            medium.flush_folder(place.parent)
            return place
        finally:
            beside.unlink(missing_ok=True)
    why = f"something else is in {shown(str(stray.places[-1]))}"
    not_done.append(NotDone(stray.file.stored, why, False))
    return None


def _same(stray: RestoreStray, place: Path) -> bool:
    """Whether the very same file is there already."""
    try:
        if place.is_symlink() or place.stat().st_size != stray.file.size or stray.file.blake3 is None:
            return False
    except OSError:
        return False
    (outcome,) = digest_files([DigestTask(os.fsencode(place), stray.file.size)], lambda count: None)
    return outcome.state == "ok" and outcome.digests == (stray.file.blake3,)
