"""Whether a chest's newest state of a library is one that this computer had, and what a new edition comes after.

Another computer may have archived the library since. An edition from here would then undo what was done there, file by
file, and look like any other. So a state that was never here, neither restored nor archived from here, blocks.
"""

from __future__ import annotations

import os
from collections.abc import Collection

import msgspec

from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.chest import Chest
from dunechest.chest.origin import came_from, origin_of
from dunechest.chest.records import LibraryRecord
from dunechest.chest.states import following, state_of_bag
from dunechest.errors import DuneChestError
from dunechest.findings import Finding
from dunechest.ledger.ledger import open_ledger
from dunechest.ledger.memory import tied_to
from dunechest.library.library import Library
from dunechest.model.archive import ArchiveOptions, Difference, PlannedFile
from dunechest.model.findings import finding_of
from dunechest.names import from_wire, quoted, shown
from dunechest.transfer.digest_files import digest_files
from dunechest.transfer.tasks import DigestTask
from dunechest.words import number

CODE = "newer-state"


class Lineage(msgspec.Struct, frozen=True):
    """What a new edition of a library follows, and what there is to say of that.

    `elsewhere` says that it continues a state that this computer never had, as a person wished.
    """

    follows: tuple[str, ...] = ()
    findings: tuple[Finding, ...] = ()
    elsewhere: bool = False


def lineage(
    library: Library, chest: Chest, entry: BagEntry, found: Difference, options: ArchiveOptions, other_name: str
) -> Lineage:
    """Decide what the next edition in a bag follows, and whether this computer has the state that it would come after.

    Parameters
    ----------
    library : Library
        The library.
    chest, entry
        The bag that it goes into.
    found : Difference
        In what it differs from that bag's latest edition.
    options : ArchiveOptions
        What was chosen.
    other_name : str
        A name that is free in the chest.
    """
    record = found.record
    here = states_here(library)
    now = record.state or state_of_bag(entry.records, record)
    last = next(reversed(here), "")
    before = [(now, record.follows)]
    if last and last != now and last not in record.follows:
        before.append((last, here[last]))
    follows = following("", *before)
    if now in here or _from_here(library, record, here):
        return Lineage(follows)
    if not here and options.continues is not None:
        return Lineage(follows)  # a person says that it is this library, of which nothing else is known here
    lacking = _lacking(library, found)
    if not any(lacking):
        return Lineage(follows)
    return Lineage(follows, (_newer(library, chest, entry, record, lacking, other_name),), True)


def states_here(library: Library) -> dict[str, tuple[str, ...]]:
    """Return the states that a library had in its place, or where it was before; the one it had last at the end."""
    places = {shown(place) for place in (str(library.path), *tied_to(str(library.path)))}
    try:
        with open_ledger() as ledger:
            return ledger.states_at(places)
    except DuneChestError:
        return {}


def _from_here(library: Library, record: LibraryRecord, here: Collection[str]) -> bool:
    """Whether an edition was made from this library, as far as this computer can tell.

    One that continues a state that was here, and was not here itself, is newer than what this computer remembers: its
    disk was put back from an older copy, or it could not write down what it did.
    """
    origin, own = record.origin, origin_of(library.path)
    if not here:
        # A new set-up of the same computer remembers nothing; then its name and the place tell.
        again = (origin.machine, origin.path) == (own.machine, own.path)
        return again or _made_here(library, record)
    ahead = bool(record.state) and any(state in here for state in record.follows)
    return _made_here(library, record) and not ahead


def _made_here(library: Library, record: LibraryRecord) -> bool:
    """Whether an edition says that it was made from this library: from its place, or from where it was before it was moved."""
    if came_from(record, library.path):
        return True
    origin = record.origin
    return origin.machine_id == origin_of(library.path).machine_id and not os.path.lexists(from_wire(origin.path))


def _lacking(library: Library, found: Difference) -> tuple[int, int]:
    """Count the files of the edition that the library does not have, and those of which it has other bytes."""
    changed = [file for file in found.to_read if file.stored_as in found.files]
    same_size = [file for file in changed if found.files.size(file.stored_as) == file.entry.size]
    other = len(changed) - len(same_size) + _differing(library, found, same_size)
    other += sum(database.file.stored_as in found.files for database in found.to_capture)
    return len(found.dropped), other


def _differing(library: Library, found: Difference, files: list[PlannedFile]) -> int:
    """Read files of the same size and another time, and count those with other bytes."""
    tasks = [DigestTask(os.fsencode(place_of(library, file)), file.entry.size) for file in files]
    outcomes = digest_files(tasks, lambda count: None)
    return sum(
        outcome.state != "ok" or outcome.digests[0].hex() != found.files[file.stored_as].record.blake3
        for file, outcome in zip(files, outcomes, strict=True)
    )


def place_of(library: Library, file: PlannedFile) -> str:
    """Return the full path of a file that is to be archived."""
    if file.outside_file or library.shape == "file":
        return file.entry.path if file.outside_file else str(library.path)
    return os.path.join(library.path, file.found_at)


def _newer(
    library: Library, chest: Chest, entry: BagEntry, record: LibraryRecord, lacking: tuple[int, int], other_name: str
) -> Finding:
    gone, other = lacking
    what = " and ".join(
        words
        for words in (
            f"delete {number(gone, 'file')}" if gone else "",
            f"replace {number(other, 'file')} with {'an older one' if other == 1 else 'older ones'}" if other else "",
        )
        if words
    )
    where = f"{quoted(chest.label)} {quoted(entry.name)} --into {quoted(str(library.path))}"
    return finding_of(
        "newer-state",
        name=entry.name,
        edition=record.edition,
        machine=record.origin.machine,
        effect=what,
        where=where,
        other_name=other_name,
    )
