"""Documents of ``kinds``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

from dunechest.documents.base import Bytes, Count, Document


class KindList(Document):
    """All kinds, each as its kind file says, and the folder of a person's own kind files."""

    kinds: list[dict[str, Any]]
    own_folder: str


class KindShown(Document):
    """One kind, as its kind file says."""

    kinds: list[dict[str, Any]]


class DraftLine(Document):
    """Something seen in a library that becomes lines of its kind file, how sure that is, and why."""

    table: str
    keys: list[Any]
    sureness: str
    why: str


class KindDraft(Document):
    """The draft of a kind file; `file` is where it was written, if anywhere."""

    kind: dict[str, Any]
    text: str
    lines: list[DraftLine]
    file: str | None = None

    _sources: ClassVar[Mapping[str, str]] = {"lines": "observations"}


class KindCheck(Document):
    """Whether a kind file is valid, and its mistakes if not."""

    file: str
    kind: str | None
    mistakes: list[str]


class TriedLine(Document):
    """A line of a kind file, and what it matches in a folder."""

    table: str
    key: str
    value: str
    match_count: Count
    says: str
    examples: list[str]

    _sources: ClassVar[Mapping[str, str]] = {"match_count": "matches"}


class UnnamedFiles(Document):
    """Files that no line of a kind file names, by the ending of their names."""

    ending: str
    file_count: Count
    size_bytes: Bytes


class KindTrial(Document):
    """What each line of a kind file matches in a folder."""

    kind: str
    folder: str
    recognised: bool
    lines: list[TriedLine]
    essential_bytes: Bytes
    rebuildable_bytes: Bytes
    must_not_leave_bytes: Bytes
    unnamed_files: list[UnnamedFiles]

    _sources: ClassVar[Mapping[str, str]] = {
        "kind": "kind.name",
        "essential_bytes": "essential",
        "rebuildable_bytes": "rebuildable",
        "must_not_leave_bytes": "must_not_leave",
        "unnamed_files": "unnamed",
    }


class KindAdded(Document):
    """A kind that is known on this computer now; `instead_of` says what it overrides."""

    kind: str
    file: str
    instead_of: str

    _sources: ClassVar[Mapping[str, str]] = {"kind": "kind.name"}
