"""What the editions that stay need: files, and archives of pieces."""

from __future__ import annotations

import msgspec

from dunechest.chest import editions, pieces
from dunechest.chest.bag_records import BagRecords
from dunechest.chest.pieces import Kept


class Archives(msgspec.Struct, frozen=True):
    """Archives of pieces: those that stay and that go, by digest of the whole, and the files that are their bases."""

    kept: dict[str, Kept]
    dropped: dict[str, Kept]
    bases: frozenset[str]

    @property
    def paths(self) -> set[str]:
        """Paths of all of them."""
        return {item.path for item in (*self.kept.values(), *self.dropped.values())}


def archives_of(own: BagRecords, needed: set[str]) -> Archives:
    """Tell the archives of pieces that stay from those that go."""
    every = editions.places_of_bytes(own, []).pieces
    kept = {digest: item for digest, item in every.items() if digest in needed}
    dropped = {digest: item for digest, item in every.items() if digest not in needed}
    bases = frozenset(pieces.base_of(item, every) for item in kept.values())
    return Archives(kept, dropped, bases)


def needed_digests(own: BagRecords, current: int, kept: tuple[int, ...]) -> set[str]:
    """Return the digests of all files of the editions that stay."""
    files = {path: proven.record for path, proven in editions.current_files(own).items()}
    needed = {file.blake3 for file in files.values()}
    for number in reversed(own.numbers(current)[:-1]):
        editions.step_back(files, editions.changes_of(own, number))
        if number in kept:
            needed.update(file.blake3 for file in files.values())
    return needed
