"""Documents of ``places``."""

from __future__ import annotations

from dunechest.documents.base import Document


class MappedPlace(Document):
    """A folder of another computer, and the one that stands for it here; of any computer if `computer` is empty."""

    old: str
    new: str
    computer: str


class PlaceList(Document):
    """The folders that are remembered."""

    places: list[MappedPlace]


class PlacesForgotten(Document):
    """The folders that are no longer remembered."""

    places: list[MappedPlace]
