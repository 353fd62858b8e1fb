"""Documents of ``chest``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

from dunechest.documents.base import Bytes, Count, Document, Moment
from dunechest.documents.common import DamagedRecord


class ChestMade(Document):
    """A chest that was made, or whose own record was."""

    made_at: Moment

    _sources: ClassVar[Mapping[str, str]] = {"made_at": "record.made"}


class KnownChest(Document):
    """A chest that this computer knows, or that is connected.

    `last_seen_by` is the computer of the office that met it last; empty if no office was asked.
    """

    id: str
    label: str
    folder: str
    connected: bool
    last_seen_at: Moment | None
    last_seen_by: str
    free_bytes: Bytes | None
    retired_at: Moment | None
    kept_at_place: str

    _sources: ClassVar[Mapping[str, str]] = {
        "folder": "where",
        "connected": "present",
        "last_seen_at": "seen",
        "last_seen_by": "seen_by",
        "free_bytes": "free",
        "retired_at": "retired",
        "kept_at_place": "place",
    }


class ChestList(Document):
    """The chests, those that are connected first."""

    chests: list[KnownChest]


class ChestRenamed(Document):
    """A chest that has another label now."""

    former_label: str


class ChestKnown(Document):
    """One chest that this computer knows."""

    chests: list[KnownChest]


class LastCheck(Document):
    """The last verification of a library, by this computer."""

    checked_at: Moment
    quick: bool
    intact: bool
    file_count: Count
    problem_count: Count

    _sources: ClassVar[Mapping[str, str]] = {
        "checked_at": "when",
        "file_count": "files",
        "problem_count": "wrong",
    }


class LastDrill(Document):
    """The last drill of a library, by this computer."""

    drilled_at: Moment
    passed: bool
    edition: int

    _sources: ClassVar[Mapping[str, str]] = {"drilled_at": "when"}


class HeldLibrary(Document):
    """What lies in a chest: a library, or another program's bag."""

    name: str
    state: str
    why: str
    kind: str | None
    computer: str | None
    path: str | None
    archived_at: Moment | None
    file_count: Count | None
    size_bytes: Bytes | None
    left_out_count: Count | None
    proven: bool
    last_check: LastCheck | None
    last_drill: LastDrill | None


class UnfinishedChange(Document):
    """A change that was interrupted and could not be finished."""

    name: str
    why: str


class ChestShown(Document):
    """What a chest holds."""

    libraries: list[HeldLibrary]
    made_at: Moment
    filesystem: str
    free_bytes: Bytes
    total_bytes: Bytes
    known_before: bool
    missing_libraries: list[str]
    damaged_records: list[DamagedRecord]
    unfinished_changes: list[UnfinishedChange]
    finished_changes: list[str]

    _sources: ClassVar[Mapping[str, str]] = {
        "libraries": "held",
        "made_at": "chest.record.made",
        "free_bytes": "free",
        "total_bytes": "total",
        "missing_libraries": "missing",
        "damaged_records": "chest.faults",
        "unfinished_changes": "unfinished",
        "finished_changes": "chest.recovered",
    }


class ForgottenLibrary(Document):
    """A library that is no longer expected in a chest."""

    name: str


class ChestForget(Document):
    """What is no longer expected."""

    libraries: list[ForgottenLibrary]
