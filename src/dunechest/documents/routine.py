"""Documents of ``routine``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

from dunechest.documents.base import Bytes, Document, Moment


class RoutineLibrary(Document):
    """A library of a routine, and where it is."""

    name: str
    path: str

    _sources: ClassVar[Mapping[str, str]] = {"path": "place"}


class RoutineChest(Document):
    """A chest of a routine."""

    label: str
    id: str


class Routine(Document):
    """What runs by itself; no more than `limit_bytes` are read in a second, and after `patience_seconds` it is overdue."""

    name: str
    named_libraries: list[RoutineLibrary]
    kinds: list[str]
    all_libraries_in_home: bool
    chests: list[RoutineChest]
    copy_chests: list[RoutineChest]
    times: list[str]
    verify_seconds: float
    drills_monthly: bool
    retention_rule: str
    only_on_mains: bool
    limit_bytes: Bytes | None
    patience_seconds: float
    notifies: bool
    tell_command: str
    scheduler: str
    added_at: Moment | None

    _sources: ClassVar[Mapping[str, str]] = {
        "named_libraries": "libraries",
        "all_libraries_in_home": "every",
        "copy_chests": "copy_to",
        "times": "when",
        "drills_monthly": "drill",
        "retention_rule": "keep",
        "only_on_mains": "on_mains",
        "notifies": "notify",
        "tell_command": "tell",
        "added_at": "added",
    }


class InstalledFile(Document):
    """What is written for a routine; `path` is empty for what the scheduler is given otherwise."""

    path: str
    text: str


class RoutineInstallation(Document):
    """A routine, the command that its scheduler starts, and whether the scheduler has it."""

    routine: Routine
    command_words: list[str]
    files: list[InstalledFile]
    installed: bool
    scheduler_says: str
    library_paths: list[str]

    _sources: ClassVar[Mapping[str, str]] = {
        "command_words": "command",
        "installed": "taken",
        "scheduler_says": "sentence",
        "library_paths": "libraries",
    }


class RoutineAdded(Document):
    """The routine that was, or would be, added."""

    installation: RoutineInstallation


class RoutineStep(Document):
    """One thing that a routine did, or could not do; `command` decides or sets right."""

    what: str
    outcome: str
    message: str
    chest_label: str
    library: str
    command: str
    codes: list[str]

    _sources: ClassVar[Mapping[str, str]] = {"message": "sentence", "chest_label": "chest"}


class RoutineRun(Document):
    """What a run of a routine did; `message` is what the person is told, empty if nothing is wrong."""

    name: str
    outcome: str
    ok: bool
    begun_at: Moment
    ended_at: Moment
    message: str
    told: bool
    steps: list[RoutineStep]
    absent_labels: list[str]
    waiting_for: str
    failed_ways: list[str]

    _sources: ClassVar[Mapping[str, str]] = {
        "ok": "well",
        "begun_at": "begun",
        "ended_at": "ended",
        "absent_labels": "absent",
        "waiting_for": "wait",
        "failed_ways": "failed_to_tell",
    }


class WaitingRoutine(Document):
    """A routine that is due, and what it waits for."""

    name: str
    why: str


class RoutinesRun(Document):
    """The routines that ran, and those that wait; `busy` if another process was running them already."""

    runs: list[RoutineRun]
    waiting_routines: list[WaitingRoutine]
    busy: bool


class RoutineState(Document):
    """How a routine does: its last run, its next time, and which chests it waits for."""

    name: str
    ok: bool
    routine: Routine | None
    file: str
    last_outcome: str
    last_at: Moment | None
    last_lines: list[str]
    message: str
    command: str
    next_at: Moment | None
    waiting_labels: list[str]
    overdue_labels: list[str]
    running_since_at: Moment | None
    installed: bool
    scheduler_says: str

    _sources: ClassVar[Mapping[str, str]] = {
        "ok": "well",
        "last_outcome": "outcome",
        "last_lines": "lines",
        "waiting_labels": "waiting",
        "overdue_labels": "overdue",
        "running_since_at": "running_since",
        "installed": "taken",
        "scheduler_says": "scheduler",
    }


class RoutineList(Document):
    """All routines."""

    routines: list[RoutineState]


class RoutineRemoved(Document):
    """The routine that was removed, and what was removed of it."""

    name: str
    removed_items: list[str]
