"""Select what of a library is to be archived: by part, by role, with its outside files, and what is left out and why."""

from __future__ import annotations

import os
from collections.abc import Iterable

from dunechest.errors import UsageError
from dunechest.library.formats.sqlite import COMPANIONS
from dunechest.library.parts import Part, parts_named
from dunechest.library.references.reading import Reference
from dunechest.library.references.resolve import not_taken
from dunechest.model.study import EVERYTHING, Choice, Contents, LeftOutFile, OutsideFile, Selection
from dunechest.names import parents, shown
from dunechest.transfer.walk import FileEntry, Walk, entry_of

#: Rebuildable files are small beside the rest up to this share of it.
_SMALL = 0.5

PLACEHOLDER = "only a placeholder: its content is not on this computer"


def select(contents: Contents, choice: Choice = EVERYTHING) -> Selection:
    """Select what a choice asks for.

    Raises
    ------
    UsageError
        If it names a part that the library does not have.
    """
    parts = _parts(contents, choice)
    listing = _of_parts(contents.listing, parts) if choice.parts else contents.listing
    taken_rebuildable = _take_rebuildable(contents, listing, choice)
    left: list[LeftOutFile] = [
        *(LeftOutFile(o.path, o.size, o.why, False) for o in listing.others),
        *(LeftOutFile(o.path, o.size, o.why, True) for o in listing.unreadable),
    ]
    files = []
    for entry in listing.files:
        role = contents.roles.get(entry.path, "essential")
        if entry.path in contents.lock_marks:
            left.append(_left(entry, "a lock mark: it says who has the library open", False))
        elif role == "must-not-leave":
            left.append(_left(entry, "bought or licensed: it must not leave this computer", False))
        elif role == "rebuildable" and not taken_rebuildable:
            left.append(_left(entry, "the application can rebuild it", False))
        elif entry.placeholder and not choice.placeholders:
            left.append(_left(entry, PLACEHOLDER, role == "essential"))
        else:
            files.append(entry)
    outside_files, not_taken_outside = _outside_files(contents, choice, parts)
    left += [
        _left(outside_file.entry, PLACEHOLDER, True)
        for outside_file in not_taken_outside
        if choice.outside_files and outside_file.why_not == PLACEHOLDER
    ]
    return Selection(
        listing,
        tuple(files),
        outside_files,
        not_taken_outside,
        tuple(left),
        parts if choice.parts else (),
        taken_rebuildable,
    )


def _left(entry: FileEntry, why: str, fault: bool) -> LeftOutFile:
    return LeftOutFile(entry.path, entry.size, why, fault, entry.mtime_ns)


def _parts(contents: Contents, choice: Choice) -> tuple[Part, ...]:
    if not choice.parts:
        return ()
    try:
        return tuple(dict.fromkeys(parts_named(contents.parts, choice.parts).values()))
    except KeyError as error:
        name = shown(str(error.args[0]))
        known = "; ".join(f"{shown(p.what)} {shown(p.title)!r}" for p in contents.parts[:12])
        more = ", ..." if len(contents.parts) > 12 else ""
        if not known:
            raise UsageError(
                f"{shown(contents.library.name)} has no parts that can be archived separately."
            ) from None
        raise UsageError(
            f"{shown(contents.library.name)} has no part {name!r}, or several. Its parts: {known}{more}. "
            "`dunechest look` lists them."
        ) from None


def _of_parts(listing: Walk, parts: tuple[Part, ...]) -> Walk:
    """Narrow a listing to the files of parts, the folders these lie in, and what else lies in a part's own folder."""
    wanted = {path for part in parts for path in (*part.files, *part.needed_paths)}
    wanted |= {path + ending for path in wanted for ending in COMPANIONS}
    own = tuple(part.folder + "/" for part in parts if part.folder)
    files = tuple(file for file in listing.files if file.path in wanted)
    above = {""}
    for file in files:
        above.update(parents(file.path))
    folders = tuple(f for f in listing.folders if f.path in above or (own and (f.path + "/").startswith(own)))
    if not own:
        return Walk(files, folders, (), (), ())
    return Walk(
        files,
        folders,
        tuple(link for link in listing.links if link.path.startswith(own)),
        tuple(other for other in listing.others if other.path.startswith(own)),
        tuple(other for other in listing.unreadable if other.path.startswith(own)),
    )


def _take_rebuildable(contents: Contents, listing: Walk, choice: Choice) -> bool:
    if choice.rebuildable is not None:
        return choice.rebuildable
    if not contents.roles:
        return True
    sums = {"essential": 0, "rebuildable": 0, "must-not-leave": 0}
    for file in listing.files:
        sums[contents.roles.get(file.path, "essential")] += file.size
    return sums["rebuildable"] <= sums["essential"] * _SMALL


def _outside_files(
    contents: Contents, choice: Choice, parts: tuple[Part, ...]
) -> tuple[tuple[OutsideFile, ...], tuple[OutsideFile, ...]]:
    """Gather each outside file once, however many references lead to it."""
    wanted = {path for part in parts for path in part.outside_paths} if choice.parts else None
    by_target: dict[str, list[Reference]] = {}
    for reference in contents.references.references:
        if reference.state == "outside" and (wanted is None or reference.target in wanted):
            by_target.setdefault(reference.target, []).append(reference)
    taken: list[OutsideFile] = []
    not_taken_ones: list[OutsideFile] = []
    names: set[str] = set()
    for path, references in sorted(by_target.items()):
        entry = entry_of(path)
        if entry is None:
            continue
        why_not = not_taken(path)
        if not choice.outside_files:
            why_not = why_not or "left where it is, as you asked"
        elif entry.placeholder and not choice.placeholders:
            why_not = why_not or PLACEHOLDER
        stored = _stored(path, names)
        outside_file = OutsideFile(entry, stored, tuple(references), why_not)
        (not_taken_ones if why_not else taken).append(outside_file)
    return tuple(taken), tuple(not_taken_ones)


def _stored(path: str, names: set[str]) -> str:
    """Give an outside file its place below ``data/outside/``: its folder's name and its own, numbered where that is taken."""
    folder, name = os.path.split(path)
    above = os.path.basename(folder).lstrip(".") or "files"
    place, number = f"{above}/{name}", 1
    while place.casefold() in names:
        number += 1
        place = f"{above} {number}/{name}"
    names.add(place.casefold())
    return place


def total(entries: Iterable[FileEntry]) -> int:
    """Sum the bytes of files."""
    return sum(entry.size for entry in entries)
