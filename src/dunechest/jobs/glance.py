"""See at a glance that a library is just as it was archived: one walk, one digest, no file opened.

The record of an edition holds a *fingerprint*: the digest of the names, sizes, times and modes the
library had, of its kind and of what was chosen. Where it is the same, nothing can differ by anything that
is looked at without reading, and neither the library's references nor the bag's lists need be read.
Where it is not, the full comparison decides.
"""

from __future__ import annotations

import time
from collections.abc import Iterable

import msgspec
from blake3 import blake3

from dunechest.chest.bag_records import BagRecords
from dunechest.chest.chest import Chest
from dunechest.chest.layout import DATA_FOLDER
from dunechest.chest.records import LibraryRecord
from dunechest.jobs.account import ArchiveResult
from dunechest.jobs.changes import same_library
from dunechest.jobs.study.selection import Choice, LeftBehind
from dunechest.library.kinds.schema import Kind
from dunechest.library.library import Library
from dunechest.names import from_wire
from dunechest.transfer.walk import count, entry_of, lines_of, look_over, walk


def fingerprint(kind: Kind, choice: Choice, lines: Iterable[str]) -> str:
    """Return the fingerprint of a library, in hexadecimal.

    The texts, one a folder, come in whatever order a disk lists them, so their digests are added up.
    """
    total = int.from_bytes(blake3(msgspec.json.encode((kind, choice))).digest())
    for line in lines:
        total += int.from_bytes(blake3(line.encode("utf-8", "surrogateescape")).digest())
    return f"{total % (1 << 256):064x}"


def unchanged(library: Library, chest: Chest, *, name: str | None, choice: Choice) -> ArchiveResult | None:
    """Return the account of an archive that has nothing to do, or None if that cannot be said at a glance.

    Parameters
    ----------
    library, chest, name, choice
        As for `plan_archive`.
    """
    begun = time.monotonic()
    if choice.parts:
        return None
    own = [
        (entry.library.archived, entry.name, entry.library)
        for entry in chest.bags()
        if entry.library is not None
        and entry.library.fingerprint
        and (name is None or entry.name == name)
        and not entry.library.partial
        and same_library(entry.library, library)
    ]
    if not own:
        return None
    try:
        place = str(library.path)
        lines = look_over(place) if library.shape == "folder" else lines_of(walk(place))
        now = fingerprint(library.kind, choice, lines)
    except OSError:
        return None
    if chest.faults or chest.unfinished:
        return None
    for _, bag, record in sorted(own, key=lambda one: one[:2], reverse=True):
        if record.fingerprint == now and _strays_as_before(record) and _there(chest, bag, record):
            return _account(library, chest, bag, record, time.monotonic() - begun)
    return None


def _there(chest: Chest, bag: str, record: LibraryRecord) -> bool:
    """Whether the chest still has it: every record is proven, and files and bytes are as many as were written down."""
    folder = chest.bag_folder(bag)
    lying = count(str(folder / DATA_FOLDER))
    if (lying.files, lying.bytes) != (record.totals.files_stored, record.totals.bytes_stored):
        return False
    return not BagRecords(folder).faults()


def _strays_as_before(record: LibraryRecord) -> bool:
    """Whether the gathered strays are as they were, and no other file can have become one."""
    if record.references.missing or record.strays_left:
        return False
    for stray in record.strays:
        entry = entry_of(from_wire(stray.path))
        if entry is None or (entry.size, entry.mtime_ns) != (stray.size, stray.mtime_ns):
            return False
    return True


def _account(library: Library, chest: Chest, bag: str, record: LibraryRecord, seconds: float) -> ArchiveResult:
    return ArchiveResult(
        library=library.name,
        bag=bag,
        folder=chest.bag_folder(bag),
        state="unchanged",
        files_found=record.totals.files_found,
        bytes_found=record.totals.bytes_found,
        files_copied=0,
        bytes_copied=0,
        bytes_stored=0,
        left_out=tuple(LeftBehind(from_wire(o.path), o.size, o.why, False, o.mtime_ns) for o in record.left_out),
        folders=len(record.folders),
        links=len(record.links),
        databases=len(record.databases),
        changed_names=(),
        again=(),
        broken=(),
        appeared=(),
        moved_on=(),
        resumed=0,
        seconds=seconds,
        findings=(),
        edition=record.edition,
    )
