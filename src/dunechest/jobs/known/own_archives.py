"""Whether an archive is this computer's own."""

from __future__ import annotations

import hashlib

from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.chest import Chest
from dunechest.chest.layout import LIBRARY, TAG_MANIFEST
from dunechest.errors import DuneChestError
from dunechest.transfer import safe


def archived_here(chest: Chest, entry: BagEntry) -> bool:
    """Whether this computer made the bag and it is unaltered since, so that its records are its own."""
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
