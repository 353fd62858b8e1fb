"""What another chest was just given of the same library.

A second chest gets its bytes from there: so the library is read once, and both have the same state of it.
"""

from __future__ import annotations

import os

import msgspec

from dunechest.chest.bag_records import BagRecords
from dunechest.chest.chest import Chest
from dunechest.chest.editions import current_files
from dunechest.chest.file_table import FileTable
from dunechest.chest.layout import DATA, LIBRARY_FILES
from dunechest.errors import DuneChestError
from dunechest.model.archive import PlannedDatabase, PlannedFile
from dunechest.names import from_wire


class Supplied(msgspec.Struct, frozen=True):
    """The current edition of a bag that holds the library as it is.

    Parameters
    ----------
    own : BagRecords
        The bag.
    files : FileTable
        Its files.
    names : dict
        Paths in the library that have another name there, and that name below ``data/``; and the full paths of outside
        files.
    databases : dict
        Bytes and time of the originals of captured databases, by path in the library.
    """

    own: BagRecords
    files: FileTable
    names: dict[str, str]
    databases: dict[str, tuple[int, int]]

    def source(self, file: PlannedFile) -> tuple[bytes, str] | None:
        """Return where the bytes of a file lie, and their BLAKE3 (hexadecimal); None if they are not there unchanged."""
        path = self._stored(file)
        proven = self.files.get(path)
        if proven is None or file.entry.path in self.databases:
            return None
        if (proven.record.size, proven.record.mtime_ns) != (file.entry.size, file.entry.mtime_ns):
            return None
        return os.fsencode(self.own.at(DATA + path)), proven.record.blake3

    def captured(self, database: PlannedDatabase) -> tuple[bytes, str, int] | None:
        """Return where a captured database lies, its BLAKE3 and bytes; None if it was not captured in this state."""
        entry = database.file.entry
        path = self._stored(database.file)
        proven = self.files.get(path)
        if proven is None or self.databases.get(entry.path) != (entry.size, entry.mtime_ns):
            return None
        return os.fsencode(self.own.at(DATA + path)), proven.record.blake3, proven.record.size

    def _stored(self, file: PlannedFile) -> str:
        if file.outside_file:
            return self.names.get(file.entry.path, "")
        return self.names.get(file.entry.path) or LIBRARY_FILES + file.entry.path


def supplied_by(chest: Chest, bag: str) -> Supplied | None:
    """Return what a chest has of a library; None if its records are not intact."""
    own = BagRecords(chest.bag_folder(bag))
    try:
        record = own.library()
        files = current_files(own)
    except DuneChestError:
        return None
    names = {from_wire(item.path): LIBRARY_FILES + item.stored for item in record.changed_names}
    names |= {from_wire(item.path): item.stored for item in record.outside_files}
    databases = {from_wire(item.path): (item.size, item.mtime_ns) for item in record.databases}
    return Supplied(own, files, names, databases)
