"""Documents of ``report``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

from dunechest.documents.base import Bytes, Count, Document, Moment
from dunechest.documents.status import Status


class PastEdition(Document):
    """An edition of a library: when it was archived, what it holds, and what it changed.

    `first` says that there was none before it; then `added_bytes` are all it holds.
    """

    edition: int
    archived_at: Moment | None
    file_count: Count
    size_bytes: Bytes
    first: bool
    added_count: Count
    changed_count: Count
    moved_count: Count
    dropped_count: Count
    added_bytes: Bytes
    mass_change: bool

    _sources: ClassVar[Mapping[str, str]] = {
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


class RoleTotal(Document):
    """Files and bytes of one role in the current edition."""

    role: str
    file_count: Count
    size_bytes: Bytes

    _sources: ClassVar[Mapping[str, str]] = {"file_count": "files", "size_bytes": "bytes"}


class LibraryHistory(Document):
    """The editions of a library in the chest that has the most of them, and its files by role."""

    name: str
    label: str
    archived_as: str
    editions: list[PastEdition]
    roles: list[RoleTotal]

    _sources: ClassVar[Mapping[str, str]] = {"archived_as": "bag"}


class Growth(Document):
    """How many bytes archives had brought to a drive by a moment."""

    archived_at: Moment | None
    size_bytes: Bytes


class DriveRoom(Document):
    """How full a drive was when it was last met, and how it fills.

    `daily_bytes` is what later editions brought to it in a day, null if that is not known yet; `full_at` is when it will
    be full at that pace, null if that is far off.
    """

    label: str
    chest_id: str
    kept_at_place: str
    last_seen_at: Moment | None
    free_bytes: Bytes | None
    total_bytes: Bytes | None
    daily_bytes: Bytes | None
    full_at: Moment | None
    growths: list[Growth]

    _sources: ClassVar[Mapping[str, str]] = {
        "chest_id": "chest",
        "kept_at_place": "place",
        "last_seen_at": "seen",
        "free_bytes": "free",
        "total_bytes": "total",
        "daily_bytes": "daily",
        "full_at": "full",
        "growths": "grown",
    }


class Report(Document):
    """All that a report shows; `path` is the page that was written, null if none was."""

    made_at: Moment
    computer: str
    status: Status
    histories: list[LibraryHistory]
    drives: list[DriveRoom]
    note: str
    path: str | None = None

    _sources: ClassVar[Mapping[str, str]] = {"made_at": "made"}
