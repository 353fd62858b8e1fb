"""The files of a bag that can be restored, and where their bytes lie."""

from __future__ import annotations

from pathlib import Path

import msgspec

from dunechest.bag.bag import BagListing, read_bag
from dunechest.chest import editions
from dunechest.chest.bag_records import BagRecords
from dunechest.chest.layout import DATA, FILES, MANIFEST
from dunechest.chest.records import FileRecord, read_lines
from dunechest.chest.tag_lists import RecordFault
from dunechest.errors import RecordDamagedError
from dunechest.model.restore import NO_MODE, NotDone, RestoreFile
from dunechest.names import why_unsafe
from dunechest.transfer.system_files import is_of_system


class BagFiles(msgspec.Struct, frozen=True):
    """Files of a bag that can be restored, what of it is not available, and what is not proven of the records."""

    files: tuple[RestoreFile, ...]
    not_done: tuple[NotDone, ...] = ()
    damage: tuple[RecordFault, ...] = ()


def current_files(own: BagRecords) -> BagFiles:
    """Gather what the bag lists, from both records, and what of it really lies there as a plain file."""
    try:
        table = editions.current_files(own)
    except RecordDamagedError:
        return _from_damaged(own)
    not_done: list[NotDone] = []
    lying = own.lying
    files = []
    for proven in table.by_path():
        line = proven.record
        path = DATA + line.path
        if path not in lying.files:
            path = own.other_spelling(path) or path
        size = lying.files.get(path)
        fast = _raw(line.blake3)
        if fast is None or why_unsafe(line.path) is not None:
            not_done.append(NotDone(line.path, "its entry in the records cannot be used", True, True))
        elif size is None:
            not_done.append(_gone(line.path, lying))
        else:
            source = own.view.place(path)
            files.append(RestoreFile(source, line.path, line.path, size, line.mtime_ns, line.mode, fast, None))
    return BagFiles(tuple(files), tuple(not_done))


def _raw(digest: str) -> bytes | None:
    """Return a BLAKE3 digest raw, or None if it is none."""
    try:
        raw = bytes.fromhex(digest)
    except ValueError:
        return None
    return raw if len(raw) == 32 else None


def _gone(stored: str, lying: BagListing) -> NotDone:
    why = lying.others.get(DATA + stored)
    return NotDone(stored, f"it is {why}" if why else "missing from the chest", True, True)


def _from_damaged(own: BagRecords) -> BagFiles:
    """Gather files where one of the two lists is not proven: by the other one, or by each line that still fits.

    A line of a list that is not proven may name a file; it is restored only if its digest proves it. Times and modes
    that it says are not believed.
    """
    not_done: list[NotDone] = []
    faults = [fault for fault in map(own.fault_of, (FILES, MANIFEST)) if fault is not None]
    lying = own.lying
    names = {fault.path for fault in faults}
    known: dict[str, FileRecord] = {}
    slow: dict[str, str] = {}
    if FILES not in names:
        known = {DATA + line.path: line for line in own.lines(FILES, FileRecord) if why_unsafe(line.path) is None}
    elif MANIFEST in names:
        try:
            for _, line in read_lines(own.at(FILES), FileRecord):
                if line is not None and why_unsafe(line.path) is None and _raw(line.blake3) is not None:
                    known[DATA + line.path] = line
        except OSError:
            pass  # then the other list must do
    if FILES in names:
        bag = read_bag(own.bag, assume=True, at=own.at, names=[path for path in lying.files if "/" not in path])
        slow = {p: d for m in bag.payload if m.algorithm == "sha512" for p, d in m.entries.items()}
    if not names:  # each is proven, and they name different files
        faults.append(RecordFault(MANIFEST, "changed", f"it does not list the same files as {FILES}"))
    files = []
    for path in sorted({*known, *slow}):
        stored = path.removeprefix(DATA)
        here = path if path in lying.files else own.other_spelling(path)
        if here is None:
            not_done.append(_gone(stored, lying))
            continue
        line = known.get(path)
        fast = _raw(line.blake3) if line is not None else None
        source, size = own.view.place(here), lying.files[here]
        if line is not None and FILES not in names:
            files.append(RestoreFile(source, stored, stored, size, line.mtime_ns, line.mode, fast, None))
        else:
            time = _time_of(own.at(here))
            files.append(RestoreFile(source, stored, stored, size, time, NO_MODE, fast, slow.get(path)))
    if len(names) == 2:
        listed = {*known, *slow, *(file.source for file in files)}
        not_done += [
            NotDone(path.removeprefix(DATA), "no intact record lists it; it is in the chest", True)
            for path in sorted(lying.files)
            if path.startswith(DATA) and path not in listed and not is_of_system(own.bag, path)
        ]
    return BagFiles(tuple(files), tuple(not_done), tuple(faults))


def _time_of(path: Path) -> int:
    try:
        return path.lstat().st_mtime_ns
    except OSError:
        return 0


def earlier_files(own: BagRecords, current: int, number: int) -> BagFiles:
    """Gather the files of an earlier edition, each from wherever its bytes lie in the bag now.

    Raises
    ------
    RecordDamagedError
        If a list that leads back to it is not proven.
    """
    now = {line.path: line for line in own.lines(FILES, FileRecord) if why_unsafe(line.path) is None}
    wanted = editions.files_of(own, current, number, now)
    places = editions.places_of_bytes(own, now.values())
    lying = own.lying
    files: list[RestoreFile] = []
    not_done: list[NotDone] = []
    for path, line in sorted(wanted.items()):
        kept = places.pieces.get(line.blake3)
        source = places.plain.get(line.blake3, kept.path if kept is not None else None)
        fast = _raw(line.blake3)
        if fast is None or why_unsafe(path) is not None:
            not_done.append(NotDone(path, "its entry in the records cannot be used", True, True))
            continue
        if source is not None and source not in lying.files:
            source = own.other_spelling(source)
        if source is None:
            not_done.append(NotDone(path, "its content is missing from the chest", True, True))
            continue
        in_pieces = line.blake3 not in places.plain
        size = line.size if in_pieces else lying.files[source]
        place = source if in_pieces else own.view.place(source)
        files.append(RestoreFile(place, path, path, size, line.mtime_ns, line.mode, fast, None, in_pieces))
    return BagFiles(tuple(files), tuple(not_done))
