"""Where files from outside the library go: to their old places if these make sense here, else beside the library."""

from __future__ import annotations

import os
from collections.abc import Sequence
from itertools import chain
from pathlib import Path

from dunechest.chest.layout import OUTSIDE_FILES
from dunechest.chest.records import LibraryRecord
from dunechest.jobs.restore.options import RestoreOptions
from dunechest.jobs.restore.outside import goes_astray, same_bytes
from dunechest.jobs.restore.plan import RestoreFile, RestoreOutsideFile
from dunechest.machine.folders import standard_folders
from dunechest.machine.sensitive import why_sensitive
from dunechest.names import from_wire, why_unsafe

#: Standard folders that hold a person's documents; an outside file from a drive goes nowhere else in a home.
_VISIBLE = ("pictures", "music", "videos", "documents", "desktop", "home")


def place_outside_files(
    record: LibraryRecord, files: Sequence[RestoreFile], place: Path, options: RestoreOptions, *, own_places: bool
) -> tuple[RestoreOutsideFile, ...]:
    """Say where each outside file goes, and whether the very same file is there already.

    A chest is foreign input: its full paths are believed only if this computer wrote
    them, and in a home only the folders that a person sees are filled.
    """
    known = {outside_file.stored: outside_file for outside_file in record.outside_files}
    base = standard_folders(options.home_folder)
    beside = place.parent / f"{place.name} outside files"
    made_here = own_places
    own_places = own_places and options.home is None and options.into is None
    found: list[RestoreOutsideFile] = []
    taken: set[Path] = set()
    for file in files:
        outside_file = known.get(file.stored)
        places: list[tuple[Path, Path]] = []
        origin = from_wire(outside_file.path) if outside_file is not None else ""
        if outside_file is not None and own_places and os.path.isabs(origin) and "\0" not in origin:
            places.append((Path(origin), Path(origin).parent))
        elif outside_file is not None and options.into is None and outside_file.standard in _VISIBLE:
            relative = from_wire(outside_file.relative)
            hidden = any(piece.startswith(".") for piece in relative.split("/"))
            sensitive = why_sensitive(relative, standard=outside_file.standard, file=True)
            if why_unsafe(relative) is None and not hidden and not sensitive:
                places.append((base[outside_file.standard] / relative, base[outside_file.standard]))
        elif (
            outside_file is not None
            and made_here
            and options.home is None
            and os.path.isabs(origin)
            and same_bytes(file, Path(origin))
        ):
            places.append((Path(origin), Path(origin).parent))  # it never went away
        last = beside / file.stored.removeprefix(OUTSIDE_FILES)
        others = (last.with_name(f"{last.stem} {count}{last.suffix}") for count in range(2, 1000))
        for item, top in chain(places, ((other, place.parent) for other in chain((last,), others))):
            if item in taken or not _may_be(item) or goes_astray(item, top, place):
                continue
            if not os.path.lexists(item):
                found.append(RestoreOutsideFile(file, origin, item, top=top))
            elif same_bytes(file, item):
                found.append(RestoreOutsideFile(file, origin, item, there=True, top=top))
            else:
                continue
            taken.add(item)
            break
    return tuple(found)


def _may_be(place: Path) -> bool:
    """Whether a file can be made there: nothing above it is a file, and somebody may write there."""
    above = place.parent
    while not os.path.lexists(above):
        above = above.parent
    return above.is_dir() and os.access(above, os.W_OK)
