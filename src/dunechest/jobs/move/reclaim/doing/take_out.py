"""Take what goes out of a library's folder: catalogues are edited first, then files and folders get another place."""

from __future__ import annotations

import os
import stat
from collections.abc import Collection, Iterable
from pathlib import Path

from dunechest.errors import RefusedError
from dunechest.jobs.restore.doing.folders import make_above
from dunechest.jobs.restore.doing.into_place import replace_file
from dunechest.jobs.restore.doing.staging import remove
from dunechest.jobs.study.take_out import edited_copies
from dunechest.ledger.past_changes import WORKING, Aside, MadeFolder, OpenChange, Working
from dunechest.library.capture import NotCapturedError
from dunechest.library.formats.sqlite import COMPANIONS
from dunechest.library.join.files import NotMergedError
from dunechest.library.library import Library
from dunechest.model.study import TakeOut
from dunechest.names import parents, shown, to_wire
from dunechest.transfer import disk
from dunechest.transfer.below import make_folders

#: So many steps are written down at once.
_BATCH = 500


def take_out_parts(
    library: Library, taken: TakeOut, going: Collection[str], aside: Path, past_change: OpenChange
) -> list[str]:
    """Take parts out of a library: what is theirs alone gets its place below another folder.

    At every moment the application finds nothing missing: the catalogues name it no more when it goes.

    Parameters
    ----------
    library : Library
        The library.
    taken : TakeOut
        What goes with the parts.
    going : collection of str
        The files of that that really go.
    aside : Path
        The folder that they go to.
    past_change : OpenChange
        Where each step is written down before it is taken.

    Returns
    -------
    list of str
        Paths of what SQLite kept beside catalogues and went along.

    Raises
    ------
    RefusedError
        If a catalogue can no longer be edited, or something has the folder's name.
    """
    place = library.path
    if os.path.lexists(aside):
        raise RefusedError(f"{shown(str(aside))} appeared meanwhile. Nothing was changed.")
    make_above(aside, past_change)
    along = _edit(library, taken, aside, past_change)
    units: list[str] = []
    for unit in taken.units:
        inside = [file.path for file in taken.files if file.path.startswith(unit + "/")]
        if unit in going or (inside and all(path in going for path in inside)):
            units.append(unit)
        else:
            units += [path for path in inside if path in going]
    move(units, place, aside, past_change)
    return along


def _edit(library: Library, taken: TakeOut, aside: Path, past_change: OpenChange) -> list[str]:
    place = library.path
    staging = place.parent / f"{WORKING[0]}{past_change.number:06d}-{place.name[:80]}"
    past_change.will(Working(to_wire(str(staging))))
    make_folders(staging, 0o700)
    along: list[str] = []
    try:
        for path in edited_copies(library, taken, staging):
            info = (place / path).stat()
            os.chmod(staging / path, stat.S_IMODE(info.st_mode))
            there = [path + ending for ending in COMPANIONS if os.path.lexists(place / (path + ending))]
            move(there, place, aside, past_change)
            along += there
            replace_file(staging / path, place / path, "joined", past_change)
    except (NotMergedError, NotCapturedError) as error:
        raise RefusedError(
            f"A catalogue of {shown(library.name)} can no longer be edited: {shown(str(error))}."
        ) from error
    finally:
        remove(staging)
    return along


def move(paths: Iterable[str], source: Path, target: Path, past_change: OpenChange) -> None:
    """Rename files and folders below one folder to the same paths below another, with the folders that they need.

    Raises
    ------
    RefusedError
        If something has one of the names by now.
    OSError
        If the system refuses.
    """
    every = list(paths)
    for start in range(0, len(every), _BATCH):
        batch = every[start : start + _BATCH]
        above = sorted({folder for path in batch for folder in parents(path)}, key=lambda folder: folder.count("/"))
        missing = [folder for folder in ("", *above) if not os.path.lexists(target / folder)]
        steps = [MadeFolder(to_wire(str(target / folder))) for folder in missing]
        asides = [Aside(to_wire(str(source / path)), to_wire(str(target / path))) for path in batch]
        past_change.will(*steps, *asides)
        for folder in missing:
            disk.make_folder(target / folder)
            os.chmod(target / folder, stat.S_IMODE(os.lstat(source / folder).st_mode) | 0o700)
        for path in batch:
            if os.path.lexists(target / path):
                raise RefusedError(f"{shown(str(target / path))} appeared meanwhile. Nothing was changed.")
            disk.rename(source / path, target / path)
        for folder in {os.path.dirname(path) for path in batch}:
            disk.flush_folder(target / folder)
            disk.flush_folder(source / folder)
