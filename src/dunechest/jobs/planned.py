"""What an archive plan is made of: the files to copy, and the databases to capture."""

from __future__ import annotations

from dataclasses import dataclass

import msgspec

from dunechest.chest.layout import LIBRARY_FILES
from dunechest.library.roles import Role
from dunechest.transfer.walk import FileEntry


class PlannedFile(msgspec.Struct, frozen=True, gc=False):
    """A file to archive: as the walk saw it, its role, and its path below ``data/`` where that is another.

    The path in `entry` is the library's own, or for a stray the full one.
    """

    entry: FileEntry
    role: Role
    other_name: str = ""
    stray: bool = False

    @property
    def stored(self) -> str:
        """Path below ``data/``; of half a million files it is made when it is asked for."""
        return self.other_name or LIBRARY_FILES + self.entry.path


@dataclass(frozen=True, slots=True)
class PlannedDatabase:
    """A database to capture, its path below ``data/``, and the companions whose content comes along."""

    file: PlannedFile
    companions: tuple[PlannedFile, ...]
