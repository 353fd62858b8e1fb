"""Notice when a large share of a library vanished or changed at once.

What the library is held against is the newest state that is known of it, in whatever chest: one that a mistake or a
malicious encryption went through is not let into the next chest because that has no edition yet.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence

import msgspec

from dunechest.chest.layout import LIBRARY_FILES, OUTSIDE_FILES
from dunechest.findings import Finding
from dunechest.jobs.archive.planning.lineage import place_of
from dunechest.jobs.archive.planning.newest import Newest
from dunechest.jobs.archive.planning.surprise import are_as_before, surprises, told
from dunechest.library.library import Library
from dunechest.model.archive import CarriedFile, Difference, PlannedDatabase, PlannedFile
from dunechest.model.study import Selection
from dunechest.names import from_wire
from dunechest.transfer.system_files import is_of_system


class Change(msgspec.Struct, frozen=True):
    """What changed since a state: how many files that had, how many vanished, and which have another size or time.

    `same_size` are those that only have another time, each with the beginning of the digest that it had.
    """

    total: int
    vanished: int
    other_size: int
    same_size: tuple[tuple[PlannedFile, str], ...]


def since_edition(found: Difference, library: Library, selection: Selection) -> Change:
    """Return what changed since the latest edition of the bag that the library goes into.

    What was only left out by choice, or has gone to another name, does not count; nor does what cannot be seen now.
    """
    before = found.files
    gone = set(found.dropped)
    # Only of what is no longer taken it matters whether it is still there.
    listed = (*selection.listing.files, *selection.listing.system)
    present = {path for file in listed if gone and (path := f"{LIBRARY_FILES}{file.path}") in gone}
    present |= {path for path in gone if is_of_system(library.path, path.removeprefix(LIBRARY_FILES))}
    present |= _outside_there(found, gone)
    arrived = {(file.entry.size, file.entry.mtime_ns) for file in found.to_read if file.stored_as not in before}
    vanished = sum(
        path not in present and (before[path].record.size, before[path].record.mtime_ns) not in arrived
        for path in found.dropped
    )
    changed = [file for file in found.to_read if file.stored_as in before]
    same = [file for file in changed if before.size(file.stored_as) == file.entry.size]
    return Change(
        len(before),
        vanished,
        len(changed) - len(same),
        tuple((file, before[file.stored_as].record.blake3) for file in same),
    )


def _outside_there(found: Difference, gone: set[str]) -> set[str]:
    """Return the outside files that are only not used any more: they are where they were."""
    there = (item for item in found.record.outside_files if item.stored in gone)
    return {item.stored for item in there if os.path.isfile(from_wire(item.path))}


def since_state(
    state: Newest,
    library: Library,
    selection: Selection,
    files: Iterable[PlannedFile],
    databases: Iterable[PlannedDatabase],
    carried: Iterable[CarriedFile],
) -> Change:
    """Return what changed since the newest state that is known of a library, in another chest."""
    before = state.files
    found = {_own(file): file for file in files}
    captured = {_own(database.file) for database in databases}
    captured |= {_own(companion) for database in databases for companion in database.companions}
    present = {f"{LIBRARY_FILES}{file.path}" for file in (*selection.listing.files, *selection.listing.system)}
    present |= {_named(item.path, item.outside) for item in carried}
    arrived = {(file.entry.size, file.entry.mtime_ns) for key, file in found.items() if key not in before}
    vanished = other = 0
    same: list[tuple[PlannedFile, str]] = []
    for key, (size, mtime_ns, digest) in before.items():
        file = found.get(key)
        if key in captured:
            continue
        if file is None:
            outside = key.startswith(OUTSIDE_FILES)
            there = os.path.isfile(key.removeprefix(OUTSIDE_FILES)) if outside else key in present
            vanished += not there and not state.unseen(key) and (size, mtime_ns) not in arrived
        elif file.entry.size != size:
            other += 1
        elif state.coarse(file.entry.mtime_ns) != state.coarse(mtime_ns):
            same.append((file, digest))
    return Change(len(before), vanished, other, tuple(same))


def _own(file: PlannedFile) -> str:
    return _named(file.entry.path, file.outside_file)


def _named(path: str, outside: bool) -> str:
    return (OUTSIDE_FILES if outside else LIBRARY_FILES) + path


def is_surprising(change: Change, library: Library) -> bool:
    """Whether so much went or changed at once that it looks like a mistake, or like malicious encryption."""
    if change.same_size and not surprises(change.total, change.vanished, change.other_size):
        other = change.other_size + (0 if _as_before(library, change.same_size) else len(change.same_size))
        return surprises(change.total, change.vanished, other)
    return surprises(change.total, change.vanished, change.other_size)


def mass_change(change: Change, then: str, back: tuple[str, str, str]) -> Finding:
    """Say that a large share of a library vanished or changed at once.

    Parameters
    ----------
    change : Change
        What changed.
    then : str
        Since when, and in which chest that state is, in words.
    back : tuple of str
        The chest, the name there and the folder: what restores the library as it was.
    """
    return told(change.total, change.vanished, change.other_size + len(change.same_size), then, back)


def _as_before(library: Library, files: Sequence[tuple[PlannedFile, str]]) -> bool:
    return are_as_before([(place_of(library, file), file.entry.size, digest) for file, digest in files])
