"""Whether a library is one that the chest has from another place: another computer, a new set-up, a moved folder.

Two different libraries never share a bag, so a name proves nothing here. What does: this computer restored it there itself;
or most of its files are the archived ones, name by name, and some of them that are read have the same bytes. While the
original still lies where it was, its like is a copy and not the same.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path

import msgspec

from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.chest import Chest
from dunechest.chest.editions import current_files
from dunechest.chest.layout import LIBRARY_FILES
from dunechest.chest.origin import origin_of
from dunechest.chest.records import LibraryRecord, Origin
from dunechest.errors import DuneChestError, UsageError
from dunechest.findings import Finding
from dunechest.library.library import Library
from dunechest.model.archive import PlannedFile
from dunechest.model.findings import finding_of
from dunechest.names import from_wire, shown
from dunechest.transfer.digest_files import digest_files
from dunechest.transfer.tasks import DigestTask
from dunechest.words import number

#: This share of the larger of the two must be the same, by name and size;
_MOST = 0.5
#: of these so many are read, and this share must have the same bytes.
_SAMPLE, _SAME = 16, 0.9


class Likeness(msgspec.Struct, frozen=True):
    """A bag that may hold the library: how many of its files are the same, how that is known, and whether it is certain."""

    entry: BagEntry
    same: int
    how: str
    certain: bool


def named(name: str, entries: Mapping[str, BagEntry], partial: Sequence[str]) -> BagEntry:
    """Return the bag that a person says the library is.

    Raises
    ------
    UsageError
        If there is none of that name, or it is no library, or holds other parts.
    """
    entry = entries.get(name)
    if entry is None or entry.library is None:
        known = ", ".join(sorted(e.name for e in entries.values() if e.library is not None)) or "none"
        raise UsageError(f"--continue {shown(name)}: the chest holds no library of that name. It holds: {known}.")
    if tuple(entry.library.partial) != tuple(partial):
        raise UsageError(f"--continue {shown(name)}: that archive holds other parts than you chose.")
    return entry


def likenesses(
    library: Library,
    chest: Chest,
    entries: Iterable[BagEntry],
    files: Sequence[PlannedFile],
    partial: Sequence[str],
) -> list[Likeness]:
    """Return the bags that may hold this library though it came from another place, those that are certain first.

    Parameters
    ----------
    library : Library
        The library.
    chest : Chest
        The chest.
    entries : iterable of BagEntry
        Its bags.
    files : sequence of PlannedFile
        What would be archived.
    partial : sequence of str
        Names of the parts chosen; empty for all.
    """
    here = origin_of(library.path)
    own = [file for file in files if not file.outside_file]
    restored = restored_here(chest, library)
    found = []
    for entry in entries:
        record = entry.library
        if record is None or tuple(record.partial) != tuple(partial) or record.shape != library.shape:
            continue
        there = from_wire(record.origin.path)
        if record.origin.machine_id == here.machine_id and os.path.lexists(there):
            continue  # the original is where it was: this one is a copy
        by_us = entry.name == restored
        same = _same_files(entry, record, own, library)
        if same is None and not by_us:
            continue
        how, certain = ("it was restored from there", True) if by_us else _where_it_was(record, here, library)
        found.append(Likeness(entry, same or 0, how, certain))
    return sorted(found, key=lambda likeness: (not likeness.certain, -likeness.same))


def _where_it_was(record: LibraryRecord, here: Origin, library: Library) -> tuple[str, bool]:
    """Say how a library with the same files came from elsewhere, and whether that makes it the same for certain."""
    origin = record.origin
    if origin.machine_id == here.machine_id:
        return f"it was moved or renamed; it used to be in {shown(from_wire(origin.path))}", True
    same_place = origin.path == here.path or (
        origin.standard and (origin.standard, origin.relative) == (here.standard, here.relative)
    )
    from_there = f"it comes from the computer {shown(origin.machine)}"
    return from_there, bool(same_place) or Path(from_wire(origin.path)).name == library.path.name


def restored_here(chest: Chest, library: Library) -> str:
    """Return the name of the bag that this computer restored to the library's place, if it did and remembers."""
    from dunechest.ledger.ledger import open_ledger

    try:
        with open_ledger() as ledger:
            return ledger.restored_from(chest.id, shown(str(library.path)))
    except DuneChestError:
        return ""


def _same_files(entry: BagEntry, record: LibraryRecord, files: Sequence[PlannedFile], library: Library) -> int | None:
    """Count the files that are the archived ones by name and size, if they are most and a sample has the same bytes."""
    then_number = record.totals.files_stored
    if not files or min(len(files), then_number) < _MOST * max(len(files), then_number):
        return None
    try:
        then = current_files(entry.records).frozen()
    except DuneChestError:
        return None
    alike = [
        f for f in files if f.stored_as in then and then[f.stored_as].record.size == f.entry.size and f.entry.size
    ]
    total = max(len(files), sum(path.startswith(LIBRARY_FILES) for path in then))
    if not alike or len(alike) < _MOST * total:
        return None
    some = alike[:: max(1, len(alike) // _SAMPLE)][:_SAMPLE]
    root = library.path
    tasks = [
        DigestTask(os.fsencode(root / f.found_at if library.shape == "folder" else root), f.entry.size) for f in some
    ]
    outcomes = digest_files(tasks, lambda count: None)
    good = sum(
        outcome.state == "ok" and outcome.digests[0].hex() == then[f.stored_as].record.blake3
        for f, outcome in zip(some, outcomes, strict=True)
    )
    return len(alike) if good >= _SAME * len(some) else None


def goes_on(likeness: Likeness, files: int) -> Finding:
    """Say that the next edition goes into the bag of a library from elsewhere."""
    same = f"; {likeness.same:,} of {number(files, 'file')} are the same" if likeness.same else ""
    return finding_of("continues", name=likeness.entry.name, how=likeness.how, same=same)


def perhaps(found: Sequence[Likeness], files: int, bag: str) -> Finding:
    """Ask whether a library is one that the chest has."""
    names = ", ".join(
        f"{shown(likeness.entry.name)} ({likeness.how}; {likeness.same:,} of {files:,} files are the same)"
        for likeness in found[:3]
    )
    return finding_of("perhaps-same", names=names, other=found[0].entry.name, name=bag)
