"""Take what a chest holds into this computer's catalogue, whenever it is met."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import get_args

from dunechest.chest import editions
from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.bag_records import BagRecords
from dunechest.chest.chest import Chest
from dunechest.chest.file_table import Brief, FileTable, beginning_of
from dunechest.chest.layout import LIBRARY_FILES, TAG_MANIFEST
from dunechest.chest.records import ChangeCounts, LibraryRecord, when
from dunechest.errors import DuneChestError
from dunechest.ledger import events
from dunechest.ledger.catalogue import Catalogue, open_catalogue
from dunechest.ledger.catalogue_rows import CURRENT, BagKey, PastEdition, PastRole, Row
from dunechest.names import from_wire, shown
from dunechest.progress import Progress, Tally, silent
from dunechest.transfer import safe

#: Bytes; a list may claim more than a database can hold.
_LARGEST = 1 << 62


def note_files(
    chest: Chest,
    entries: Iterable[BagEntry],
    missing: Iterable[str] = (),
    *,
    files: Mapping[str, FileTable] | None = None,
    before: Mapping[str, str] | None = None,
    progress: Progress = silent,
) -> str:
    """Take in the files of bags that are not known as they are now; return why that failed, or nothing.

    Parameters
    ----------
    chest : Chest
        The chest.
    entries : iterable of BagEntry
        What was met in it; what has no intact record is passed over.
    missing : iterable of str
        Bags that are gone.
    files : mapping, optional
        The files of bags that are known already, by name; the lists of the others are read.
    before : mapping, optional
        What `top_of` said, by name, before those bags got the edition that they have.
    progress : Progress
        Told how far it is.
    """
    if events.unnoted_now():
        return ""
    known = [(entry, top) for entry in entries if entry.library is not None and (top := top_of(entry.records))]
    gone = tuple(missing)
    try:
        with open_catalogue(prove=False) as catalogue:
            new = [(entry, top) for entry, top in known if catalogue.top_of(chest.id, entry.name) != top]
        if not new and not gone:
            return ""
        with open_catalogue(write=True) as catalogue:
            catalogue.forget(chest.id, gone)
            for entry, top in new:
                written = (files or {}).get(entry.name)
                try:
                    _take_in(catalogue, chest, entry, top, written, (before or {}).get(entry.name, ""), progress)
                except DuneChestError:
                    continue  # a damaged record says nothing
    except DuneChestError as error:
        events.lost(str(error))
        return str(error)
    return ""


def _take_in(
    catalogue: Catalogue,
    chest: Chest,
    entry: BagEntry,
    top: str,
    written: FileTable | None,
    before: str,
    progress: Progress,
) -> None:
    """Take in one bag as it is now; see `note_files`."""
    record = entry.library
    assert record is not None
    own = BagRecords(entry.folder)
    tally = Tally(progress, "cataloguing", record.totals.files_stored, 0, entry.name)
    tally.tell()
    key = _key(chest, entry.name, record, top)
    if written and _advanced(catalogue, key, own, record, written, before):
        return
    table = written or editions.current_files(own)
    earlier = [number for number in own.numbers(record.edition) if number != record.edition]
    past = [_edition(known) for known in (*map(own.edition, earlier), record)]
    rows = _rows(own, record, table) if earlier else _current_rows(record, table)
    catalogue.put(key, rows, past, _roles(table.by_role()), distinct=not earlier, tell=_teller(tally))


def _advanced(
    catalogue: Catalogue, key: BagKey, own: BagRecords, record: LibraryRecord, table: FileTable, before: str
) -> bool:
    """Take in by its changes an edition that was just made; False if that would not be sooner, or cannot be."""
    if not before or record.edition < 2 or 2 * table.change_count > len(table):
        return False
    earlier = own.edition(record.edition - 1)
    # What was kept must have the same own name in both.
    if (earlier.changed_names, earlier.outside_files) != (record.changed_names, record.outside_files):
        return False
    names = _Names(record)
    gone = (_row(path, brief, names, 0, 0)[:5] for path, brief in table.brief_gone())
    come = (_row(path, brief, names, 0, 0)[:5] for path, brief in table.brief_come())
    return catalogue.advance(key, before, gone, come, _edition(record), _roles(table.by_role()))


def _teller(tally: Tally) -> Callable[[int], None]:
    def tell(done: int) -> None:
        tally.files_done = done
        tally.tell()

    return tell


def top_of(own: BagRecords) -> str:
    """Return by what a bag as it is now is known in the catalogue; empty if that cannot be read."""
    try:
        return hashlib.sha512(safe.read_bounded(own.at(TAG_MANIFEST), 1 << 30)).hexdigest()[:32]
    except (OSError, ValueError):
        return ""


def _key(chest: Chest, bag: str, record: LibraryRecord, top: str) -> BagKey:
    origin = record.origin
    key = "\n".join((origin.machine_id, shown(from_wire(origin.path)), record.name))
    return BagKey(chest.id, bag, key, shown(record.name), record.kind, top, record.edition)


def _edition(record: LibraryRecord) -> PastEdition:
    totals, counts = record.totals, record.changes or ChangeCounts()
    return PastEdition(
        record.edition,
        when(record.archived),
        totals.files_stored,
        totals.bytes_stored,
        record.changes is None,
        counts.added_count,
        counts.changed_count,
        counts.moved_count,
        counts.dropped_count,
        counts.added_bytes if record.changes is not None else totals.bytes_stored,
        record.mass_change,
    )


def _roles(totals: Mapping[str, tuple[int, int]]) -> list[PastRole]:
    from dunechest.library.roles import Role

    known = get_args(Role)
    counts: dict[str, list[int]] = {}
    for role, (files, size) in totals.items():
        # What another version calls a role, or a hostile list, is no word to be shown.
        own = counts.setdefault(role if role in known else "other", [0, 0])
        own[0] += files
        own[1] += size
    return [PastRole(role, own[0], min(own[1], _LARGEST)) for role, own in sorted(counts.items())]


def _current_rows(current: LibraryRecord, table: FileTable) -> Iterator[Row]:
    """Yield the files of the only edition of a bag."""
    names = _Names(current)
    for path, brief in table.brief():
        yield _row(path, brief, names, current.edition, CURRENT)


def _rows(own: BagRecords, current: LibraryRecord, table: FileTable) -> Iterator[Row]:
    """Yield each file with the first and last edition that has it unchanged, going back from the current edition."""
    numbers = own.numbers(current.edition)
    names = _Names(current)
    files = dict(table.brief())
    # Of what never changed, which is nearly everything, nothing more is kept than that.
    last: dict[str, int] = {}
    own_names: dict[str, _Names] = {}
    after = current.edition
    for number in reversed(numbers[:-1]):
        earlier = _Names(own.edition(number))
        for line in editions.changes_of(own, number):
            path = line.path
            if path in files:
                yield _row(path, files[path], own_names.get(path, names), after, last.get(path, CURRENT))
            if line.absent:
                files.pop(path, None)
                last.pop(path, None)
            else:
                files[path] = (line.size, line.mtime_ns, beginning_of(line.blake3))
                last[path], own_names[path] = number, earlier
        after = number
    for path, brief in files.items():
        yield _row(path, brief, own_names.get(path, names), after, last.get(path, CURRENT))


class _Names:
    """The own paths of an edition's files."""

    def __init__(self, record: LibraryRecord) -> None:
        self._changed = {LIBRARY_FILES + item.stored: from_wire(item.path) for item in record.changed_names}
        self._outside = {item.stored: from_wire(item.path) for item in record.outside_files}

    def of(self, path: str) -> str:
        """Return the path in the library, or where an outside file came from."""
        if path in self._outside:
            return self._outside[path]
        return self._changed.get(path) or path.removeprefix(LIBRARY_FILES)


def _row(path: str, brief: Brief, names: _Names, first: int, last: int) -> Row:
    # Text in a database is UTF-8; what is not is kept as it is shown, and found by the rest of its name.
    own = names.of(path)
    if not own.isascii():
        own = own.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")
    folder, _, name = own.rpartition("/")
    size, mtime_ns, digest = brief
    seconds = max(-(1 << 62), min(1 << 62, mtime_ns // 1_000_000_000))
    return Row(folder, name, size, seconds, int.from_bytes(digest, "big", signed=True), first, last)
