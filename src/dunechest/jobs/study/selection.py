"""Select what of a library is to be archived: by part, by role, with its outside files, and what is left out and why."""

from __future__ import annotations

import os
from collections.abc import Iterable
from typing import ClassVar

import msgspec

from dunechest.errors import UsageError
from dunechest.jobs.study.choice import EVERYTHING, Choice, LeftOutFile
from dunechest.jobs.study.contents import Contents
from dunechest.library.formats.sqlite import COMPANIONS
from dunechest.library.parts import Part, parts_named
from dunechest.library.references.reading import Reference
from dunechest.library.references.resolve import not_taken
from dunechest.names import parents, shown
from dunechest.transfer.walk import FileEntry, Walk, entry_of
from dunechest.values import Value

#: Rebuildable files are small beside the rest up to this share of it.
_SMALL = 0.5

PLACEHOLDER = "only a placeholder: its content is not on this computer"


class OutsideFile(Value, msgspec.Struct, frozen=True):
    """A file outside the library that it refers to.

    `entry` has its full path; `stored` is its path below ``data/outside/``; `references`
    are all that lead to it; `why_not` says why it is not gathered, or is empty.
    """

    _shown: ClassVar[tuple[str, ...]] = ("stored", "why_not")
    _told: ClassVar[tuple[str, ...]] = ("path", "size_bytes", "reference_count", "why_not")

    entry: FileEntry
    stored: str
    references: tuple[Reference, ...]
    why_not: str = ""

    @property
    def path(self) -> str:
        """Its full path."""
        return self.entry.path

    @property
    def size_bytes(self) -> int:
        """Its size."""
        return self.entry.size

    @property
    def reference_count(self) -> int:
        """Number of references that lead to it."""
        return len(self.references)


class Selection(Value, msgspec.Struct, frozen=True):
    """What is to be archived.

    Parameters
    ----------
    listing : Walk
        What was asked for of the library, taken or left out.
    files : tuple of FileEntry
        What is taken of it.
    outside_files : tuple of OutsideFile
        What is gathered.
    outside_not_taken : tuple of OutsideFile
        Outside files that are not archived, each with the reason.
    left_out : tuple of LeftOutFile
        Files asked for that are not taken.
    parts : tuple of Part
        The parts asked for; empty for the whole library.
    rebuildable_taken : bool
        Whether rebuildable files are taken.
    """

    _shown: ClassVar[tuple[str, ...]] = ("rebuildable_taken",)

    listing: Walk
    files: tuple[FileEntry, ...]
    outside_files: tuple[OutsideFile, ...]
    outside_not_taken: tuple[OutsideFile, ...]
    left_out: tuple[LeftOutFile, ...]
    parts: tuple[Part, ...]
    rebuildable_taken: bool


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
