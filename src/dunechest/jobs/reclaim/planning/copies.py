"""The copies of a library in the chests that are connected now: what each holds, and whether it may be relied on.

Nothing that was remembered makes a copy: its records are proven, its files are there in their sizes, and some of them are
read. Only that every byte was found intact since it was archived, and that it passed a drill, is remembered, and is asked
for again where it is not.
"""

from __future__ import annotations

import os
from collections.abc import Collection, Iterator, Sequence
from pathlib import Path

import msgspec
from msgspec.structs import replace

from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.chest import Chest
from dunechest.chest.editions import current_files
from dunechest.chest.file_table import FileTable
from dunechest.chest.layout import DATA_FOLDER, LIBRARY_FILES
from dunechest.chest.origin import came_from
from dunechest.chest.payload import lost_in
from dunechest.chest.records import CapturedDatabase, LibraryRecord, when
from dunechest.errors import DuneChestError
from dunechest.jobs.chests import show_chest
from dunechest.jobs.known_chests import ChestStatus, list_chests
from dunechest.jobs.reclaim.plan import Evidence
from dunechest.ledger.ledger import PastCheck, open_ledger
from dunechest.library.formats.sqlite import COMPANIONS
from dunechest.machine.drives import drive_identity
from dunechest.machine.volumes import identity
from dunechest.names import from_wire, shown
from dunechest.transfer.digest_files import digest_files
from dunechest.transfer.tasks import DigestTask
from dunechest.transfer.walk import FileEntry
from dunechest.words import number


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

    def place_of(self, path: str) -> Path:
        """Return where a file of the library lies in the chest."""
        return self.entry.folder / DATA_FOLDER / self.stored_at(path)


def copies_of(place: Path, parts: Collection[str]) -> Iterator[tuple[Evidence, Held | None]]:
    """Yield the copies of a library in the chests that are connected, and what each holds; None if that is not known.

    Parameters
    ----------
    place : Path
        The library's folder.
    parts : collection of str
        Names of the parts that have to be in it; the whole library if empty.
    """
    for status in list_chests().chests:
        if not status.present or status.retired is not None:
            continue
        try:
            chest = Chest.open(status.folder)
            entries = [entry for entry in chest.bags() if _is_copy(entry, place, parts)]
            shown_ = show_chest(chest) if entries else None
        except (DuneChestError, OSError):
            continue
        for entry in entries:
            assert shown_ is not None
            drilled = shown_.drills[entry.name].when if entry.name in shown_.proven else None
            yield _evidence(chest, entry, status, drilled)


def _is_copy(entry: BagEntry, place: Path, parts: Collection[str]) -> bool:
    record = entry.library
    if record is None or not came_from(record, place):
        return False
    return not record.partial or (bool(parts) and set(parts) <= set(record.partial))


def _evidence(
    chest: Chest, entry: BagEntry, status: ChestStatus, drilled: float | None
) -> tuple[Evidence, Held | None]:
    record = entry.library
    assert record is not None
    archived = when(record.archived)
    found = Evidence(
        chest.label, chest.id, entry.name, chest.folder, record.edition, archived,
        _checked(chest, entry.name, archived), drilled, "", drive_identity(chest.folder), status.place,
    )  # fmt: skip
    faults = (*chest.faults, *entry.records.faults())
    if faults:
        return replace(found, why_not=f"its record {shown(faults[0].path)} is damaged"), None
    if chest.unfinished.get(entry.name) or entry.state != "whole":
        return replace(found, why_not=chest.unfinished.get(entry.name) or entry.why or entry.state), None
    try:
        files = current_files(entry.records).frozen()
    except DuneChestError as error:
        return replace(found, why_not=str(error)), None
    lost = sorted(lost_in(entry.folder, files))
    if lost:
        why = f"{number(len(lost), 'file')} missing or of another size in it, first {shown(lost[0])}"
        return replace(found, why_not=why), None
    names = {from_wire(item.path): item.stored for item in record.changed_names}
    captured = {from_wire(item.path): item for item in record.databases}
    return found, Held(chest, entry, record, files, names, captured)


def _checked(chest: Chest, bag: str, archived: float) -> float | None:
    """Return when every byte was last found intact since it was archived; None if it was not, or something was wrong since."""
    where = identity(chest.folder)
    with open_ledger() as ledger:
        checks = [check for check in ledger.checks(chest.id) if check.bag == bag and _counts(check, where)]
    for check in checks:  # the latest first
        if not check.intact or check.when < archived:
            return None
        if not check.quick:
            return check.when
    return None


def _counts(check: PastCheck, where: str) -> bool:
    return not check.where or not where or check.where == where


def with_missing(evidence: Evidence, held: Held | None, files: Sequence[FileEntry]) -> Evidence:
    """Return a copy with the files of the library that it does not have as they are now."""
    if held is None:
        return evidence
    missing = tuple(file.path for file in files if not held.has(file))
    if not missing:
        return evidence
    why = f"{number(len(missing), 'file')} not in it as they are now, first {shown(missing[0])}"
    return replace(evidence, missing=missing, why_not=why)


def not_identical(held: Sequence[Held], place: Path, files: Sequence[FileEntry]) -> Iterator[tuple[str, str]]:
    """Read files of the library and of its copies; yield those whose bytes differ from the digests, and whose they are.

    Parameters
    ----------
    held : sequence of Held
        The copies.
    place : Path
        The library's folder.
    files : sequence of FileEntry
        The files to read.
    """
    if not held:
        return
    first = held[0]
    wanted = {file.path: digest for file in files if (digest := first.digest_of(file.path)) is not None}
    sizes = {file.path: file.size for file in files}
    yield from ((path, "the library") for path in _differing(place.joinpath, wanted, sizes))
    for copy in held:
        own = {path: digest for path in wanted if (digest := copy.digest_of(path)) is not None}
        yield from ((path, copy.chest.label) for path in _differing(copy.place_of, own, sizes))
        yield from ((path, copy.chest.label) for path, digest in own.items() if digest != wanted[path])


def _differing(at: object, wanted: dict[str, bytes], sizes: dict[str, int]) -> Iterator[str]:
    paths = list(wanted)
    tasks = [DigestTask(os.fsencode(at(path)), sizes[path]) for path in paths]  # type: ignore[operator]
    outcomes = digest_files(tasks, lambda count: None)
    for path, outcome in zip(paths, outcomes, strict=True):
        if outcome.state != "ok" or outcome.digests[0] != wanted[path]:
            yield path
