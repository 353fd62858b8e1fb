"""Documents of ``compare``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

from dunechest.documents.base import Bytes, Count, Document
from dunechest.documents.common import DamagedRecord


class Difference(Document):
    """A file in which two places differ, and how."""

    path: str
    what: str
    why: str


class Compare(Document):
    """What two places have in common, and what not."""

    first: str
    second: str
    identical_count: Count
    identical_bytes: Bytes
    differences: list[Difference]
    left_out: list[Difference]
    damaged_records: list[DamagedRecord]

    _sources: ClassVar[Mapping[str, str]] = {
        "identical_count": "alike",
        "identical_bytes": "bytes",
        "differences": "unlike",
        "damaged_records": "damage",
    }


class ComparedLibrary(Document):
    """What two chests have of a library: the numbers of its editions in each, and how the current ones compare.

    The numbers say which editions a chest has; `first_only_editions` and `second_only_editions` are those whose content the
    other chest has in none. `files` is null where one of them does not have it, or it cannot be compared; `why` says so.
    """

    name: str
    same: bool
    first_editions: list[int]
    second_editions: list[int]
    first_only_editions: list[int]
    second_only_editions: list[int]
    files: Compare | None
    why: str

    _sources: ClassVar[Mapping[str, str]] = {
        "same": "well",
        "first_only_editions": "first_only",
        "second_only_editions": "second_only",
    }


class CompareChests(Document):
    """What two chests have in common, and what not."""

    libraries: list[ComparedLibrary]
    first: str
    second: str
