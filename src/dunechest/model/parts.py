"""What several values have in common: they are about a library, or they need room on a drive."""

from __future__ import annotations

from pathlib import Path

from dunechest.library.library import Library
from dunechest.model.study import Room


class OfLibrary:
    """Something that is told of a library."""

    __slots__ = ()

    library: Library

    @property
    def name(self) -> str:
        """What the library is called."""
        return self.library.name

    @property
    def kind(self) -> str:
        """Name of its kind."""
        return self.library.kind.name

    @property
    def path(self) -> Path:
        """Where it is."""
        return self.library.path

    @property
    def evidence(self) -> tuple[str, ...]:
        """What it was recognised by."""
        return self.library.evidence


class NeedsRoom:
    """A plan to bring something to a drive."""

    __slots__ = ()

    room: Room

    @property
    def needed_bytes(self) -> int:
        """Bytes that it needs there."""
        return self.room.need

    @property
    def free_bytes(self) -> int:
        """Bytes that are free there."""
        return self.room.free
