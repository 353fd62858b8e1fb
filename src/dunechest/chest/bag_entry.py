"""Something in a chest's ``bags/``: whose it is, and in which state."""

from __future__ import annotations

import os
from pathlib import Path

import msgspec

from dunechest.chest.bag_records import BagRecords
from dunechest.chest.layout import DUNE, EARLIER, EDITIONS, FILES, LIBRARY, OF_A_WHOLE_BAG, PENDING, TAGS
from dunechest.chest.records import LibraryRecord
from dunechest.paths import is_link


class BagEntry(msgspec.Struct, frozen=True, eq=False):
    """Something in ``bags/``.

    `state` is ``whole``; ``damaged`` (of ours, and the record of the library is not proven);
    ``unfinished`` (an archive was interrupted before it was whole); ``foreign`` (a bag
    that is not of this library's making) or ``unusable``; `why` says more.
    """

    name: str
    folder: Path
    state: str
    library: LibraryRecord | None = None
    why: str = ""
    _records: BagRecords | None = None

    @property
    def is_ours(self) -> bool:
        """Whether it is a real folder with records of Dune Chest in it."""
        return not is_link(self.folder) and (self.folder / DUNE).is_dir()

    @property
    def records(self) -> BagRecords:
        """The records of the bag."""
        return self._records if self._records is not None else BagRecords(self.folder)


def of_ours(records: BagRecords) -> bool:
    """Whether Dune Chest made a bag; any one of its records may be what is damaged."""
    names = (TAGS, LIBRARY, FILES, EDITIONS, EARLIER)
    if any(os.path.lexists(records.at(name)) for name in names):
        return True
    return any(path.startswith(DUNE + "/") for path in records.lists.tags)


def never_whole(folder: Path) -> bool:
    """Whether a folder in ``bags/`` holds what an archive leaves that was interrupted before it was whole, and no more."""
    if any(os.path.lexists(folder / name) for name in OF_A_WHOLE_BAG):
        return False
    pending = folder / PENDING
    if pending.is_dir() and not is_link(pending):
        return True
    return {*os.listdir(folder)} <= {DUNE} and not (
        (folder / DUNE).is_dir() and any(name != "pending" for name in os.listdir(folder / DUNE))
    )
