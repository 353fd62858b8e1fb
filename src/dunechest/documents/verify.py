"""Documents of ``verify``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

import msgspec

from dunechest.documents.base import Bytes, Count, Document
from dunechest.documents.common import DamagedRecord
from dunechest.documents.release import ReleasedDrive


class VerifiedLibrary(Document):
    """What verification says of a library or bag: so many files are intact, and those in `problems` are not.

    `file_count` and `record_count` are what was looked at: the library's files, and the archive's own records;
    `earlier_file_count` files are kept for earlier editions alone.
    """

    name: str
    kind: str
    ok: bool
    file_count: Count
    earlier_file_count: Count
    record_count: Count
    size_bytes: Bytes
    intact_count: Count
    remaining_count: Count
    problems: list[DamagedRecord]
    seconds: float

    _sources: ClassVar[Mapping[str, str]] = {
        "name": "bag",
        "ok": "well",
        "file_count": "payload",
        "earlier_file_count": "earlier",
        "record_count": "records",
        "size_bytes": "bytes",
        "intact_count": "intact",
        "remaining_count": "remaining",
        "problems": "states",
    }


class Verify(Document):
    """What verification says of a chest or bag."""

    libraries: list[VerifiedLibrary]
    path: str
    quick: bool
    released_drives: list[ReleasedDrive] = msgspec.field(default_factory=list)

    _sources: ClassVar[Mapping[str, str]] = {"libraries": "checks", "path": "place"}
