"""What goes into the catalogue, and what is asked of it and answered."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import msgspec

#: Stands for an edition that is the current one: the next archive changes only what it changed.
CURRENT = 0

#: What makes two files the same: folder, name, bytes, time in seconds, digest.
FileKey = tuple[str, str, int, int, int]


class Row(NamedTuple):
    """A file of a bag, and the first and last edition that has it unchanged; the last is `CURRENT` if it still does.

    The first five are what makes two files the same to the catalogue.
    `folder` and `name` are those in the library, or of the place an outside file came from; the time is in seconds.
    """

    folder: str
    name: str
    size: int
    mtime: int
    digest: int
    first: int
    last: int


class BagKey(msgspec.Struct, frozen=True):
    """A bag, and the library in it: `key` is the same for the same library in every chest."""

    chest: str
    bag: str
    key: str
    name: str
    kind: str
    top: str
    edition: int


#: What offices have kept of them has other names.
_KEPT = {
    "edition": "number",
    "archived_at": "archived",
    "file_count": "files",
    "size_bytes": "bytes",
    "added_count": "added",
    "changed_count": "changed",
    "moved_count": "moved",
    "dropped_count": "dropped",
    "added_bytes": "bytes_added",
}


class PastEdition(msgspec.Struct, frozen=True, rename=_KEPT):
    """An edition of a bag: when it was archived (seconds since 1970), its files and bytes, and what it changed.

    `first` says that there was none before it: then its `added_bytes` are all it holds.
    """

    edition: int
    archived_at: float
    file_count: int
    size_bytes: int
    first: bool
    added_count: int
    changed_count: int
    moved_count: int
    dropped_count: int
    added_bytes: int
    mass_change: bool


class PastRole(msgspec.Struct, frozen=True, rename={"file_count": "files", "size_bytes": "bytes"}):
    """Files and bytes that have a role in the current edition of a bag."""

    role: str
    file_count: int
    size_bytes: int


class History(msgspec.Struct, frozen=True):
    """What is known of a bag beside its files."""

    chest: str
    bag: str
    editions: tuple[PastEdition, ...]
    roles: tuple[PastRole, ...]


class Held(msgspec.Struct, frozen=True):
    """In which chest and bag a found file is, in which editions; `edition` is the bag's current one."""

    chest: str
    bag: str
    first: int
    last: int
    edition: int


class Match(msgspec.Struct, frozen=True):
    """A file that was found: the library's name and kind, its path, bytes, time (seconds since 1970), and who has it."""

    library: str
    kind: str
    path: str
    size: int
    mtime: int
    held: tuple[Held, ...]


class Query(msgspec.Struct, frozen=True):
    """What is looked for.

    Parameters
    ----------
    fragments : tuple of str
        Folded texts that are all in the path.
    fits : callable or None
        Says of a folded path whether it is meant; None if the fragments say it all.
    library, kind : str or None
        Name and kind of the library.
    chests : callable
        Says of a chest's id whether its copies count.
    smallest, largest, since, before : int or None
        Bytes, and seconds since 1970.
    digest : int or None
        From `short_digest`.
    """

    fragments: tuple[str, ...] = ()
    fits: Callable[[str], bool] | None = None
    library: str | None = None
    kind: str | None = None
    chests: Callable[[str], bool] = lambda chest: True
    smallest: int | None = None
    largest: int | None = None
    since: int | None = None
    before: int | None = None
    digest: int | None = None
