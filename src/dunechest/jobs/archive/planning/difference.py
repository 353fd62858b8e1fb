"""Differences of a library from its latest edition, by names, sizes and times, without opening a file."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping

import msgspec

from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.editions import current_files
from dunechest.chest.file_table import FileTable, Marks
from dunechest.chest.payload import PayloadSizes, lost_in
from dunechest.chest.records import CapturedDatabase, FolderRecord, LibraryRecord, LinkRecord
from dunechest.jobs.archive.planning.unseen import Unseen, forgotten
from dunechest.model.archive import Difference, PlannedDatabase, PlannedFile
from dunechest.model.study import Selection, same_time
from dunechest.names import from_wire, parents
from dunechest.transfer.walk import FileEntry, Walk


def difference(
    entry: BagEntry,
    files: Iterable[PlannedFile],
    databases: Iterable[PlannedDatabase],
    selection: Selection,
    lying: PayloadSizes | None = None,
    unseen: Unseen | None = None,
    forget: tuple[str, ...] = (),
    step_ns: int = 1,
) -> Difference:
    """Compare what is to be archived with a bag's current edition.

    Parameters
    ----------
    entry : BagEntry
        The bag.
    files, databases, selection : iterable, iterable, Selection
        What is to be archived now, and the library's links and folders.
    lying : PayloadSizes, optional
        What was seen in the bag just before.
    unseen : Unseen, optional
        Tells of the edition's files whether they cannot be seen now.
    forget : tuple of str
        What is really gone though it cannot be seen, as a person says.
    step_ns : int
        In what steps the library's place keeps times, in ns.

    Raises
    ------
    DuneChestError
        If the bag's records cannot be relied on.
    """
    record = entry.library
    assert record is not None
    then = current_files(entry.records).frozen()
    gone = lost_in(entry.folder, then, lying)
    compared = _compared(record, then, gone, step_ns, files, databases)
    dropped = sorted(compared.found.others())
    carried = [item for path in dropped if unseen and (item := unseen.file(path, then.size(path)))]
    said = forgotten(forget, carried)
    carried = [item for item in carried if item.stored not in said.files]
    stays = {item.stored for item in carried}
    folders, links = _carried_beside(selection.listing, _emptied(said.files, stays, unseen), unseen)
    others = _others(record, selection.listing, [*folders, *links])
    return Difference(
        record,
        then,
        tuple(compared.kept),
        tuple(compared.kept_databases),
        tuple(compared.to_read),
        tuple(compared.to_capture),
        tuple(path for path in dropped if path not in stays),
        tuple(sorted([*compared.others, *others])),
        tuple(compared.lost),
        carried=tuple(carried),
        carried_folders=folders,
        carried_links=links,
        carried_lost=tuple(item for item in carried if item.stored in gone),
        missed=said.missed,
    )


def _others(record: LibraryRecord, listing: Walk, carried: Iterable[FolderRecord | LinkRecord]) -> list[str]:
    """Return the links and folders that are otherwise than in an edition, without those that are kept unseen."""
    away = {from_wire(item.path) for item in carried}
    return [path for path in _links_and_folders(record, listing) if path not in away]


def _compared(
    record: LibraryRecord,
    then: FileTable,
    gone: Collection[str],
    step_ns: int,
    files: Iterable[PlannedFile],
    databases: Iterable[PlannedDatabase],
) -> _Compared:
    """Hold each file and database that is to be archived against an edition."""
    compared = _Compared(
        then,
        {from_wire(item.path): item for item in record.databases},
        {from_wire(outside_file.path): outside_file.stored for outside_file in record.outside_files},
        gone,
        Marks(then),
        step_ns,
    )
    for file in files:
        compared.file(file)
    for database in databases:
        compared.database(database)
    return compared


def _carried_beside(
    listing: Walk, emptied: Collection[str], unseen: Unseen | None
) -> tuple[tuple[FolderRecord, ...], tuple[LinkRecord, ...]]:
    """Return the folders and links that could not be seen and stay, without those where nothing is left."""
    if unseen is None:
        return (), ()
    folders = unseen.folders({entry.path for entry in listing.folders})
    links = unseen.links({entry.path for entry in listing.links})
    return (
        tuple(folder for folder in folders if from_wire(folder.path) not in emptied),
        tuple(link for link in links if from_wire(link.path).rpartition("/")[0] not in emptied),
    )


def _emptied(gone: Collection[str], stays: Collection[str], unseen: Unseen | None) -> set[str]:
    """Return the folders of the library in which nothing is left of what a person says is really gone."""
    if unseen is None or not gone:
        return set()
    left = {folder for stored in stays for folder in parents(unseen.own_path(stored))}
    return {folder for stored in gone for folder in parents(unseen.own_path(stored))} - left


class _Compared(msgspec.Struct):
    """Files held one by one against the latest edition: what is unchanged, and what has to be read."""

    then: FileTable
    captured: Mapping[str, CapturedDatabase]
    own_names: Mapping[str, str]
    gone: Collection[str]
    found: Marks
    step_ns: int
    kept: list[PlannedFile] = msgspec.field(default_factory=list)
    kept_databases: list[PlannedDatabase] = msgspec.field(default_factory=list)
    to_read: list[PlannedFile] = msgspec.field(default_factory=list)
    to_capture: list[PlannedDatabase] = msgspec.field(default_factory=list)
    others: list[str] = msgspec.field(default_factory=list)
    lost: list[PlannedFile] = msgspec.field(default_factory=list)

    def file(self, file: PlannedFile) -> None:
        """Take in a file."""
        self.found.add(file.stored_as)
        if not self._unchanged(file):
            self.to_read.append(file)
            return
        self.kept.append(file)
        if file.stored_as in self.gone:
            self.lost.append(file)
        facts = self.then.facts(file.stored_as)
        if facts is not None and facts[2] != file.entry.mode:
            self.others.append(file.entry.path)

    def database(self, database: PlannedDatabase) -> None:
        """Take in a database with its companions."""
        stored = database.file.stored_as
        captured = self.captured.get(database.file.entry.path)
        self.found.add(stored)
        # One that SQLite could not capture was copied like any other, its companions beside it.
        plain = captured is None and stored in self.then
        every = (database.file, *database.companions)
        if (
            captured is not None
            and stored in self.then
            and stored not in self.gone
            and _same_database(captured, database, self.step_ns)
        ):
            self.kept_databases.append(database)
        elif plain and all(map(self._unchanged, every)):
            self.kept += every
            self.lost += [file for file in every if file.stored_as in self.gone]
            for companion in database.companions:
                self.found.add(companion.stored_as)
        else:
            self.to_capture.append(database)

    def _unchanged(self, file: PlannedFile) -> bool:
        facts = self.then.facts(file.stored_as)
        if facts is None or file.entry.path in self.captured:
            return False
        # The name of an outside file in the chest says little; where it came from counts.
        if file.outside_file and self.own_names.get(file.entry.path) != file.stored_as:
            return False
        if facts[0] != file.entry.size:
            return False
        return facts[1] == file.entry.mtime_ns or same_time(facts[1], file.entry.mtime_ns, self.step_ns)


def _links_and_folders(record: LibraryRecord, listing: Walk) -> Iterator[str]:
    """Yield the paths of links and folders that differ from the record."""
    links = {from_wire(link.path): from_wire(link.target) for link in record.links}
    links_now = {link.path: link.target for link in listing.links}
    folders = {from_wire(folder.path): folder.mode for folder in record.folders}
    folders_now = {folder.path: folder.mode for folder in listing.folders}
    yield from (path for path in {*links, *links_now} if links.get(path) != links_now.get(path))
    yield from (path for path in {*folders, *folders_now} if folders.get(path) != folders_now.get(path))


def _same_database(captured: CapturedDatabase, database: PlannedDatabase, step_ns: int) -> bool:
    """Whether the file a captured database came from is as it was, and its log; an empty one says as much as none."""
    entry = database.file.entry
    if entry.size != captured.size or not same_time(captured.mtime_ns, entry.mtime_ns, step_ns):
        return False
    then = {
        from_wire(c.path): (c.size, c.mtime_ns) for c in captured.companions if _speaks(from_wire(c.path), c.size)
    }
    now = {c.entry.path: (c.entry.size, c.entry.mtime_ns) for c in database.companions if _counts(c.entry)}
    return then == now


def _counts(entry: FileEntry) -> bool:
    return _speaks(entry.path, entry.size)


def _speaks(path: str, size: int) -> bool:
    """Whether a companion of a database can hold anything: its index holds nothing that matters."""
    return size > 0 and not path.endswith("-shm")
