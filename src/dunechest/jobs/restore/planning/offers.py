"""What a chest holds that could be restored, and where each would go."""

from __future__ import annotations

from dunechest.chest.chest import Chest
from dunechest.jobs.known.holdings import note_holdings
from dunechest.jobs.known.named import get_chest
from dunechest.jobs.restore.aside import nothing_in
from dunechest.jobs.restore.planning.place import place_for
from dunechest.ledger.folder import state_folder
from dunechest.library.kinds.load import load_kinds
from dunechest.library.kinds.schema import PLAIN_KIND
from dunechest.model.restore import Offer, Placement, RestoreOptions
from dunechest.names import AnyPath


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
