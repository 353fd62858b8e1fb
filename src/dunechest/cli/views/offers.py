"""How what a chest holds is shown to whoever is about to restore: what, and where each would go."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from rich.text import Text

from dunechest.chest.chest import Chest
from dunechest.cli.output import Out, listing
from dunechest.jobs.restore.planning.offers import Offer
from dunechest.names import from_wire, quoted, shown
from dunechest.words import size


def offers_document(chest: Chest, offers: Sequence[Offer], left: Sequence[tuple[str, str]] = ()) -> dict[str, Any]:
    """Return the JSON document of `restore` without a library."""
    libraries = []
    for offer in offers:
        record = offer.entry.library
        libraries.append(
            {
                "library": offer.entry.name,
                "kind": record.kind if record else None,
                "editions": list(offer.editions),
                "archived": record.archived if record else None,
                "from_machine": record.origin.machine if record else None,
                "from_place": from_wire(record.origin.path) if record else None,
                "files": record.totals.files_copied if record else None,
                "bytes": record.totals.bytes_stored if record else None,
                "place": str(offer.placement.place) if offer.placement.place is not None else None,
                "existing": offer.existing,
                "why_not": offer.why_not,
            }
        )
    behind = [{"library": name, "why": why} for name, why in left]
    return {"chest": chest.id, "label": chest.label, "libraries": libraries, "left_behind": behind}


def show_offers(out: Out, chest: Chest, offers: Sequence[Offer], left: Sequence[tuple[str, str]] = ()) -> None:
    """Show what a chest holds and where each library would go."""
    console = out.console
    if not offers and not left:
        console.print(f"The chest {shown(chest.label)} holds nothing yet.")
        return
    console.print(Text(f"{shown(chest.label)} holds, and where it would be restored:", style="bold"))
    console.print()
    rows, below = [], []
    for offer in offers:
        record = offer.entry.library
        if record is None:
            rows.append((shown(offer.entry.name), "", "", "", ""))
            below.append(shown(offer.why_not))
            continue
        numbers = offer.editions
        several = f"{numbers[-1]}" if len(numbers) == 1 else f"{numbers[0]} to {numbers[-1]}"
        rows.append(
            (
                shown(offer.entry.name),
                shown(record.kind_title),
                size(record.totals.bytes_stored),
                several,
                record.archived[:10],
            )
        )
        came = f"from {shown(record.origin.machine)}, {shown(from_wire(record.origin.path))}"
        below.append(f"{came}\n{_goes(offer)}")
    listing(console, ("library", "kind", "size", "editions", "archived"), rows, below, right=(2,))
    listed = {offer.entry.name for offer in offers}
    for name, why in left:
        if name not in listed:
            console.print(f"MISSING: {shown(name)}: {shown(why)}", style="bold red", soft_wrap=True)
    label = quoted(chest.label)
    console.print(f"One:  dunechest restore {label} LIBRARY --plan", soft_wrap=True)
    console.print(f"All:  dunechest restore {label} --all --plan", soft_wrap=True)


def _goes(offer: Offer) -> str:
    place = offer.placement.place
    if place is None:
        return "to: not known here; say it with --map OLD=NEW or --into FOLDER"
    return f"to {shown(str(place))}" + (" (something is there)" if offer.existing else "")
