"""Under which name a library goes into a chest, and whether that is new, there unchanged, or gets its next edition."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence

import msgspec

from dunechest.chest import editions
from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.chest import Chest
from dunechest.chest.layout import LIBRARY, LIBRARY_FILES, LIBRARY_FOLDER
from dunechest.chest.origin import came_from
from dunechest.chest.payload import PayloadSizes
from dunechest.chest.records import LibraryRecord
from dunechest.chest.stored_names import StoredNames
from dunechest.errors import DuneChestError
from dunechest.findings import Finding
from dunechest.jobs.archive.planning.difference import difference
from dunechest.jobs.archive.planning.room import Recorded
from dunechest.jobs.archive.planning.same_library import Likeness, goes_on, likenesses, named, perhaps
from dunechest.jobs.archive.planning.unseen import Unseen
from dunechest.library.library import Library
from dunechest.model.archive import ArchiveOptions, Difference, PlannedDatabase, PlannedFile
from dunechest.model.findings import finding_of
from dunechest.model.study import Selection
from dunechest.names import shown, slug

#: Gives, for an edition, what tells whether its files cannot be seen now.
UnseenOf = Callable[[LibraryRecord], Unseen]

#: So many editions show how fast a library grows.
_LATELY = 12


class Stored(msgspec.Struct, frozen=True):
    """What is to be archived, each file with its name on the drive.

    Parameters
    ----------
    files, databases : tuple
        Files to copy, those from outside the library included, and databases to capture.
    names : StoredNames
        The names of the library's own files and folders.
    step_ns : int
        In what steps the library's place keeps times, in ns.
    """

    files: tuple[PlannedFile, ...]
    databases: tuple[PlannedDatabase, ...]
    names: StoredNames
    step_ns: int = 1

    @property
    def recorded(self) -> Recorded:
        """What the records of the edition are about."""
        characters = sum(2 * len(f.stored_as) for f in self.files) + sum(
            2 * len(d.file.stored_as) for d in self.databases
        )
        return Recorded(len(self.files) + len(self.databases), characters)

    def folder(self, path: str) -> str:
        """Return the path below ``data/`` of a folder of the library; its top has an empty path."""
        return LIBRARY_FILES + self.names.folder(path) if path else LIBRARY_FOLDER


class Destination(msgspec.Struct, frozen=True):
    """Where a library goes in a chest.

    Parameters
    ----------
    bag, state : str
        Name of the bag, and whether it is ``new``, ``unchanged``, ``next`` or ``blocked``.
    findings : tuple of Finding
        What there is to say of it.
    earlier : tuple of (str, int)
        Moment and bytes of each earlier edition of the same library.
    previous : Difference or None
        In what the library differs from its latest edition.
    entry : BagEntry or None
        The bag that has that edition.
    """

    bag: str
    state: str
    findings: tuple[Finding, ...]
    earlier: tuple[tuple[str, int], ...]
    previous: Difference | None = None
    entry: BagEntry | None = None

    def files(self, stored: Stored) -> tuple[PlannedFile, ...]:
        """Return the files to read: all of a new library, and what is new or changed in one that is there."""
        return self.previous.to_read if self.previous is not None else tuple(stored.files)

    def databases(self, stored: Stored) -> tuple[PlannedDatabase, ...]:
        """Return the databases to capture, alike."""
        return self.previous.to_capture if self.previous is not None else tuple(stored.databases)


def destination(
    selection: Selection,
    library: Library,
    chest: Chest,
    options: ArchiveOptions,
    taken: Mapping[str, Library],
    stored: Stored,
    lying: Mapping[str, PayloadSizes],
    unseen_of: UnseenOf,
) -> Destination:
    """Decide the bag's name, and whether it is new, there unchanged, or gets its next edition.

    Parameters
    ----------
    selection, library, chest
        What is to be archived, of what, and where to.
    options : ArchiveOptions
        The name that was asked for, or the bag that it is.
    taken : mapping
        Names that libraries of the same run get.
    stored : Stored
        Each file with its name on the drive.
    lying : mapping
        What was seen in bags just before, by name.
    unseen_of : callable
        Gives what tells of an edition's files whether they cannot be seen now.
    """
    entries = {entry.name: entry for entry in chest.bags()}
    told = tuple(_about_the_chest(chest))
    partial = tuple(sorted(part.name for part in selection.parts))
    own = _own(entries.values(), library, partial)
    name = options.name
    if options.continues is not None:
        own = [named(options.continues, entries, partial)]
    elif not own and name is None and (alike := likenesses(library, chest, entries.values(), stored.files, partial)):
        told = (*told, _of_the_likeness(alike, stored, library, entries))
        if told[-1].severity == "blocks":
            return Destination(alike[0].entry.name, "blocked", told, ())
        own = [alike[0].entry]
    earlier = tuple(size for item in own for size in _sizes(item))
    if name is not None:
        own = [e for e in own if e.name == name]
    usual = slug(f"{library.name} {' '.join(part.title for part in selection.parts)}")
    bag = name or (own[0].name if own else usual)
    if bag in taken:
        now = _taken(bag, f"{shown(str(taken[bag].path))}, archived in the same run", entries)
        return Destination(bag, "blocked", (*told, now), earlier)
    entry = entries.get(bag)
    spoilt = [*own, *([entry] if entry is not None and entry.state in ("damaged", "unusable") else [])]
    for item in spoilt:
        if (finding := damaged(item, chest.unfinished.get(item.name, ""), entries)) is not None:
            return Destination(item.name, "blocked", (*told, finding), earlier)
    if (known := _known(own, selection, stored, lying, unseen_of, options.forget_absent)) is not None:
        state = "unchanged" if known[1].none else "next"
        return Destination(known[0].name, state, told, earlier, known[1], known[0])
    if entry is None or entry.state == "unfinished":
        return Destination(bag, "new", told, earlier)
    return Destination(bag, "blocked", (*told, _taken(bag, _holder(entry), entries)), earlier)


def _own(entries: Iterable[BagEntry], library: Library, partial: tuple[str, ...]) -> list[BagEntry]:
    """Return the bags that came from a library's place, of the same parts."""
    return [
        e
        for e in entries
        if e.library is not None and came_from(e.library, library.path) and e.library.partial == partial
    ]


def _holder(entry: BagEntry) -> str:
    return f"another library ({shown(entry.library.name)})" if entry.library else "something Dune Chest did not make"


def _of_the_likeness(
    alike: Sequence[Likeness], stored: Stored, library: Library, entries: Mapping[str, BagEntry]
) -> Finding:
    """Say that a library from elsewhere goes on in its bag, or ask if it does."""
    if alike[0].certain and sum(likeness.certain for likeness in alike) == 1:
        return goes_on(alike[0], len(stored.files))
    usual = slug(library.name)
    return perhaps(alike, len(stored.files), _free_name(usual, entries) if usual in entries else usual)


def _known(
    own: Iterable[BagEntry],
    selection: Selection,
    stored: Stored,
    lying: Mapping[str, PayloadSizes],
    unseen_of: UnseenOf,
    forget: tuple[str, ...],
) -> tuple[BagEntry, Difference] | None:
    """Return the bag of the library's latest edition, and in what the library differs from it.

    It may lie here several times, under several names: one that is unchanged is enough.
    """
    newest: tuple[str, BagEntry, Difference] | None = None
    for entry in own:
        assert entry.library is not None
        unseen = unseen_of(entry.library)
        found = difference(
            entry, stored.files, stored.databases, selection, lying.get(entry.name), unseen, forget, stored.step_ns
        )
        if found.none:
            return entry, found
        if newest is None or entry.library.archived >= newest[0]:
            newest = (entry.library.archived, entry, found)
    return newest[1:] if newest is not None else None


def _about_the_chest(chest: Chest) -> Iterator[Finding]:
    """Stop where the chest's own records are damaged: what is added would lie in a chest that nothing proves."""
    if chest.faults:
        fault = chest.faults[0]
        yield finding_of("chest-damaged/archive", path=fault.path, why=fault.why, folder=str(chest.folder))


def damaged(entry: BagEntry, unfinished: str, entries: Mapping[str, object]) -> Finding | None:
    """Stop where a record of the archive is not proven: a new edition would seal the damage with new digests.

    Parameters
    ----------
    entry : BagEntry
        The bag that would get the edition.
    unfinished : str
        Why a decided change of it could not be finished, if so.
    entries : mapping
        What the chest holds, by name.
    """
    if entry.state == "unusable" and not entry.is_ours:
        return None
    if unfinished:
        return finding_of("damaged-archive/waiting", entry=entry.name, unfinished=unfinished)
    faults = entry.records.faults()
    if not faults and entry.state == "whole":
        return None
    path, why = (faults[0].path, faults[0].why) if faults else (LIBRARY, entry.why)
    more = f", and {len(faults) - 1} more" if len(faults) > 1 else ""
    other = _free_name(entry.name, entries)
    return finding_of("damaged-archive/archive", name=entry.name, path=path, why=why, more=more, other=other)


def _sizes(entry: BagEntry) -> Iterator[tuple[str, int]]:
    """Yield moment and bytes of the last editions of a bag, as far as they can be read: what it grew by lately."""
    assert entry.library is not None
    own = entry.records
    for edition in own.numbers(entry.library.edition)[-_LATELY:]:
        try:
            record = editions.known_record(own, entry.library, edition)
        except DuneChestError:
            continue
        yield record.archived, record.totals.bytes_stored


def free_name(bag: str, chest: Chest) -> str:
    """Return a name beside `bag` that nothing in a chest has."""
    return _free_name(bag, {entry.name: entry for entry in chest.bags()})


def _free_name(bag: str, entries: Mapping[str, object]) -> str:
    """Return a name beside `bag` that nothing in the chest has."""
    number = 2
    while f"{bag}-{number}" in entries:
        number += 1
    return f"{bag}-{number}"


def _taken(bag: str, holder: str, entries: Mapping[str, object]) -> Finding:
    return finding_of("name-taken/archive", bag=bag, holder=holder, free_name=_free_name(bag, entries))
