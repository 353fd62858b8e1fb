"""A chest to work with, in a folder of its own: what goes from one library into another is proven on its way."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from dunechest.chest.chest import Chest
from dunechest.errors import RefusedError, refuse_blocked
from dunechest.findings import blocking
from dunechest.jobs.archive.doing.archiving import carry_out
from dunechest.jobs.archive.planning.plan_archive import plan_archive
from dunechest.jobs.restore.doing.staging import remove
from dunechest.ledger import events
from dunechest.ledger.asides import AsideFile
from dunechest.ledger.past_changes import WORKING, OpenChange, Working
from dunechest.model.archive import ArchiveOptions, ArchiveResult
from dunechest.model.study import Choice, Contents
from dunechest.names import from_wire, shown, to_wire
from dunechest.progress import Progress
from dunechest.transfer.below import make_folders


@contextmanager
def scratch_chest(beside: Path, past_change: OpenChange) -> Iterator[Chest]:
    """Make a chest in a folder beside a place, and remove it when the block is done.

    Raises
    ------
    RefusedError
        If something else has the folder's name.
    CutOffError
        If it cannot be made.
    """
    folder = beside.parent / f"{WORKING[0]}{past_change.number:06d}-{beside.name[:80]}"
    if os.path.lexists(folder):
        raise RefusedError(f"{shown(str(folder))} is in the way. Inspect it and move it away. Nothing was changed.")
    past_change.will(Working(to_wire(str(folder))))
    make_folders(folder, 0o700)
    with events.unnoted():  # nobody is to look for it
        chest = Chest.create(folder, "moving")
        try:
            yield chest
        finally:
            remove(folder)


def archive_to(chest: Chest, contents: Contents, choice: Choice, progress: Progress) -> ArchiveResult:
    """Archive a library, or parts of it, to a chest to work with; all that is asked for, or nothing.

    Raises
    ------
    RefusedError
        If something blocks it, or a file could not be archived.
    """
    # An application that has just made a library may have made half of one, and what chests have of another state is not
    # asked: this is no edition of it, and nothing is deleted.
    ignored = ("half-library", "mass-change", "newer-state", "not-in-chest")
    options = ArchiveOptions(choice=choice, ignore=ignored)
    (plan,) = plan_archive([contents], chest, options)
    blocked = {contents.library.name: blocking(plan.findings, options.ignore)}
    refuse_blocked("Refused: nothing was changed, because {} cannot be copied now.", blocked)
    result = carry_out(plan, progress=progress)
    if not result.ok:
        lost = next((item for item in result.left_out if item.fault), None)
        why = f": {shown(lost.path)} ({shown(lost.why)})" if lost is not None else ""
        raise RefusedError(
            f"Not every file of {shown(contents.library.name)} could be copied{why}. Nothing was changed."
        )
    return result


def listed_in(chest: Chest, bag: str) -> list[AsideFile]:
    """Return the files of a library in a chest as they were in the library, each with its proven digest.

    A database that was copied through SQLite has other bytes there; it is listed by the size and time that it had.
    """
    from dunechest.chest.editions import current_files
    from dunechest.chest.layout import LIBRARY_FILES

    entry = chest.bag(bag)
    record = entry.library
    assert record is not None
    names = {item.stored: from_wire(item.path) for item in record.changed_names}
    captured = {from_wire(item.path): item for item in record.databases}
    found = []
    for path, proven in current_files(entry.records).items():
        if not path.startswith(LIBRARY_FILES):
            continue
        below = path.removeprefix(LIBRARY_FILES)
        own = names.get(below, below)
        if own not in captured:
            found.append(AsideFile(to_wire(own), proven.record.size, proven.record.mtime_ns, proven.record.blake3))
    for own, database in captured.items():
        found.append(AsideFile(to_wire(own), database.size, database.mtime_ns))
        found += [AsideFile(item.path, item.size, item.mtime_ns) for item in database.companions]
    found += [AsideFile(folder.path, -1, 0) for folder in record.folders]
    found += [AsideFile(link.path, -2, 0) for link in record.links]
    return found
