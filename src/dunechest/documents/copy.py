"""Documents of ``copy``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

import msgspec

from dunechest.documents.base import Bytes, Count, Document
from dunechest.documents.common import PathAndWhy
from dunechest.documents.envelope import ChestName, Finding
from dunechest.documents.release import ReleasedDrive


class FromElsewhere(Document):
    """A file that was not intact in the source, and the label of the chest that it came from instead."""

    path: str
    label: str


class CopiedLibrary(Document):
    """What was copied of a library.

    `state` is ``new``, ``next``, ``unchanged``, ``newer`` (the target has a newer state), ``foreign`` or ``barred``. Of the
    copied files, `resumed_count` came from a run that was interrupted.
    """

    name: str
    state: str
    ok: bool
    editions: list[int]
    edition: int
    copied_count: Count
    copied_bytes: Bytes
    resumed_count: Count
    file_count: Count
    size_bytes: Bytes
    from_other_chests: list[FromElsewhere]
    missing_files: list[PathAndWhy]
    findings: list[Finding]

    _sources: ClassVar[Mapping[str, str]] = {
        "name": "bag",
        "ok": "well",
        "copied_count": "files",
        "copied_bytes": "bytes",
        "resumed_count": "resumed",
        "file_count": "total_files",
        "size_bytes": "total_bytes",
        "from_other_chests": "from_elsewhere",
        "missing_files": "not_copied",
    }


class Copy(Document):
    """The libraries that were copied, and the chest that they were copied to."""

    libraries: list[CopiedLibrary]
    target: ChestName
    released_drives: list[ReleasedDrive] = msgspec.field(default_factory=list)


class LibraryToCopy(Document):
    """What copying a library would do."""

    name: str
    state: str
    editions: list[int]
    copy_count: Count
    copy_bytes: Bytes
    needed_bytes: Bytes
    free_bytes: Bytes
    findings: list[Finding]

    _sources: ClassVar[Mapping[str, str]] = {
        "name": "bag",
        "copy_count": "files",
        "copy_bytes": "bytes",
        "needed_bytes": "room.need",
        "free_bytes": "room.free",
    }


class Traffic(Document):
    """Bytes that go to a server and come from it, and requests, as reckoned."""

    sent_bytes: Bytes
    received_bytes: Bytes
    request_count: Count

    _sources: ClassVar[Mapping[str, str]] = {
        "sent_bytes": "sent",
        "received_bytes": "received",
        "request_count": "requests",
    }


class Costs(Document):
    """What a chest on a server costs: to copy now, a month if 1 % of it changes, and to check every byte once."""

    now: Traffic
    monthly: Traffic
    check: Traffic


class CopyPlanned(Document):
    """What copying would do, and whether it would be refused; `costs` is null if the target is on a drive."""

    libraries: list[LibraryToCopy]
    target: ChestName
    would_run: bool
    costs: Costs | None
