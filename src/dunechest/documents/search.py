"""Documents of ``search``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

from dunechest.documents.base import Bytes, Count, Document, Moment


class FoundCopy(Document):
    """A copy of a found file, the editions that have it just so, and the command that brings it back.

    `last_seen_by` is the computer of the office that met the chest last; empty if no office was asked.
    """

    label: str
    chest_id: str
    archived_as: str
    first_edition: int
    last_edition: int
    current: bool
    connected: bool
    kept_at_place: str
    restore_command: str
    last_seen_by: str

    _sources: ClassVar[Mapping[str, str]] = {
        "chest_id": "chest",
        "archived_as": "bag",
        "kept_at_place": "place",
        "restore_command": "command",
        "last_seen_by": "seen_by",
    }


class FoundFile(Document):
    """A file that was found, and its copies, the best one first."""

    library: str
    kind: str
    path: str
    size_bytes: Bytes
    modified_at: Moment | None
    copies: list[FoundCopy]

    _sources: ClassVar[Mapping[str, str]] = {"size_bytes": "size", "modified_at": "mtime"}


class Search(Document):
    """The files that were found; with `more`, there are others. So many files of so many chests were searched."""

    files: list[FoundFile]
    more: bool
    known_file_count: Count
    known_chest_count: Count

    _sources: ClassVar[Mapping[str, str]] = {"known_file_count": "known_files", "known_chest_count": "known_chests"}
