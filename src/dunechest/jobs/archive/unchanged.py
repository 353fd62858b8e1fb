"""See at once that a library is just as it was archived: one walk, one digest, no file opened.

Where the fingerprint is the same, neither the library's references nor the bag's lists need be read. Where it is not, the
full comparison decides.
"""

from __future__ import annotations

import time
from collections.abc import Iterable, Mapping, Sequence
from types import MappingProxyType

from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.bag_records import BagRecords
from dunechest.chest.chest import Chest
from dunechest.chest.layout import DATA_FOLDER
from dunechest.chest.origin import came_from
from dunechest.chest.payload import PayloadSizes
from dunechest.chest.records import LibraryRecord
from dunechest.jobs.archive.fingerprint import fingerprint, fingerprint_of_folder
from dunechest.jobs.known.holdings import note_holdings
from dunechest.jobs.known.logs import keep_in_step
from dunechest.library.library import Library
from dunechest.model.archive import ArchiveOptions, ArchiveResult
from dunechest.model.study import LeftOutFile
from dunechest.names import from_wire
from dunechest.transfer.helpers import WORTH_ASKING
from dunechest.transfer.walk import Walk, count, entry_of, lines_of, walk_own


def own_bags(library: Library, chest: Chest, options: ArchiveOptions) -> list[BagEntry]:
    """Return the bags that may hold a library just as it is."""
    name, choice = options.name, options.choice
    if choice.parts or options.read_all or options.continues is not None or options.forget_absent:
        return []
    return [
        entry
        for entry in chest.bags()
        if entry.library is not None
        and entry.library.fingerprint
        and (name is None or entry.name == name)
        and not entry.library.partial
        and came_from(entry.library, library.path)
    ]


def looked_into(bags: Iterable[BagEntry]) -> dict[str, PayloadSizes]:
    """Have a helper look what lies in large bags while the library is looked at; by name."""
    return {
        entry.name: PayloadSizes(entry.folder, entry.library.totals.files_stored)
        for entry in bags
        if entry.library is not None and entry.library.totals.files_stored >= WORTH_ASKING
    }


def unchanged(
    library: Library,
    chest: Chest,
    options: ArchiveOptions,
    bags: Sequence[BagEntry] | None = None,
    lying: Mapping[str, PayloadSizes] = MappingProxyType({}),
    listing: Walk | None = None,
) -> ArchiveResult | None:
    """Return the summary of an archive that has nothing to do, or None if that cannot be said at once.

    Parameters
    ----------
    library, chest, options
        As for `plan_archive`.
    bags, lying : optional
        From `own_bags` and `looked_into`.
    listing : Walk, optional
        What is in the library, if it was walked a moment ago.
    """
    begun = time.monotonic()
    choice = options.choice
    own = [
        (entry.library.archived, entry.name, entry.library)
        for entry in (own_bags(library, chest, options) if bags is None else bags)
        if entry.library is not None
    ]
    if not own:
        return None
    try:
        place = str(library.path)
        if listing is not None:
            if listing.unreadable:
                return None
            now = fingerprint(library.kind, choice, lines_of(listing))
        elif library.shape == "folder":
            files = max(record.totals.files_found for _, _, record in own)
            now = fingerprint_of_folder(library.kind, choice, place, files)
        else:
            now = fingerprint(library.kind, choice, lines_of(walk_own(place)))
    except OSError:
        return None
    if chest.faults or chest.unfinished:
        return None
    for _, bag, record in sorted(own, key=lambda candidate: candidate[:2], reverse=True):
        if (
            record.fingerprint == now
            and _outside_files_as_before(record)
            and _there(chest, bag, record, lying.get(bag))
        ):
            note_holdings(chest, [chest.bag(bag)], at=library.path)
            keep_in_step(chest)
            return _summary(library, chest, bag, record, time.monotonic() - begun)
    return None


def _there(chest: Chest, bag: str, record: LibraryRecord, lying: PayloadSizes | None) -> bool:
    """Whether the chest still has it: every record is proven, and files and bytes are as many as were written down."""
    folder = chest.bag_folder(bag)
    there = lying.count() if lying is not None else count(str(folder / DATA_FOLDER))[:2]
    if there != (record.totals.files_stored, record.totals.bytes_stored):
        return False
    return not BagRecords(folder).faults()


def _outside_files_as_before(record: LibraryRecord) -> bool:
    """Whether the gathered outside files are as they were, and no other file can have become one."""
    if record.references.missing or record.outside_left:
        return False
    for outside_file in record.outside_files:
        entry = entry_of(from_wire(outside_file.path))
        if entry is None or (entry.size, entry.mtime_ns) != (outside_file.size, outside_file.mtime_ns):
            return False
    return True


def _summary(library: Library, chest: Chest, bag: str, record: LibraryRecord, seconds: float) -> ArchiveResult:
    left = tuple(
        LeftOutFile(from_wire(file.path), file.size, file.why, False, file.mtime_ns) for file in record.left_out
    )
    return ArchiveResult(
        name=library.name,
        archived_as=bag,
        folder=chest.bag_folder(bag),
        state="unchanged",
        found_count=record.totals.files_found,
        found_bytes=record.totals.bytes_found,
        left_out=left,
        folder_count=len(record.folders),
        link_count=len(record.links),
        database_count=len(record.databases),
        seconds=seconds,
        edition=record.edition,
        chest_label=chest.label,
    )
