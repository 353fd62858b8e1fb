"""Documents of ``release``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

from dunechest.documents.base import Document
from dunechest.documents.envelope import Finding


class DriveUser(Document):
    """A process that uses a drive."""

    process_id: int
    name: str
    path: str

    _sources: ClassVar[Mapping[str, str]] = {"process_id": "pid"}


class ReleasedDrive(Document):
    """Whether a drive may be unplugged; `outcome` is ``released``, ``in-use``, ``flushed``, ``shared`` or ``fixed``."""

    label: str
    chest_id: str
    drive: str
    outcome: str
    may_unplug: bool
    message: str
    users: list[DriveUser]
    other_mount_paths: list[str]
    finished_libraries: list[str]
    findings: list[Finding]
    command: str
    why: str
    seconds: float

    _sources: ClassVar[Mapping[str, str]] = {
        "label": "chest",
        "chest_id": "id",
        "message": "sentence",
        "other_mount_paths": "others",
        "finished_libraries": "finished",
    }


class Release(Document):
    """The drives that were to be released."""

    released_drives: list[ReleasedDrive]
