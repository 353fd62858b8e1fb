"""Look at one library, and at the drive it is to go to, before anything is copied."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

from dunechest.chest.chest import Chest
from dunechest.findings import most_serious_first
from dunechest.jobs.archive.planning.plan_archive import plan_archive
from dunechest.jobs.known.named import AnyLibrary, get_chest, get_library
from dunechest.jobs.study.contents import study
from dunechest.jobs.study.drive_findings import slow_finding
from dunechest.jobs.study.library_findings import library_findings
from dunechest.jobs.study.selection import select
from dunechest.library.roles import Role, totals
from dunechest.machine.probe import write_speed
from dunechest.model.archive import ArchiveOptions
from dunechest.model.look import BigThing, DriveFit, Readiness
from dunechest.model.study import EVERYTHING, Choice
from dunechest.names import AnyPath
from dunechest.transfer.walk import Walk

if TYPE_CHECKING:
    pass

_BIGGEST = 8


def look(library: AnyLibrary, *, chest: Chest | AnyPath | None = None, choice: Choice = EVERYTHING) -> Readiness:
    """Inspect a library, and a drive if a chest is named. Changes nothing.

    No placeholder is opened. What the drive can hold is tried with a few empty files
    and a few megabytes in a folder of their own in the chest, removed at once.

    Parameters
    ----------
    library : Library, path or name
        What to look at.
    chest : Chest, path or label, optional
        The chest it is to go to.
    choice : Choice
        What of it is to be archived.

    Returns
    -------
    Readiness

    Raises
    ------
    CutOffError
        If its folder cannot be listed.
    UsageError
        If a part does not exist.
    """
    target = get_chest(chest) if chest is not None else None
    contents = study(get_library(library))
    fit = None
    if target is None:
        selection = select(contents, choice)
        findings = library_findings(contents, selection)
    else:
        (plan,) = plan_archive([contents], target, ArchiveOptions(choice=choice))
        selection = plan.selection
        findings = list(plan.findings)
        speed = 0.0
        if plan.drive.probed is not None and plan.room.free > 1 << 26:
            try:
                speed = write_speed(target.folder)
                findings += slow_finding(speed, plan.room.need)
            except OSError:
                pass  # the drive changed under our hands; the archive itself will say so
        fit = DriveFit(target, plan.drive, plan.archived_as, plan.state, plan.room.need, plan.room.free, speed)
    return Readiness(
        contents=contents,
        selection=selection,
        roles=totals(contents.roles, contents.listing.files),
        largest_items=_biggest(contents.roles, contents.listing),
        findings=most_serious_first(findings),
        drive=fit,
    )


def _biggest(roles: Mapping[str, Role], listing: Walk) -> tuple[BigThing, ...]:
    """Return the biggest things directly in the library: its files, and its folders with all in them."""
    sums: dict[tuple[str, str], list[int]] = {}
    for file in listing.files:
        head, inside, _ = file.path.partition("/")
        entry = sums.setdefault((head + inside, roles.get(file.path, "essential")), [0, 0])
        entry[0] += 1
        entry[1] += file.size
    things = [BigThing(path, role, count, size) for (path, role), (count, size) in sums.items()]
    things.sort(key=lambda t: (-t.size_bytes, t.path))
    return tuple(things[:_BIGGEST])
