"""Whether a library is still what a chest has of it, by names, sizes, times and modes, without opening a file."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from dunechest.chest.records import FileRecord, LibraryRecord, read_lines
from dunechest.errors import DuneChestError
from dunechest.jobs.find import Library
from dunechest.jobs.selection import Selection
from dunechest.ledger.notes import state_folder
from dunechest.library.databases import COMPANIONS
from dunechest.library.kinds import Kind
from dunechest.library.roles import databases_among
from dunechest.machine.identity import this_machine
from dunechest.names import from_wire, shown
from dunechest.transfer.walk import FileEntry


def same_library(record: LibraryRecord, library: Library) -> bool:
    """Whether an archived library came from this place of this machine."""
    machine = this_machine(state_folder())
    return record.origin.machine_id == machine.id and from_wire(record.origin.path) == str(library.path)


def _facts(entry: FileEntry) -> tuple[int, int, int]:
    return entry.size, entry.mtime_ns, entry.mode


def compare_with_archived(bag: Path, record: LibraryRecord, kind: Kind, selection: Selection) -> list[str]:
    """Return the paths in which a library differs from its archived edition, sorted.

    Parameters
    ----------
    bag : Path
        The bag's folder.
    record : LibraryRecord
        Its ``dune/library.json``.
    kind : Kind
        The library's kind, which knows databases and lock marks.
    selection : Selection
        What of the library is to be archived now.

    Raises
    ------
    DuneChestError
        If the bag's list of files cannot be read.
    """
    names = {changed.stored: from_wire(changed.path) for changed in record.changed_names}
    captured = {from_wire(one.path): one for one in record.databases}
    then: dict[str, tuple[int, int, int]] = {}
    try:
        for number, line in read_lines(bag / "dune" / "files.jsonl", FileRecord):
            if line is None:
                raise DuneChestError(
                    f"Line {number} of dune/files.jsonl in {shown(bag.name)} is torn. "
                    f"Run: dunechest verify, to see what is damaged."
                )
            if line.path.startswith("strays/"):
                continue  # the record itself has what they were
            stored = line.path.removeprefix("library/")
            path = names.get(stored, stored)
            then[path] = (line.size, line.mtime_ns, line.mode)
    except OSError as error:
        raise DuneChestError(f"dune/files.jsonl in {shown(bag.name)} cannot be read: {error.strerror}.") from error
    listing = selection.listing
    companions = {p for paths in databases_among(kind, selection.files).values() for p in paths}
    now: dict[str, tuple[int, int, int]] = {}
    changed: set[str] = set()
    for entry in selection.files:
        if entry.path in companions and _inside(entry.path, captured):
            continue
        now[entry.path] = _facts(entry)
    by_path = {entry.path: entry for entry in selection.files}
    for path, one in captured.items():
        # A captured database has a size of its own; what counts is the file it came from.
        source = by_path.get(path)
        if source is None or (source.size, source.mtime_ns) != (one.size, one.mtime_ns):
            changed.add(path)
        then.pop(path, None)
        now.pop(path, None)
        logs_then = {from_wire(c.path): (c.size, c.mtime_ns) for c in one.companions if not _index(from_wire(c.path))}
        logs_now = {
            c: (by_path[c].size, by_path[c].mtime_ns) for c in (path + "-wal", path + "-journal") if c in by_path
        }
        # An empty log says the same as none.
        changed.update(
            p
            for p in {*logs_then, *logs_now}
            if logs_then.get(p) != logs_now.get(p) and _filled(p, logs_then, logs_now)
        )
    changed.update(path for path in {*then, *now} if then.get(path) != now.get(path))
    links_then = {from_wire(link.path): from_wire(link.target) for link in record.links}
    links_now = {link.path: link.target for link in listing.links}
    changed.update(p for p in {*links_then, *links_now} if links_then.get(p) != links_now.get(p))
    folders_then = {from_wire(folder.path): folder.mode for folder in record.folders}
    folders_now = {folder.path: folder.mode for folder in listing.folders}
    changed.update(p for p in {*folders_then, *folders_now} if folders_then.get(p) != folders_now.get(p))
    strays_then = {from_wire(stray.path): (stray.size, stray.mtime_ns) for stray in record.strays}
    strays_now = {stray.entry.path: (stray.entry.size, stray.entry.mtime_ns) for stray in selection.strays}
    changed.update(p for p in {*strays_then, *strays_now} if strays_then.get(p) != strays_now.get(p))
    return sorted(changed)


def _index(path: str) -> bool:
    """Whether it is a log's index, which holds nothing that matters."""
    return path.endswith("-shm")


def _inside(path: str, captured: Iterable[str]) -> bool:
    return any(path == main + ending for main in captured for ending in COMPANIONS)


def _filled(path: str, then: dict[str, tuple[int, int]], now: dict[str, tuple[int, int]]) -> bool:
    return any(side.get(path, (0, 0))[0] for side in (then, now))
