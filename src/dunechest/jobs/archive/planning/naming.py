"""Under which names the files of a library go into a chest."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from msgspec.structs import replace

from dunechest.chest.layout import LIBRARY_FILES, OUTSIDE_FILES
from dunechest.chest.records import LibraryRecord
from dunechest.chest.stored_names import StoredNames
from dunechest.jobs.archive.planning.destination import Stored
from dunechest.library.roles import databases_among
from dunechest.machine.drives import Limits
from dunechest.model.archive import Difference, PlannedDatabase, PlannedFile
from dunechest.model.study import Contents, NotHeld, OutsideFile, Selection
from dunechest.names import from_wire, parents
from dunechest.transfer.walk import FileEntry


def stored_files(
    contents: Contents, lesser: NotHeld, selection: Selection, fitting: Sequence[FileEntry], limits: Limits
) -> Stored:
    """Give everything that is to be archived its name on the drive."""
    here = {true: path for path, true in _true_names(contents, lesser)}
    open_now = frozenset(map(lesser.true, contents.open_databases))
    databases = databases_among(contents.library.kind, fitting, open_now)
    companions = {path: main for main, paths in databases.items() for path in paths}
    names = StoredNames(limits)
    names.folders(f.path for f in selection.listing.folders)
    files: list[PlannedFile] = []
    mains: dict[str, PlannedFile] = {}
    beside: dict[str, list[PlannedFile]] = {}
    for entry in fitting:
        stored = names.file(entry.path)
        other = "" if stored == entry.path else LIBRARY_FILES + stored
        place = here.get(entry.path, "")
        role = contents.roles.get(place or entry.path, "essential")
        file = PlannedFile(entry, role, other, other_place=place)
        if entry.path in companions:
            beside.setdefault(companions[entry.path], []).append(file)
        elif entry.path in databases:
            mains[entry.path] = file
        else:
            files.append(file)
    captured = tuple(PlannedDatabase(mains[path], tuple(beside.get(path, ()))) for path in sorted(mains))
    return Stored((*files, *_outside_files_of(selection.outside_files, limits)), captured, names, lesser.step_ns)


def _true_names(contents: Contents, lesser: NotHeld) -> Iterator[tuple[str, str]]:
    """Yield path and true path of the files that have another name in a place that cannot hold theirs."""
    if lesser.names:
        for file in contents.listing.files:
            if (true := lesser.true(file.path)) != file.path:
                yield file.path, true


def as_named_before(stored: Stored, record: LibraryRecord) -> Stored | None:
    """Give outside files the names that they have in the latest edition, and others none of those; None if they have such.

    What cannot be seen now keeps its name there.
    """
    before = {from_wire(item.path): item.stored for item in record.outside_files}
    if not before:
        return None
    taken = {name.casefold() for name in before.values()}
    found: list[PlannedFile] = []
    for file in stored.files:
        if not file.outside_file or file.stored_as == before.get(file.entry.path):
            found.append(file)
            continue
        wanted = before.get(file.entry.path)
        if wanted is None and file.stored_as.casefold() not in taken:
            taken.add(file.stored_as.casefold())
            found.append(file)
            continue
        if wanted is None:
            folder, _, name = file.stored_as.rpartition("/")
            number_ = 2
            while f"{folder} {number_}/{name}".casefold() in taken:
                number_ += 1
            wanted = f"{folder} {number_}/{name}"
            taken.add(wanted.casefold())
        found.append(replace(file, other_name=wanted))
    files = tuple(found)
    return replace(stored, files=files) if files != stored.files else None


def names_carried(previous: Difference | None) -> dict[str, str]:
    """Return the changed names of what cannot be seen now."""
    if previous is None or not (previous.carried or previous.carried_folders or previous.carried_links):
        return {}
    own = {item.path for item in previous.carried if not item.outside}
    own |= {from_wire(folder.path) for folder in previous.carried_folders}
    own |= {from_wire(link.path) for link in previous.carried_links}
    above = {folder for path in own for folder in parents(path)}
    names = {from_wire(item.path): item.stored for item in previous.record.changed_names}
    return {path: name for path, name in names.items() if path in own or path in above}


def _outside_files_of(outside_files: Iterable[OutsideFile], limits: Limits) -> list[PlannedFile]:
    """Give outside files names that the drive can hold."""
    names = StoredNames(limits)
    names.folders(sorted({outside_file.stored.rpartition("/")[0] for outside_file in outside_files}))
    return [PlannedFile(s.entry, "essential", OUTSIDE_FILES + names.file(s.stored), True) for s in outside_files]
