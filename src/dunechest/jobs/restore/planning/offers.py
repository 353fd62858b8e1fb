"""What a chest holds that could be restored, and where each would go."""

from __future__ import annotations

from pathlib import Path
from typing import ClassVar

import msgspec

from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.chest import Chest
from dunechest.jobs.holdings import note_holdings
from dunechest.jobs.named import get_chest
from dunechest.jobs.restore.aside import nothing_in
from dunechest.jobs.restore.options import RestoreOptions
from dunechest.jobs.restore.plan import Placement
from dunechest.jobs.restore.planning.place import place_for
from dunechest.ledger.folder import state_folder
from dunechest.library.kinds.load import load_kinds
from dunechest.library.kinds.schema import PLAIN_KIND
from dunechest.names import AnyPath, from_wire
from dunechest.values import Value


class Offer(Value, msgspec.Struct, frozen=True):
    """A library in a chest, and where it would be restored on this computer.

    `editions` are their numbers; `exists` says whether something is in that place; `why_not` why it cannot be
    restored, if it cannot.
    """

    _shown: ClassVar[tuple[str, ...]] = ("why_not", "exists")
    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "kind",
        "editions",
        "archived_at",
        "computer",
        "path",
        "file_count",
        "size_bytes",
        "destination",
        "exists",
        "why_not",
    )

    entry: BagEntry
    editions: tuple[int, ...]
    placement: Placement
    exists: bool
    why_not: str = ""

    @property
    def name(self) -> str:
        """Its name in the chest."""
        return self.entry.name

    @property
    def kind(self) -> str | None:
        """Name of its kind."""
        return self.entry.library.kind if self.entry.library else None

    @property
    def archived_at(self) -> str | None:
        """When it was archived."""
        return self.entry.library.archived if self.entry.library else None

    @property
    def computer(self) -> str | None:
        """Which computer archived it."""
        return self.entry.library.origin.machine if self.entry.library else None

    @property
    def file_count(self) -> int | None:
        """Number of its files."""
        return self.entry.library.totals.files_copied if self.entry.library else None

    @property
    def size_bytes(self) -> int | None:
        """What they hold."""
        return self.entry.library.totals.bytes_stored if self.entry.library else None

    @property
    def destination(self) -> Path | None:
        """Where it would be restored, if that is known."""
        return self.placement.place if self.placement is not None else None

    @property
    def path(self) -> str | None:
        """Where it was, as its own system writes it."""
        return from_wire(self.entry.library.origin.path) if self.entry.library is not None else None


def offers(chest: Chest | AnyPath, options: RestoreOptions | None = None) -> tuple[Offer, ...]:
    """List what can be restored from a chest, and where each library would go. Only its records are read."""
    chest, options = get_chest(chest), options or RestoreOptions()
    kinds = load_kinds(state_folder(), [])
    found = []
    for entry in chest.bags():
        record = entry.library
        if record is None:
            whys = {
                "damaged": entry.why,
                "unfinished": "its archive was interrupted and is incomplete",
                "unusable": entry.why,
            }
            why = whys.get(entry.state, "made by another program; restore its files with --into FOLDER")
            found.append(Offer(entry, (), Placement(None, "unknown"), False, why))
            continue
        placement = place_for(record, kinds.get(record.kind, PLAIN_KIND), options)
        place = placement.place
        existing = place is not None and place.exists() and not (place.is_dir() and nothing_in(place))
        found.append(Offer(entry, entry.records.numbers(record.edition), placement, existing))
    note_holdings(chest, [offer.entry for offer in found])
    return tuple(found)
