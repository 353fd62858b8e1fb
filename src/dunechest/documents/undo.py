"""Documents of ``undo``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

from dunechest.documents.base import Document, Moment


class UndoAction(Document):
    """One thing that undoing does: to what, and what."""

    path: str
    what: str


class UndoneChange(Document):
    """The change of one library that is undone: what the command was, where and when."""

    name: str
    job: str
    path: str
    changed_at: Moment

    _sources: ClassVar[Mapping[str, str]] = {
        "name": "head.about",
        "job": "head.job",
        "path": "head.place",
        "changed_at": "head.when",
    }


class Undo(Document):
    """What was undone, or with `done` false what would be; `changed_since` forbids it."""

    libraries: list[UndoneChange]
    actions: list[UndoAction]
    changed_since: list[str]
    only_references: bool
    done: bool = False

    _sources: ClassVar[Mapping[str, str]] = {
        "libraries": "deeds",
        "changed_since": "changed",
    }
