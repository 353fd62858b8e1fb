"""Documents of ``computers``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

from dunechest.documents.base import Document, Moment


class MetComputer(Document):
    """A computer that was met in the log of a chest; `whose` is ``mine``, ``not-mine`` or ``unknown``."""

    id: str
    name: str
    whose: str
    met_on_chest: str
    met_at: Moment

    _sources: ClassVar[Mapping[str, str]] = {"met_on_chest": "chest", "met_at": "met"}


class ComputerList(Document):
    """The computers that were met."""

    computers: list[MetComputer]
