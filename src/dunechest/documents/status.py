"""Documents of ``status``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

from dunechest.documents.base import Bytes, Count, Document, Moment
from dunechest.documents.chest import KnownChest
from dunechest.documents.office import OfficeSeen
from dunechest.documents.rehome import RehomedLibrary
from dunechest.documents.routine import RoutineState


class Copy(Document):
    """A copy of a library in a chest; it counts if its `state` is ``safe`` and `not_counted_because` is empty."""

    label: str
    chest_id: str
    archived_as: str
    state: str
    edition: int
    archived_at: Moment | None
    checked_at: Moment | None
    drilled_at: Moment | None
    kept_at_place: str
    not_seen_count: Count
    not_counted_because: str

    _sources: ClassVar[Mapping[str, str]] = {
        "chest_id": "chest",
        "archived_as": "bag",
        "archived_at": "archived",
        "checked_at": "checked",
        "drilled_at": "drilled",
        "kept_at_place": "place",
        "not_seen_count": "carried",
        "not_counted_because": "not_counted",
    }


class ProtectedLibrary(Document):
    """A library, its copies, and whether they are as many as its rule asks for.

    `moved` says where it is if it was moved to a drive; `beside_copies` are on that very drive, and do not count.
    """

    name: str
    kind: str
    computer: str
    path: str
    on_this_computer: bool
    safe: bool
    file_count: Count
    size_bytes: Bytes
    good_copy_count: Count
    wanted_copy_count: Count
    wanted_drive_count: Count
    wanted_place_count: Count
    wanted_day_count: Count
    wanted_drill_day_count: Count | None
    copies: list[Copy]
    moved: RehomedLibrary | None
    beside_copies: list[Copy]

    _sources: ClassVar[Mapping[str, str]] = {
        "beside_copies": "beside",
        "path": "origin",
        "on_this_computer": "here",
        "file_count": "files",
        "size_bytes": "bytes",
        "good_copy_count": "good_count",
        "wanted_copy_count": "rule.copies",
        "wanted_drive_count": "rule.own_drives",
        "wanted_place_count": "rule.places",
        "wanted_drill_day_count": "rule.drill_days",
        "wanted_day_count": "rule.days",
    }


class Unprotected(Document):
    """A library that was found and is in no chest; `computer` has it, empty for this one."""

    name: str
    kind: str
    path: str
    computer: str


class Step(Document):
    """Something to do; `command` is empty where only a person can."""

    message: str
    command: str


class Status(Document):
    """How well each library is protected; `office` is null unless the office was asked.

    `elsewhere_count` are libraries of other computers that are not listed.
    """

    libraries: list[ProtectedLibrary]
    safe: bool
    verdict: str
    unprotected_libraries: list[Unprotected]
    steps: list[Step]
    chests: list[KnownChest]
    moved_libraries: list[RehomedLibrary]
    routines: list[RoutineState]
    office: OfficeSeen | None
    elsewhere_count: Count
    unreadable_entry_count: Count

    _sources: ClassVar[Mapping[str, str]] = {
        "elsewhere_count": "elsewhere",
        "unreadable_entry_count": "unreadable",
        "unprotected_libraries": "unprotected",
        "moved_libraries": "moved",
    }
