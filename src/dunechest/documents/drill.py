"""Documents of ``drill``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

from dunechest.documents.base import Document
from dunechest.documents.restore import RestoredLibrary


class DrilledLibrary(Document):
    """Whether a library passed a drill; `result` is what was restored, `why_not` why it could not be tried."""

    name: str
    passed: bool
    why_not: str
    result: RestoredLibrary | None

    _sources: ClassVar[Mapping[str, str]] = {"name": "bag"}


class Drill(Document):
    """The libraries that were drilled."""

    libraries: list[DrilledLibrary]
