"""Whether an archive is this machine's own, and what a stranger's may not do."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator

from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.chest import Chest
from dunechest.chest.layout import LIBRARY, TAG_MANIFEST
from dunechest.chest.records import LibraryRecord
from dunechest.errors import DuneChestError
from dunechest.findings import Finding
from dunechest.jobs.protected import why_archive
from dunechest.jobs.restore.plan import Placement
from dunechest.library.kinds.schema import Kind
from dunechest.machine.sensitive import why_sensitive
from dunechest.names import from_wire, quoted, shown
from dunechest.transfer import safe


def place_findings(
    record: LibraryRecord, kind: Kind, placement: Placement, made_here: Callable[[], bool]
) -> Iterator[Finding]:
    """Stop where a library must not go: into an archive, or, because a stranger's record says so, where files act."""
    assert placement.place is not None
    if why := why_archive(placement.place):
        yield Finding(
            "inside-archive",
            "blocks",
            f"{shown(str(placement.place))} is no place for it: {shown(why)}.",
            "An archive must not be changed. Restore elsewhere with --into FOLDER.",
        )
    origin = f"{{{record.origin.standard}}}/{from_wire(record.origin.relative)}"
    known = any(origin in places for places in kind.places.values())
    if placement.how != "standard" or known:
        return
    relative = from_wire(record.origin.relative)
    why = why_sensitive(relative, standard=record.origin.standard, file=record.shape == "file")
    if why and not made_here():
        yield Finding(
            "sensitive-place",
            "blocks",
            f"The archive says that it belongs in {shown(str(placement.place))}; {why}. It was not made on this computer.",
            f"If you trust it and want it there, name the place yourself: --into {quoted(str(placement.place))}",
        )


def made_here(chest: Chest, entry: BagEntry) -> bool:
    """Whether this machine made the bag and it is unaltered since, so that its records are its own."""
    from dunechest.ledger.ledger import open_ledger

    if entry.library is None:
        return False
    own = entry.records
    if own.lists.faults or own.fault_of(LIBRARY) is not None:
        return False
    try:
        top = hashlib.sha512(safe.read_bounded(own.at(TAG_MANIFEST), 1 << 30)).hexdigest()
        with open_ledger() as ledger:
            return ledger.archived_here(chest.id, entry.name, top)
    except (OSError, ValueError, DuneChestError):
        return False
