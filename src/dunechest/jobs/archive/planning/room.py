"""How much room an edition needs on a drive."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import NamedTuple

from dunechest.chest.chest import Chest
from dunechest.chest.layout import PENDING
from dunechest.machine.drives import Filesystem
from dunechest.model.archive import Difference, PlannedDatabase, PlannedFile
from dunechest.transfer.walk import Walk, each_file


def already_there(chest: Chest, bag: str) -> int:
    """Count what an interrupted run has left on the drive: it is taken up again, or cleared away."""
    pending = chest.bag_folder(bag) / PENDING
    return sum(file.size for file in each_file(str(pending)))


class Recorded(NamedTuple):
    """What the records of the edition are about: so many files, and so many characters for their paths in both lists."""

    files: int
    characters: int


def need_of(
    files: Iterable[PlannedFile],
    databases: Iterable[PlannedDatabase],
    listing: Walk,
    place: Filesystem,
    recorded: Recorded,
    previous: Difference | None,
    data: Mapping[str, int],
) -> int:
    """Count what the drive will give up: whole blocks, records, folders, and what the filesystem keeps for itself.

    `recorded` files have lines in the records, whether they are copied or are there already. The new records lie beside
    the ones before until these are replaced. `data` says how many bytes files with holes take, by path below ``data/``.
    """
    block = max(512, place.block)
    total = 0
    lines = 4096
    every = list(files)
    passing = 0
    for database in databases:
        every.append(database.file)
        with_log = database.file.entry.size + sum(c.entry.size for c in database.companions)
        passing = max(passing, 2 * (-(-with_log // block)) * block)
        every += database.companions
    for file in every:
        total += -(-data.get(file.stored_as, file.entry.size) // block) * block
        # An entry in a folder, and the filesystem's own note of the file.
        lines += len(file.stored_as) + 512
    for link in listing.links:
        lines += len(link.path) + len(link.target) + 100
    # A line in each of the two lists (with a digest of 64 and of 128 digits), one in the record of the edition for each
    # folder.
    lines += recorded.characters + 360 * recorded.files + sum(len(f.path) + 80 for f in listing.folders)
    if previous is not None:
        # What changed is told once more: in the list of changes, in the lists of tag files, and twice in the journal.
        lines += sum(4 * len(file.stored_as) + 700 for file in every)
        lines += sum(4 * len(path) + 700 for path in previous.dropped)
    total += len(listing.folders) * block + 16 * block + lines + passing
    return total + total // 200
