"""One of two places that are compared: a library, a folder, a bag, an edition of it."""

from __future__ import annotations

import os
from pathlib import Path

import msgspec
from blake3 import blake3

from dunechest.bag.bag import is_bag
from dunechest.chest import editions
from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.bag_records import BagRecords, stamp
from dunechest.chest.chest import Chest
from dunechest.chest.layout import DATA, DATA_FOLDER, DUNE, LIBRARY_FILES
from dunechest.chest.records import FileRecord, LibraryRecord
from dunechest.chest.tag_lists import RecordFault
from dunechest.errors import CutOffError, DuneChestError, UsageError
from dunechest.jobs.known.named import own_bag, resolve_chest, resolve_library
from dunechest.names import from_wire, shown
from dunechest.transfer.walk import walk_own


class Place(msgspec.Struct, frozen=True):
    """One of the two places: how to call it, and its files, each with where its bytes are and its time in ns."""

    name: str
    files: dict[str, tuple[Path, int, int | None]]
    #: State and digest of what is kept in pieces, by the same path.
    put_together: dict[str, tuple[str, str]] = msgspec.field(default_factory=dict)
    #: For an edition: its outside files likewise, by the paths that they came from.
    outside: dict[str, tuple[Path, int, int | None]] = msgspec.field(default_factory=dict)
    #: For an edition: its record, and what of the archive's records is not proven.
    record: LibraryRecord | None = None
    #: Digests of captured databases, as they were recorded.
    proofs: dict[str, str] = msgspec.field(default_factory=dict)
    damage: tuple[RecordFault, ...] = ()
    #: The folder or library on this computer, or the bag; of a bag what tells whether it is changed meanwhile.
    folder: Path | None = None
    stamp: tuple[object, ...] = ()


def place_named(text: str, number: int | None = None) -> Place:
    """Make out what a person named, and of an archived library which edition; the current one if there is no number."""
    folder = Path(text)
    if is_bag(folder) and (folder / DUNE).is_dir():
        bag = folder.resolve()
        return _edition(text, BagEntry(bag.name, bag, "whole", BagRecords(bag).library()), number)
    if not os.path.lexists(text) and "/" in (words := text.replace(os.sep, "/")):
        chest, _, library = words.rpartition("/")
        opened = resolve_chest(chest)
        return _edition(text, _bag_in(opened, library), number, opened.faults)
    if number is not None:
        raise UsageError(
            f"{shown(text)!r} has no editions: only archived libraries have them, named as CHEST/LIBRARY."
        )
    if is_bag(folder):
        return _folder(text, folder / DATA_FOLDER)
    return _folder(text, resolve_library(text).path)


def is_archived(text: str) -> bool:
    """Whether a name is meant for what a chest holds: a bag of our own, or ``CHEST/LIBRARY``."""
    if os.path.lexists(text):
        return is_bag(Path(text)) and (Path(text) / DUNE).is_dir()
    return "/" in text.replace(os.sep, "/")


def _bag_in(chest: Chest, library: str) -> BagEntry:
    entry, _ = own_bag(chest, library)
    return entry


def _folder(name: str, folder: Path) -> Place:
    try:
        listing = walk_own(str(folder))
    except OSError as error:
        raise CutOffError(f"{shown(str(folder))} cannot be listed: {error.strerror}.") from error
    single = len(listing.files) == 1 and folder.is_file()
    found: dict[str, tuple[Path, int, int | None]] = {
        f.path: (folder if single else folder / f.path, f.size, f.mtime_ns) for f in listing.files
    }
    return Place(name, found, folder=folder)


def _edition(name: str, entry: BagEntry, number: int | None, faults: tuple[RecordFault, ...] = ()) -> Place:
    """Return the files of an edition under the library's own names, and its outside files under theirs."""
    seen = stamp(entry.folder)
    own = BagRecords(entry.folder)
    current = own.library()
    record = editions.record_of(own, current, number or current.edition)
    own_names = {changed.stored: from_wire(changed.path) for changed in record.changed_names}
    now: dict[str, FileRecord] = {p: proven.record for p, proven in editions.current_files(own).items()}
    files = editions.files_of(own, current.edition, record.edition, now)
    places = editions.places_of_bytes(own, now.values())
    lying = own.lying
    captured = {from_wire(database.path) for database in record.databases}
    origins = {item.stored: from_wire(item.path) for item in record.outside_files}
    found: dict[str, tuple[Path, int, int | None]] = {}
    outside: dict[str, tuple[Path, int, int | None]] = {}
    put_together: dict[str, tuple[str, str]] = {}
    proofs: dict[str, str] = {}
    for path, line in files.items():
        source = DATA + path if record.edition == current.edition else places.plain.get(line.blake3, "")
        size = lying.files.get(source, -1)
        stored = path.removeprefix(LIBRARY_FILES)
        path_here = own_names.get(stored, stored) if path.startswith(LIBRARY_FILES) else origins.get(path, path)
        if not source and line.blake3 in places.pieces:
            size, put_together[path_here] = line.size, _put_together(places, line.blake3)
        if not path.startswith(LIBRARY_FILES):
            outside[path_here] = (own.at(source), size, line.mtime_ns)
            continue
        if path_here in captured:
            proofs[path_here] = line.blake3
        # A captured database has bytes of its own, so that its time says nothing.
        found[path_here] = (own.at(source), size, None if path_here in captured else line.mtime_ns)
    damage = own.faults(edition=record.edition) if record.edition == current.edition else own.faults()
    name = f"{name}, edition {number}" if number is not None else name
    return Place(name, found, put_together, outside, record, proofs, (*damage, *faults), entry.folder, seen)


def _put_together(places: editions.Places, digest: str) -> tuple[str, str]:
    whole = blake3()
    try:
        for piece in places.assemble(digest):
            whole.update(piece)
    except DuneChestError as error:
        return "unreadable", str(error)
    return "ok", whole.hexdigest()
