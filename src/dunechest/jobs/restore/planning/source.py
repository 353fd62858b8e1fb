"""What of a bag can be restored, be it ours and whole, ours and damaged, or somebody else's."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec

from dunechest.bag.bag import list_bag, read_bag, spelled_as
from dunechest.chest import editions
from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.layout import DATA, INFO, LIBRARY, LIBRARY_FILES
from dunechest.chest.records import FORMAT, LibraryRecord, Origin, Totals, now_text
from dunechest.chest.tag_lists import RecordFault
from dunechest.errors import BagUnusableError, RecordDamagedError, RefusedError, UsageError
from dunechest.findings import Finding
from dunechest.jobs.restore.planning.files_in_bag import BagFiles, current_files, earlier_files
from dunechest.library.kinds.schema import PLAIN_KIND
from dunechest.model.findings import finding_of
from dunechest.model.restore import NO_MODE, NotDone, RestoreFile, RestoreOptions
from dunechest.names import shown
from dunechest.transfer import digests
from dunechest.transfer.system_files import is_of_system
from dunechest.words import number


class Source(msgspec.Struct, frozen=True):
    """What a bag has to give: its record, its files, how many there were, and what is to be said of it.

    `listed` is the number of files that was written down when it was archived; `damage` is what of the records is not
    proven.
    """

    record: LibraryRecord
    files: tuple[RestoreFile, ...]
    listed: int
    not_done: tuple[NotDone, ...]
    findings: tuple[Finding, ...] = ()
    damage: tuple[RecordFault, ...] = ()


def source_of(entry: BagEntry, options: RestoreOptions) -> Source:
    """Gather what of a bag can be restored.

    Parameters
    ----------
    entry : BagEntry
        The bag.
    options : RestoreOptions
        Which edition.

    Raises
    ------
    UsageError
        If there is no such edition.
    RecordDamagedError
        If a record is not proven without which an edition cannot be told.
    RefusedError
        If nothing can be restored of it.
    """
    if entry.library is None:
        if entry.state == "unfinished":
            raise RefusedError(
                f"The archive of {shown(entry.name)} was interrupted and is incomplete; there is nothing to restore yet."
            )
        if "Install a newer version" in entry.why:
            raise RefusedError(f"{shown(entry.name)} cannot be restored by this version: {entry.why}")
        return _as_files(entry, options)
    own, record = entry.records, entry.library
    if options.edition is not None and options.edition != record.edition:
        current = record.edition
        record = editions.record_of(own, record, options.edition)
        found = earlier_files(own, current, record.edition)
    else:
        found = current_files(own)
    damage = list(found.damage)
    try:
        totals = own.totals(record.edition, record)
    except RecordDamagedError as error:
        damage.append(RecordFault(error.path, "changed", error.why))
        totals = None
    told = own.fault_of(INFO)
    if told is not None:
        damage.append(told)
    damage += own.lists.faults
    listed = totals.files if totals is not None else record.totals.files_stored
    not_done = (*found.not_done, *_missing(listed, found.files, found.not_done))
    return Source(record, found.files, listed, not_done, (), tuple(dict.fromkeys(damage)))


def _missing(listed: int, files: Sequence[RestoreFile], not_done: Sequence[NotDone]) -> Iterator[NotDone]:
    """Name what was written down when it was archived and no list names now."""
    named = len(files) + sum(item.fault for item in not_done)
    if named < listed:
        why = f"{number(listed - named, 'file')} of {listed:,} that were archived are no longer in any list"
        yield NotDone("(names unknown)", why, True, True)


class _Plain(msgspec.Struct, frozen=True):
    """A bag taken as files: what is available of it, how many it counts, and which edition that is."""

    found: BagFiles
    listed: int
    edition: int = 1


def _as_files(entry: BagEntry, options: RestoreOptions) -> Source:
    """Take a bag that has no usable record of ours for what it is at least: files with digests (RFC 8493)."""
    if options.edition is not None or options.parts:
        raise UsageError(
            f"{shown(entry.name)} has no record of its editions and parts; it can only be restored as files, "
            "all of them."
        )
    plain = _of_others(entry) if entry.state == "foreign" else _of_ours(entry)
    files = plain.found.files
    not_done = (*plain.found.not_done, *_missing(plain.listed, files, plain.found.not_done))
    record = LibraryRecord(
        format=FORMAT,
        name=entry.name,
        kind=PLAIN_KIND.name,
        kind_title=PLAIN_KIND.title,
        application="",
        shape="folder",
        origin=Origin("", "", "", ""),
        edition=plain.edition,
        archived=now_text(),
        archived_with="",
        totals=Totals(len(files), 0, len(files), 0, 0, 0, len(files), sum(file.size for file in files)),
    )
    why = entry.why or "another program made it"
    finding = finding_of("as-files", name=entry.name, why=why, folder=str(entry.folder / "data"))
    return Source(record, files, plain.listed, not_done, (finding,), tuple(dict.fromkeys(plain.found.damage)))


def _in_the_library(file: RestoreFile) -> RestoreFile:
    """Give a file its place in the folder that everything goes into; files from outside keep a folder of their own."""
    if file.stored.startswith(LIBRARY_FILES):
        return file
    return msgspec.structs.replace(file, stored=LIBRARY_FILES + file.stored)


def _of_ours(entry: BagEntry) -> _Plain:
    """Gather the files of a bag of our own whose record of the library is not to be believed."""
    own = entry.records
    found = current_files(own)
    files = tuple(_in_the_library(file) for file in found.files)
    not_done = list(found.not_done)
    told = own.told()
    edition = max(told, default=1)
    listed = told[edition].files if told else len(files) + len(not_done)
    damage = [*found.damage, *(fault for fault in map(own.fault_of, (LIBRARY, INFO)) if fault is not None)]
    damage += own.lists.faults
    if not damage:
        damage.append(RecordFault(LIBRARY, "changed", entry.why))
    if told:
        totals = told[edition]
        why = (
            f"{number(totals.folders, 'folder')} with their times and modes and "
            f"{number(totals.links, 'symbolic link')} were recorded in it alone"
        )
        not_done.append(NotDone(LIBRARY, why, True, True))
    return _Plain(BagFiles(files, tuple(not_done), tuple(damage)), listed, edition)


def _of_others(entry: BagEntry) -> _Plain:
    """Gather the files of a bag that somebody else made, and how many it counts."""
    try:
        bag = read_bag(entry.folder)
    except BagUnusableError as error:
        raise RefusedError(f"{shown(entry.name)} cannot be restored: {error}") from error
    lying = list_bag(entry.folder)
    damage = [RecordFault(problem.file or "the bag", "changed", problem.why) for problem in bag.problems]
    order = [*digests.of_manifests()]
    strongest = sorted((m for m in bag.payload if m.algorithm in order), key=lambda m: order.index(m.algorithm))
    if not strongest:
        raise RefusedError(
            f"{shown(entry.name)} has no manifest with a known kind of digest, so its files cannot be checked. They "
            f"are in {shown(str(entry.folder / 'data'))} and can be copied from there."
        )
    files: list[RestoreFile] = []
    not_done: list[NotDone] = []
    every = sorted({path for manifest in strongest for path in manifest.entries})
    lying = spelled_as(lying, every, entry.folder)
    for path in every:
        below = path.removeprefix(DATA)
        if path not in lying.files:
            why = lying.others.get(path)
            not_done.append(NotDone(below, f"it is {why}" if why else "it is missing", True, True))
            continue
        best = next(m for m in strongest if path in m.entries)
        files.append(_file(path, below, lying.files[path], best.algorithm, best.entries[path], entry.folder))
    listed = {*every}
    not_done += [
        NotDone(path.removeprefix(DATA), "no manifest lists it, so it cannot be checked", True)
        for path in sorted(lying.files)
        if path.startswith(DATA) and path not in listed and not is_of_system(entry.folder, path)
    ]
    count = bag.oxum[1] if bag.oxum is not None else len(every)
    return _Plain(BagFiles(tuple(files), tuple(not_done), tuple(damage)), max(count, len(files) + len(not_done)))


def _file(path: str, below: str, size: int, algorithm: str, digest: str, folder: Path) -> RestoreFile:
    try:
        mtime_ns = (folder / path).lstat().st_mtime_ns
    except OSError:
        mtime_ns = 0
    if algorithm == "sha512":
        return RestoreFile(path, LIBRARY_FILES + below, below, size, mtime_ns, NO_MODE, None, digest)
    return RestoreFile(path, LIBRARY_FILES + below, below, size, mtime_ns, NO_MODE, None, f"{algorithm}:{digest}")
