"""Where files from outside the library go: to their old places if these make sense here, else beside the library."""

from __future__ import annotations

import os
import posixpath
from collections.abc import Mapping, Sequence
from itertools import chain
from pathlib import Path

import msgspec

from dunechest.chest.layout import OUTSIDE_FILES
from dunechest.chest.records import LibraryRecord
from dunechest.jobs.restore.outside import goes_astray, same_bytes
from dunechest.machine.folders import standard_folders
from dunechest.machine.sensitive import why_sensitive
from dunechest.model.restore import ByHand, ReferencePlan, RestoreFile, RestoreOptions, RestoreOutsideFile
from dunechest.names import from_wire, parents, why_unsafe

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
    archived_here = own_places
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
            and archived_here
            and not options.apart
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
                found.append(RestoreOutsideFile(file, origin, item, exists=True, top=top))
            else:
                continue
            taken.add(item)
            break
    return tuple(found)


def links_moved(record: LibraryRecord, files: Sequence[RestoreOutsideFile]) -> dict[str, str]:
    """Return the links of a library whose folder is restored in another place, with what they lead to from then on.

    A library may use files outside through a link to their folder. Where all that it uses of that folder are restored to one
    folder, as they lay in it, the link leads there; otherwise it would lead to what may be gone, or to live originals.
    """
    library = from_wire(record.origin.path)
    found: dict[str, str] = {}
    for link in record.links if files and record.origin.system != "windows" else ():
        path = from_wire(link.path)
        target = os.path.normpath(os.path.join(library, os.path.dirname(path), from_wire(link.target)))
        below = target.rstrip("/") + "/"
        if target == library or target.startswith(library.rstrip("/") + "/"):
            continue
        inside = {item.path[len(below) :]: item.new_path for item in files if item.path.startswith(below)}
        tops = {
            str(place)[: -len(rest)].rstrip("/") for rest, place in inside.items() if str(place).endswith("/" + rest)
        }
        if len(tops) == 1 and all(str(place).endswith("/" + rest) for rest, place in inside.items()):
            (top,) = tops
            if top != target:
                found[path] = top
    return found


def without_linked(references: ReferencePlan, moved: Mapping[str, str]) -> ReferencePlan:
    """Return what becomes of references, without those among the lost that go through a link to what is restored elsewhere."""
    if not moved or not references.lost:
        return references

    def goes_through(lost: ByHand) -> bool:
        text = lost.text.replace("\\", "/")
        ways = (posixpath.normpath(posixpath.join(base, text)) for base in ("", posixpath.dirname(lost.file)))
        return any(above in moved for way in ways for above in parents(way))

    lost = tuple(item for item in references.lost if not goes_through(item))
    return msgspec.structs.replace(references, lost=lost)


def _may_be(place: Path) -> bool:
    """Whether a file can be made there: nothing above it is a file, and somebody may write there."""
    above = place.parent
    while not os.path.lexists(above):
        above = above.parent
    return above.is_dir() and os.access(above, os.W_OK)
