"""Something in a chest's ``bags/``: whose it is, and in which state."""

from __future__ import annotations

import os
from pathlib import Path

import msgspec

from dunechest.chest.bag_records import BagRecords
from dunechest.chest.layout import DUNE, EARLIER, EDITIONS, FILES, LIBRARY, OF_A_WHOLE_BAG, PENDING, TAGS
from dunechest.chest.records import LibraryRecord
from dunechest.paths import is_link
from dunechest.transfer.closed import is_administrator


class BagEntry(msgspec.Struct, frozen=True, eq=False):
    """Something in ``bags/``.

    `state` is ``whole``; ``damaged`` (of ours, and the record of the library is not proven);
    ``unfinished`` (an archive was interrupted before it was whole); ``foreign`` (a bag
    that is not of this library's making) or ``unusable``; `why` says more. `closed` says that this user may not read it, so
    that nothing is known of it.
    """

    name: str
    folder: Path
    state: str
    library: LibraryRecord | None = None
    why: str = ""
    _records: BagRecords | None = None
    closed: bool = False

    @property
    def is_ours(self) -> bool:
        """Whether it is a real folder with records of Dune Chest in it."""
        return not is_link(self.folder) and (self.folder / DUNE).is_dir()

    @property
    def records(self) -> BagRecords:
        """The records of the bag."""
        return self._records if self._records is not None else BagRecords(self.folder)


def closed_in(folder: Path) -> Path | None:
    """Return a folder or record of a bag that this user may not read; None if there is none."""
    if is_administrator():
        return None
    for name in ("", DUNE, LIBRARY, TAGS, FILES, *OF_A_WHOLE_BAG[1:]):
        place = folder / name if name else folder
        if not os.access(place, os.R_OK | (os.X_OK if place.is_dir() else 0)) and os.path.lexists(place):
            return place
    return None


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
