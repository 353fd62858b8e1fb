"""The editions of an archived library: when each was made, where, and what changed from one to the next."""

from __future__ import annotations

import time
from collections.abc import Iterable, Mapping
from itertools import pairwise
from typing import TYPE_CHECKING

from msgspec.structs import replace

from dunechest.chest import editions as stored
from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.bag_records import BagRecords, stamp
from dunechest.chest.chest import Chest
from dunechest.chest.layout import EARLIER, LIBRARY_FILES
from dunechest.chest.records import ChangeCounts, EarlierFile, FileRecord, LibraryRecord
from dunechest.chest.tag_lists import RecordFault
from dunechest.errors import RecordDamagedError
from dunechest.jobs.known.named import get_chest, own_bag
from dunechest.model.editions import Change, Edition, EditionList
from dunechest.names import AnyPath, from_wire

if TYPE_CHECKING:
    pass


#: So many changes of an edition are named.
NAMED = 100


def list_editions(chest: Chest | AnyPath, library: str, *, named: int = NAMED) -> EditionList:
    """List the editions of a library.

    Parameters
    ----------
    chest : Chest
        Where it is.
    library : str
        Its name in the chest.
    named : int
        So many of an edition's changes are named.

    Raises
    ------
    UsageError
        If there is no such library.
    DuneChestError
        If the records of its editions are damaged.
    """
    chest = get_chest(chest)
    for again in range(_TIMES):
        entry, current = own_bag(chest, library)
        seen = stamp(entry.folder)
        listed = _list(chest, entry, current, named)
        if not listed.damaged_records or stamp(entry.folder) == seen:
            break
        time.sleep(0.1 * again)  # an archive committed meanwhile: what looks damaged is of before and after
    return listed


#: So many times an archive is read again that is changed while it is read.
_TIMES = 5


def _list(chest: Chest, entry: BagEntry, current: LibraryRecord, named: int) -> EditionList:
    own = BagRecords(entry.folder)
    damage = list(own.faults())
    numbers = own.numbers(current.edition)
    found: list[Edition] = []
    # What is told of an edition is what was written down when it was made; what changed is read from the lists, as far
    # back as these are proven.
    known: dict[str, FileRecord] | None = None
    try:
        known = {path: proven.record for path, proven in stored.current_files(own).items()}
    except RecordDamagedError:
        pass
    later = current
    for at in range(len(numbers) - 1, -1, -1):
        number = numbers[at]
        try:
            record = stored.known_record(own, current, number)
        except RecordDamagedError as error:
            if all(fault.path != error.path for fault in damage):
                damage.append(RecordFault(error.path, "missing", error.why))
            known = None
            continue
        counts: ChangeCounts | None = None
        names: tuple[Change, ...] = ()
        if at and known is not None:
            try:
                lines = list(stored.changes_of(own, numbers[at - 1]))
                counts, names = _changes(lines, known, named, _true_names(later, record))
                stored.step_back(known, lines)
            except RecordDamagedError as error:
                if all(fault.path != error.path for fault in damage):
                    damage.append(RecordFault(error.path, "changed", error.why))
                known = None
        later = record
        totals = record.totals
        found.append(
            Edition(
                number, record, number == current.edition, totals.files_stored, totals.bytes_stored, counts, names
            )
        )
    earlier = sum(tag.size for path, tag in own.lists.tags.items() if path.startswith(EARLIER + "/") and tag.size > 0)
    shielded = protected_editions({edition.edition: edition.record for edition in found})
    listed = (replace(edition, protected=edition.edition in shielded) for edition in reversed(found))
    return EditionList(chest, entry.name, tuple(listed), earlier, tuple(damage))


def protected_editions(made: Mapping[int, LibraryRecord]) -> frozenset[int]:
    """Return the editions that no rule drops: those whose record says so, and each that comes just before a mass change.

    The second is how those of earlier versions are told.
    """
    numbers = sorted(made)
    before = {last for last, number in pairwise(numbers) if made[number].mass_change}
    return frozenset({number for number, record in made.items() if record.protected} | before) - set(numbers[-1:])


def _true_names(*records: LibraryRecord) -> dict[str, str]:
    """Return the names of files in the library, by their paths below ``data/``, where a drive could not hold them."""
    return {
        LIBRARY_FILES + item.stored: LIBRARY_FILES + from_wire(item.path) for r in records for item in r.changed_names
    }


def _changes(
    lines: Iterable[EarlierFile], later: Mapping[str, FileRecord], named: int, names: Mapping[str, str]
) -> tuple[ChangeCounts, tuple[Change, ...]]:
    """Turn the lines that lead back into what happened going forward."""
    added: list[str] = []
    dropped: dict[str, list[str]] = {}
    changes: list[Change] = []
    size = 0
    for line in lines:
        now = later.get(line.path)
        if line.absent:
            added.append(line.path)
        elif now is None:
            dropped.setdefault(line.blake3, []).append(line.path)
        elif now.blake3 != line.blake3:
            changes.append(Change("changed", line.path))
            size += now.size
    for path in added:
        old = dropped.get(later[path].blake3) if path in later and later[path].size else None
        if old:
            changes.append(Change("moved", path, old.pop(0)))
        elif path in later:
            changes.append(Change("added", path))
            size += later[path].size
    changes += [Change("dropped", path) for paths in dropped.values() for path in paths]
    if names:
        changes = [
            Change(c.what, names.get(c.path, c.path), names.get(c.former_path, c.former_path)) for c in changes
        ]
    totals = {
        f"{what}_count": sum(c.what == what for c in changes) for what in ("added", "changed", "moved", "dropped")
    }
    changes.sort(key=lambda c: c.path)
    return ChangeCounts(**totals, added_bytes=size), tuple(changes[:named])
