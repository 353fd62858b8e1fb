"""The copies of a library in the chests that are connected now: what each holds, and whether it may be relied on.

Nothing that was remembered makes a copy: its records are proven, its files are there in their sizes, and before anything is
deleted all of them are read. Only that every byte was found intact lately, and that it passed a drill, is remembered, and
is asked for again where it is not.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from pathlib import Path

from msgspec.structs import replace

from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.chest import Chest
from dunechest.chest.origin import came_from
from dunechest.chest.payload import lost_in
from dunechest.chest.records import when
from dunechest.errors import DuneChestError
from dunechest.jobs.chests.chests import show_chest
from dunechest.jobs.known.chests import list_chests
from dunechest.jobs.move.reclaim.held import Held, held_of
from dunechest.ledger.ledger import PastCheck, open_ledger
from dunechest.machine.drives import drive_identity
from dunechest.machine.physical import physical
from dunechest.machine.volumes import identity
from dunechest.model.chests import ChestStatus
from dunechest.model.reclaim import Evidence
from dunechest.names import shown
from dunechest.transfer.walk import FileEntry
from dunechest.words import number

#: Why a copy protects against nothing.
_WEAK = {"memory": "it is in this computer's memory", "this-computer": "it is on a share of this computer itself"}


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
        if not status.connected or status.retired_at is not None:
            continue
        try:
            chest = Chest.open(status.path)
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
        _checked(chest, entry.name, archived), drilled, "", _drive(chest), status.kept_at_place,
    )  # fmt: skip
    if weak := _WEAK.get(physical(chest.folder).weakness):
        return replace(found, why_not=weak), None
    faults = (*chest.faults, *entry.records.faults())
    if faults:
        return replace(found, why_not=f"its record {shown(faults[0].path)} is damaged"), None
    if chest.unfinished.get(entry.name) or entry.state != "whole":
        return replace(found, why_not=chest.unfinished.get(entry.name) or entry.why or entry.state), None
    try:
        held = held_of(chest, entry)
    except DuneChestError as error:
        return replace(found, why_not=str(error)), None
    lost = sorted(lost_in(entry.folder, held.files))
    if lost:
        why = f"{number(len(lost), 'file')} missing or of another size in it, first {shown(lost[0])}"
        return replace(found, why_not=why), None
    return found, held


def _drive(chest: Chest) -> str:
    """Return what tells the drive of a chest from others: its disk, where the system tells that."""
    disks = physical(chest.folder).disks
    return f"disk {min(disks)}" if disks else drive_identity(chest.folder)


def _checked(chest: Chest, bag: str, archived: float) -> float | None:
    """Return when every byte was last found intact since it was archived; None if it was not, or something was wrong since.

    What came last is told by the order in which this computer noted it, and by no clock.
    """
    where = identity(chest.folder)
    with open_ledger() as ledger:
        checks = [check for check in ledger.checks(chest.id) if check.bag == bag and _counts(check, where)]
    for check in checks:
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
