"""A library in a place that cannot hold all of it: what is missing there for that reason was not deleted or changed by anybody.

A library that was restored to a drive without links, permissions or some names, and is archived on from there, keeps what its
latest edition has of those: true names, links, modes, owners and attributes, and times to the nanosecond. What such a place
can hold is told by the names its filesystem takes, and by what lies there.
"""

from __future__ import annotations

from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.chest import Chest
from dunechest.chest.editions import current_files
from dunechest.chest.file_table import FileTable
from dunechest.chest.layout import LIBRARY_FILES
from dunechest.chest.origin import came_from
from dunechest.chest.records import LibraryRecord
from dunechest.chest.true_names import true_names
from dunechest.errors import DuneChestError
from dunechest.jobs.archive.planning.same_library import restored_here
from dunechest.library.library import Library
from dunechest.machine.drives import Limits, filesystem, holds_modes
from dunechest.model.archive import ArchiveOptions
from dunechest.model.study import ALL_HELD, Contents, NotHeld
from dunechest.names import from_wire
from dunechest.transfer.walk import Walk
from dunechest.values import FrozenDict

#: Steps in which filesystems keep times, in ns: two seconds, one, hundredths, and the hundred nanoseconds of Windows.
_STEPS = (2_000_000_000, 1_000_000_000, 10_000_000, 100)


def lesser_place(contents: Contents, chest: Chest, options: ArchiveOptions) -> NotHeld:
    """Say what the place of a library cannot hold of it, by the latest edition in a chest."""
    library = contents.library
    if library.shape != "folder":
        return ALL_HELD
    try:
        limits = filesystem(library.path).limits
    except OSError:
        return ALL_HELD
    if limits == Limits():
        return ALL_HELD
    entry = _former(library, chest, options)
    if entry is None or entry.library is None:
        return ALL_HELD
    try:
        files = current_files(entry.records)
    except DuneChestError:
        return ALL_HELD
    record, listing = entry.library, contents.listing
    not_held = []
    if record.links and not listing.links and limits.windows:
        not_held.append("links")
    modes: dict[str, int] = {}
    if record.modes and not holds_modes(library.path):
        not_held += ["modes", "owners"]
        own = {LIBRARY_FILES + item.stored: from_wire(item.path) for item in record.changed_names}
        modes = {own.get(f.path) or f.path.removeprefix(LIBRARY_FILES): f.mode for f in files.records()}
    if record.attributes and limits.windows:
        not_held.append("attributes")
    names = _names(record, files, limits, listing)
    if names:
        not_held.append("names")
    step = _step(listing) if limits.windows else 1
    if step > 1:
        not_held.append("times")
    return NotHeld(record, FrozenDict(modes), FrozenDict(names), step, tuple(not_held)) if not_held else ALL_HELD


def _former(library: Library, chest: Chest, options: ArchiveOptions) -> BagEntry | None:
    """Return the bag that a library goes on in: it came from its place, was restored there, or a person says so."""
    entries = {entry.name: entry for entry in chest.bags() if entry.library is not None}
    if options.continues is not None:
        return entries.get(options.continues)
    own = [
        entry for entry in entries.values() if entry.library is not None and came_from(entry.library, library.path)
    ]
    if own:
        return max(own, key=lambda entry: entry.library.archived if entry.library is not None else "")
    return entries.get(restored_here(chest, library))


def _names(record: LibraryRecord, files: FileTable, limits: Limits, listing: Walk) -> dict[str, str]:
    """Return the true names of what lies in the place, by those that it has there."""
    own = {LIBRARY_FILES + item.stored: from_wire(item.path) for item in record.changed_names}
    paths = (
        own.get(stored) or stored.removeprefix(LIBRARY_FILES)
        for stored in files.paths()
        if stored.startswith(LIBRARY_FILES)
    )
    there = {file.path for file in listing.files} | {folder.path for folder in listing.folders}
    there |= {link.path for link in listing.links}
    return true_names(record, paths, limits, there)


def _step(listing: Walk) -> int:
    """Return the largest steps that all times of a library are whole numbers of: those in which its place keeps them."""
    times = [file.mtime_ns for file in listing.files]
    return next((step for step in _STEPS if times and not any(time % step for time in times)), 1)
