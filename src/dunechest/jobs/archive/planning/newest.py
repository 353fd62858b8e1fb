"""The newest state that is known of a library, in whatever chest: read there, or as this computer remembers it.

Of a chest that is not connected the catalogue tells names, sizes, times in seconds and the beginnings of digests. That is
enough to see that much changed.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator, Sequence

import msgspec

from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.chest import Chest
from dunechest.chest.editions import current_files
from dunechest.chest.layout import LIBRARY_FILES, OUTSIDE_FILES
from dunechest.chest.origin import origin_of
from dunechest.chest.records import LibraryRecord
from dunechest.errors import DuneChestError
from dunechest.findings import Finding
from dunechest.jobs.archive.planning.lineage import states_here
from dunechest.jobs.archive.planning.unseen import Unseen
from dunechest.ledger.catalogue import open_catalogue
from dunechest.ledger.catalogue_rows import CURRENT
from dunechest.ledger.ledger import Holding, open_ledger
from dunechest.ledger.memory import tied_to
from dunechest.library.library import Library
from dunechest.model.archive import CarriedFile
from dunechest.model.findings import finding_of
from dunechest.names import from_wire, shown
from dunechest.words import day

#: Bytes, time in ns, and the beginning of the BLAKE3 digest (hexadecimal).
Facts = tuple[int, int, str]
UnseenOf = Callable[[LibraryRecord], Unseen]


class Newest(msgspec.Struct, frozen=True):
    """The newest state that is known of a library.

    Parameters
    ----------
    label, bag : str
        The chest that has it, and its name there.
    edition : int
        Its number there.
    archived : float
        When it was archived, in seconds since 1970.
    files : dict
        Its files, by their own paths below ``library/`` and ``outside/``.
    exact : bool
        Whether their times are known to the nanosecond, and not in seconds.
    unseen : callable
        Whether one of them cannot be seen now.
    """

    label: str
    bag: str
    edition: int
    archived: float
    files: dict[str, Facts]
    exact: bool
    unseen: Callable[[str], bool]

    def coarse(self, mtime_ns: int) -> int:
        """Return a time as exactly as it is known."""
        return mtime_ns if self.exact else mtime_ns // 1_000_000_000

    def lacking(self, carried: Iterable[CarriedFile]) -> list[str]:
        """Return the own paths of files that cannot be seen now and are not kept in the chest that the library goes into."""
        kept = {(OUTSIDE_FILES if item.outside else LIBRARY_FILES) + item.path for item in carried}
        return [key.partition("/")[2] for key in self.files if key not in kept and self.unseen(key)]

    @property
    def in_words(self) -> str:
        """Which state it is."""
        return f"{shown(self.label)}, edition {self.edition}, archived {day(self.archived)}"


def newest_elsewhere(
    library: Library, chest: Chest, own: LibraryRecord | None, unseen_of: UnseenOf, closed: Iterable[str]
) -> Newest | None:
    """Return the newest state that is known of a library, if it is in another chest; None if this one has it.

    Parameters
    ----------
    library : Library
        The library.
    chest : Chest
        The chest that it goes into.
    own : LibraryRecord or None
        Its latest edition there.
    unseen_of : callable
        Gives, for an edition, what tells whether its files cannot be seen now.
    closed : iterable of str
        Paths in the library that cannot be read.
    """
    held = _newest(library, chest, own)
    if held is None:
        return None
    there = _in_chest(held, unseen_of)
    return there if there is not None else _remembered(held, tuple(closed))


def not_in_chest(holder: str, bag: str, lacking: Sequence[str], chest: str) -> Finding:
    """Say that a chest would get an edition without files that another one has and that cannot be seen now.

    Parameters
    ----------
    holder, bag : str
        The label of the chest that has them, and the library's name there.
    lacking : sequence of str
        The files, by their own paths.
    chest : str
        The label of the chest that would lack them.
    """
    one = len(lacking) == 1
    return finding_of(
        "not-in-chest",
        files=len(lacking),
        chest=chest,
        them="it" if one else "them",
        holder=holder,
        first=sorted(lacking)[0],
        they_are="it is" if one else "they are",
        name=bag,
        these_files="this file" if one else "these files",
    )


def _newest(library: Library, chest: Chest, own: LibraryRecord | None) -> Holding | None:
    """Return where the newest state is, by what each follows, and among equals by which was here last."""
    here = states_here(library)
    machine = origin_of(library.path).machine_id
    places = {shown(place) for place in (str(library.path), *tied_to(str(library.path)))}
    try:
        with open_ledger() as ledger:
            expected = {item.id for item in ledger.chests() if item.retired is None}
            every = ledger.holdings()
    except DuneChestError:
        return None
    held = [
        item
        for item in every
        if item.chest in expected - {chest.id}
        and not (item.gone or item.partial)
        and ((item.machine == machine and item.origin in places) or (item.state and item.state in here))
    ]
    if not held:
        return None
    order = list(here)
    followed = {state for item in held for state in item.follows.split()}
    newest = max(
        held,
        key=lambda item: (
            order.index(item.state) if item.state in here else -1,
            item.state not in followed,
            item.archived,
        ),
    )
    if own is None:
        return newest
    if own.state in here and (newest.state not in here or order.index(own.state) >= order.index(newest.state)):
        return None
    if own.state == newest.state or newest.state in own.follows:
        return None
    return newest


def _in_chest(held: Holding, unseen_of: UnseenOf) -> Newest | None:
    """Read a state in its chest, if that is connected."""
    with open_ledger() as ledger:
        known = next((item for item in ledger.chests() if item.id == held.chest), None)
    if known is None or known.address or not known.folder.is_dir():
        return None
    try:
        chest = Chest.open(known.folder, finish=False)
        entry = chest.bag(held.bag)
        record = entry.library
        if chest.id != held.chest or record is None:
            return None
        files = dict(_files(entry, record))
    except (DuneChestError, OSError):
        return None
    unseen = unseen_of(record)
    names = {LIBRARY_FILES + from_wire(item.path): LIBRARY_FILES + item.stored for item in record.changed_names}
    names |= {OUTSIDE_FILES + from_wire(item.path): item.stored for item in record.outside_files}

    def is_unseen(key: str) -> bool:
        return unseen.file(names.get(key, key), 0) is not None

    return Newest(chest.label, entry.name, record.edition, held.archived, files, True, is_unseen)


def _files(entry: BagEntry, record: LibraryRecord) -> Iterator[tuple[str, Facts]]:
    own = {LIBRARY_FILES + item.stored: LIBRARY_FILES + from_wire(item.path) for item in record.changed_names}
    own |= {item.stored: OUTSIDE_FILES + from_wire(item.path) for item in record.outside_files}
    for path, (size, mtime_ns, digest) in current_files(entry.records).brief():
        yield own.get(path, path), (size, mtime_ns, digest.hex())


def _remembered(held: Holding, closed: tuple[str, ...]) -> Newest | None:
    """Return a state as the catalogue remembers it."""
    files: dict[str, Facts] = {}
    try:
        with open_ledger() as ledger:
            label = next((item.label for item in ledger.chests() if item.id == held.chest), held.chest)
        with open_catalogue() as catalogue:
            key = next((k for k in catalogue.bags() if (k.chest, k.bag) == (held.chest, held.bag)), None)
            for row in catalogue.rows_of(key) if key is not None else ():
                if row.last == CURRENT:
                    path = f"{row.folder}/{row.name}" if row.folder else row.name
                    prefix = OUTSIDE_FILES if os.path.isabs(path) else LIBRARY_FILES
                    digest = row.digest.to_bytes(8, "big", signed=True).hex()
                    files[prefix + path] = row.size, row.mtime * 1_000_000_000, digest
    except DuneChestError:
        return None

    def is_unseen(path: str) -> bool:
        if path.startswith(OUTSIDE_FILES):
            return not os.path.isdir(os.path.dirname(path.removeprefix(OUTSIDE_FILES)))
        own = path.removeprefix(LIBRARY_FILES)
        return any(own == folder or own.startswith(folder + "/") for folder in closed)

    return Newest(label, held.bag, held.edition, held.archived, files, False, is_unseen) if files else None
