"""Documents of ``editions``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

from dunechest.documents.base import Bytes, Count, Document, Moment
from dunechest.documents.common import Changes, DamagedRecord


class ChangedFile(Document):
    """A file that changed from an edition to the next; `former_path` is there if it moved."""

    what: str
    path: str
    former_path: str

    _sources: ClassVar[Mapping[str, str]] = {"former_path": "was"}


class Edition(Document):
    """One state of an archived library; `changed_files` are the first hundred."""

    edition: int
    archived_at: Moment
    computer: str
    current: bool
    file_count: Count
    size_bytes: Bytes
    incomplete: bool
    mass_change: bool
    protected: bool
    not_seen_count: Count
    changes: Changes | None
    changed_files: list[ChangedFile]

    _sources: ClassVar[Mapping[str, str]] = {
        "edition": "number",
        "archived_at": "record.archived",
        "computer": "record.origin.machine",
        "file_count": "files",
        "size_bytes": "bytes",
        "incomplete": "record.incomplete",
        "mass_change": "record.mass_change",
        "not_seen_count": "not_seen",
        "changed_files": "named",
    }


class LibraryEditions(Document):
    """The editions of a library, and the bytes that only earlier ones need."""

    name: str
    earlier_bytes: Bytes
    editions: list[Edition]
    damaged_records: list[DamagedRecord]

    _sources: ClassVar[Mapping[str, str]] = {"name": "bag", "damaged_records": "damage"}


class EditionsListed(Document):
    """The editions of one library."""

    libraries: list[LibraryEditions]


class DroppedEditions(Document):
    """Which editions are kept and dropped by a rule; `exempt_editions` are kept only because much changed after them."""

    name: str
    rule: str
    kept_editions: list[int]
    dropped_editions: list[int]
    exempt_editions: list[int]
    paths: list[str]
    freed_bytes: Bytes

    _sources: ClassVar[Mapping[str, str]] = {
        "name": "bag",
        "kept_editions": "kept",
        "dropped_editions": "dropped",
        "exempt_editions": "exempt",
        "paths": "files",
        "freed_bytes": "bytes",
    }


class EditionsDropped(Document):
    """What was dropped, or with `done` false what would be."""

    libraries: list[DroppedEditions]
    done: bool
