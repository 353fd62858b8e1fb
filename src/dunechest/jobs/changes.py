"""In what a library differs from its latest edition in a chest, by names, sizes and times, without opening a file."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path

from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.editions import current_files
from dunechest.chest.file_table import FileTable, Marks, Proven
from dunechest.chest.layout import DATA_FOLDER, LIBRARY_FILES
from dunechest.chest.records import CapturedDatabase, LibraryRecord
from dunechest.findings import Finding
from dunechest.jobs.planned import PlannedDatabase, PlannedFile
from dunechest.jobs.study.selection import Selection
from dunechest.ledger.folder import state_folder
from dunechest.library.library import Library
from dunechest.machine.identity import this_machine
from dunechest.names import from_wire
from dunechest.transfer.digest_files import digest_files
from dunechest.transfer.tasks import DigestTask
from dunechest.transfer.walk import FileEntry, each_file
from dunechest.words import number

#: From this share of an edition's files on, their vanishing or changing at once is a surprise,
_LARGE_SHARE = 0.5
#: where they are at least so many;
_ENOUGH = 20
#: or, of a small library, so many that nearly all of it changed or went,
_FEW = 8
_NEARLY_ALL = 0.8
#: or so many that went.
_GONE = 5
#: Of files that only have other times so many are read, to see whether they changed at all.
_SAMPLE = 16


@dataclass(frozen=True, slots=True)
class Difference:
    """In what a library differs from its latest edition.

    Parameters
    ----------
    record : LibraryRecord
        The latest edition.
    files : Shelf
        Its payload, by path below ``data/``.
    kept, kept_databases : tuple
        What is just as it was: it is not read.
    to_read, to_capture : tuple
        What is new, or has another size or time.
    dropped : tuple of str
        Paths below ``data/`` of what is no longer there.
    others : tuple of str
        Links, folders and modes that differ; no bytes are concerned.
    lost : tuple
        Of what is kept, files that the chest does not have any more, or not in their size.
    """

    record: LibraryRecord
    files: FileTable
    kept: tuple[PlannedFile, ...]
    kept_databases: tuple[PlannedDatabase, ...]
    to_read: tuple[PlannedFile, ...]
    to_capture: tuple[PlannedDatabase, ...]
    dropped: tuple[str, ...]
    others: tuple[str, ...]
    lost: tuple[PlannedFile, ...] = ()

    @property
    def none(self) -> bool:
        """Whether there is none at all."""
        return not (self.to_read or self.to_capture or self.dropped or self.others)

    @property
    def paths(self) -> tuple[str, ...]:
        """Every path in which they differ: the library's own, for what is gone the one below ``data/``."""
        changed = {file.entry.path for file in self.to_read} | {db.file.entry.path for db in self.to_capture}
        gone = {path.removeprefix(LIBRARY_FILES) for path in self.dropped}
        return tuple(sorted({*changed, *gone, *self.others}))


def same_library(record: LibraryRecord, library: Library) -> bool:
    """Whether an archived library came from this place of this machine."""
    machine = this_machine(state_folder())
    return record.origin.machine_id == machine.id and from_wire(record.origin.path) == str(library.path)


def difference(
    entry: BagEntry,
    files: Iterable[PlannedFile],
    databases: Iterable[PlannedDatabase],
    selection: Selection,
) -> Difference:
    """Compare what is to be archived with a bag's current edition.

    Parameters
    ----------
    entry : BagEntry
        The bag.
    files, databases : iterable
        What is to be archived now.
    selection : Selection
        Where it comes from, with links and folders.

    Raises
    ------
    DuneChestError
        If the bag's records cannot be relied on.
    """
    record = entry.library
    assert record is not None
    then = current_files(entry.records)
    captured = {from_wire(one.path): one for one in record.databases}
    own_names = {from_wire(stray.path): stray.stored for stray in record.strays}
    kept, to_read, kept_databases, to_capture = [], [], [], []
    gone = lost_in(entry.folder, then)
    lost: list[PlannedFile] = []
    others: list[str] = []
    wanted = Marks(then)
    for file in files:
        wanted.add(file.stored)
        if _unchanged(file, then, captured, own_names):
            kept.append(file)
            if file.stored in gone:
                lost.append(file)
            if then[file.stored].record.mode != file.entry.mode:
                others.append(file.entry.path)
        else:
            to_read.append(file)
    for database in databases:
        path, stored = database.file.entry.path, database.file.stored
        one = captured.get(path)
        wanted.add(stored)
        # One that SQLite could not capture was copied like any other, its companions beside it.
        plain = one is None and stored in then
        if one is not None and stored in then and stored not in gone and _same_database(one, database):
            kept_databases.append(database)
        elif plain and all(_unchanged(f, then, captured, own_names) for f in (database.file, *database.companions)):
            kept += [database.file, *database.companions]
            lost += [one_file for one_file in (database.file, *database.companions) if one_file.stored in gone]
            for companion in database.companions:
                wanted.add(companion.stored)
        else:
            to_capture.append(database)
    listing = selection.listing
    for before, now in (
        (
            {from_wire(link.path): from_wire(link.target) for link in record.links},
            {link.path: link.target for link in listing.links},
        ),
        (
            {from_wire(folder.path): folder.mode for folder in record.folders},
            {folder.path: folder.mode for folder in listing.folders},
        ),
    ):
        others += [path for path in {*before, *now} if before.get(path) != now.get(path)]
    return Difference(
        record,
        then,
        tuple(kept),
        tuple(kept_databases),
        tuple(to_read),
        tuple(to_capture),
        tuple(sorted(wanted.others())),
        tuple(sorted(others)),
        tuple(lost),
    )


def is_there(bag: Path, path: str, size: int) -> bool:
    """Whether a file lies in a bag in the size that was recorded."""
    try:
        info = (bag / DATA_FOLDER / path).lstat()
    except OSError:
        return False
    return stat.S_ISREG(info.st_mode) and info.st_size == size


def lost_in(bag: Path, files: FileTable) -> set[str]:
    """Return the paths below ``data/`` of what should lie in a bag and is not there, or has another size."""
    marks = Marks(files)
    for entry in each_file(str(bag / DATA_FOLDER)):
        if entry.path in files and files.size(entry.path) == entry.size:
            marks.add(entry.path)
    return set(marks.others())


def _unchanged(
    file: PlannedFile,
    then: Mapping[str, Proven],
    captured: Mapping[str, CapturedDatabase],
    own_names: Mapping[str, str],
) -> bool:
    proven = then.get(file.stored)
    if proven is None or file.entry.path in captured:
        return False
    # The name of a stray in the chest says little; where it came from counts.
    if file.stray and own_names.get(file.entry.path) != file.stored:
        return False
    return (proven.record.size, proven.record.mtime_ns) == (file.entry.size, file.entry.mtime_ns)


def _same_database(one: CapturedDatabase, database: PlannedDatabase) -> bool:
    """Whether the file a captured database came from is as it was, and its log; an empty one says as much as none."""
    entry = database.file.entry
    if (entry.size, entry.mtime_ns) != (one.size, one.mtime_ns):
        return False
    then = {from_wire(c.path): (c.size, c.mtime_ns) for c in one.companions if _speaks(from_wire(c.path), c.size)}
    now = {c.entry.path: (c.entry.size, c.entry.mtime_ns) for c in database.companions if _counts(c.entry)}
    return then == now


def _counts(entry: FileEntry) -> bool:
    return _speaks(entry.path, entry.size)


def _speaks(path: str, size: int) -> bool:
    """Whether a companion of a database can hold anything: its index holds nothing that matters."""
    return size > 0 and not path.endswith("-shm")


def mass_change(found: Difference, library: Library, selection: Selection) -> list[Finding]:
    """Stop if a large share of the files vanished or changed at once, as after a mistake or a malicious encryption.

    What was only left out by choice, or has gone to another name, does not count.
    """
    before = found.files
    gone = set(found.dropped)
    # Only of what is no longer taken it matters whether it is still there.
    present = {path for file in selection.listing.files if gone and (path := f"{LIBRARY_FILES}{file.path}") in gone}
    arrived = {(file.entry.size, file.entry.mtime_ns) for file in found.to_read if file.stored not in before}
    vanished = [
        path
        for path in found.dropped
        if path not in present
        and path.startswith(LIBRARY_FILES)
        and (before[path].record.size, before[path].record.mtime_ns) not in arrived
    ]
    changed = [file for file in found.to_read if file.stored in before and not file.stray]
    only_times = [file for file in changed if before[file.stored].record.size == file.entry.size]
    if only_times and _as_before(found, library, only_times):
        changed = [file for file in changed if before[file.stored].record.size != file.entry.size]
    total = sum(path.startswith(LIBRARY_FILES) for path in before)
    if not _surprising(total, len(vanished), len(changed)):
        return []
    return [
        Finding(
            "mass-change",
            "stop",
            f"Of {number(total, 'file')} in the latest edition {number(len(vanished), 'file')} vanished and "
            f"{len(changed):,} changed, all since {found.record.archived}.",
            "That is what a mistake or malicious encryption looks like: open a few of them first. If it is what you "
            "did yourself, go on with --despite mass-change; the earlier editions stay as they are.",
            yields=True,
        )
    ]


def _surprising(total: int, vanished: int, changed: int) -> bool:
    """Whether so much of an edition going or changing at once looks like a mistake, or like malicious encryption.

    In a small library a few changed files are a large share of it on any day; that all of it is gone is not.
    """
    count = vanished + changed
    if total > 1 and vanished == total:
        return True
    if vanished >= _GONE and vanished >= total * _LARGE_SHARE:
        return True
    if count >= _FEW and count >= total * _NEARLY_ALL:
        return True
    return count >= _ENOUGH and count >= total * _LARGE_SHARE


def _as_before(found: Difference, library: Library, files: list[PlannedFile]) -> bool:
    """Read a few of many files that only have other times, to see whether they have other bytes too."""
    step = max(1, len(files) // _SAMPLE)
    some = files[::step][:_SAMPLE]
    root = Path(library.path)
    tasks = [
        DigestTask(os.fsencode(root / file.entry.path if library.shape == "folder" else root), file.entry.size)
        for file in some
    ]
    outcomes = digest_files(tasks, lambda count: None)
    return all(
        outcome.state == "ok" and outcome.digests[0].hex() == found.files[file.stored].record.blake3
        for file, outcome in zip(some, outcomes, strict=True)
    )
