"""What a chest holds of a library, and how the library's own paths are found in it."""

from __future__ import annotations

from pathlib import Path

import msgspec

from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.chest import Chest
from dunechest.chest.editions import current_files
from dunechest.chest.file_table import FileTable
from dunechest.chest.layout import DATA_FOLDER, LIBRARY_FILES
from dunechest.chest.records import CapturedDatabase, LibraryRecord
from dunechest.errors import ChestUnusableError
from dunechest.library.formats.sqlite import COMPANIONS
from dunechest.names import from_wire
from dunechest.transfer.walk import FileEntry, entry_of


class Held(msgspec.Struct, frozen=True):
    """A library in a chest: its entry and record, its files by path below ``data/``, and how the library's paths map to them."""

    chest: Chest
    entry: BagEntry
    record: LibraryRecord
    files: FileTable
    stored: dict[str, str]
    captured: dict[str, CapturedDatabase]

    def stored_at(self, path: str) -> str:
        """Return the path below ``data/`` of a file of the library."""
        return LIBRARY_FILES + self.stored.get(path, path)

    def has(self, file: FileEntry) -> bool:
        """Whether it holds a file of the library as it is now, by size and time."""
        known = self.captured.get(file.path)
        if known is not None:
            return (file.size, file.mtime_ns) == (known.size, known.mtime_ns)
        ending = next((ending for ending in COMPANIONS if file.path.endswith(ending)), "")
        if ending and (database := self.captured.get(file.path.removesuffix(ending))) is not None:
            then = {from_wire(item.path): (item.size, item.mtime_ns) for item in database.companions}
            return not file.size or ending == "-shm" or then.get(file.path) == (file.size, file.mtime_ns)
        proven = self.files.get(self.stored_at(file.path))
        return proven is not None and (proven.record.size, proven.record.mtime_ns) == (file.size, file.mtime_ns)

    def digest_of(self, path: str) -> bytes | None:
        """Return the BLAKE3 digest of a file of the library, None if its bytes are not the library's own."""
        proven = self.files.get(self.stored_at(path)) if path not in self.captured else None
        return bytes.fromhex(proven.record.blake3) if proven is not None else None

    def bytes_at(self, stored: str) -> tuple[Path, int, bytes] | None:
        """Return where a file below ``data/`` lies, its bytes, and the BLAKE3 digest that these have; None if there is none."""
        proven = self.files.get(stored)
        if proven is None:
            return None
        return self.entry.folder / DATA_FOLDER / stored, proven.record.size, bytes.fromhex(proven.record.blake3)


def held_of(chest: Chest, entry: BagEntry) -> Held:
    """Return what a bag holds.

    Raises
    ------
    DuneChestError
        If its records are not proven.
    """
    record = entry.library
    if record is None:
        raise ChestUnusableError(entry.why or entry.state)
    names = {from_wire(item.path): item.stored for item in record.changed_names}
    captured = {from_wire(item.path): item for item in record.databases}
    return Held(chest, entry, record, current_files(entry.records).frozen(), names, captured)


def as_copied(place: Path, file: FileEntry) -> bool:
    """Whether a file in the library has the size and time of the one that was moved there."""
    now = entry_of(str(place / file.path))
    return now is not None and now.size == file.size and abs(now.mtime_ns - file.mtime_ns) < _step(now.mtime_ns)


def _step(time_ns: int) -> int:
    """Return in what steps (ns) a drive may keep times, by one of them: whole seconds, hundredths, or finer."""
    if time_ns % 1_000_000_000 == 0:
        return 2_000_000_001
    return 10_000_001 if time_ns % 10_000_000 == 0 else 101
