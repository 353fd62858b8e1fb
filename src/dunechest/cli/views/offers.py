"""How what a chest holds is shown to whoever is about to restore: what, and where each would go."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text

from dunechest.chest.chest import Chest
from dunechest.cli.layout import BAD, WARN, listing, say
from dunechest.cli.output import Out
from dunechest.model.restore import Offer
from dunechest.names import from_wire, quoted, shown
from dunechest.words import local, size


def show_offers(out: Out, chest: Chest, offers: Sequence[Offer], left: Sequence[tuple[str, str]] = ()) -> None:
    """Show what a chest holds and where each library would go."""
    console = out.console
    if not offers and not left:
        say(console, f"The chest {shown(chest.label)} is empty.")
        return
    if offers:
        say(console, Text(f"On {shown(chest.label)}, and where it would be restored:", style="bold"))
    else:
        say(console, f"Nothing on {shown(chest.label)} can be restored.", BAD)
    listed = {offer.entry.name for offer in offers}
    for name, why in left:
        if name not in listed:
            say(console, f"MISSING: {shown(name)}: {shown(why)}", BAD)
    rows: list[tuple[str, ...]] = []
    below: list[list[Text | str]] = []
    for offer in offers:
        record = offer.entry.library
        if record is None:
            rows.append((shown(offer.entry.name), "", "", "", ""))
            below.append([f"cannot be restored by name: {shown(offer.why_not)}"])
            continue
        numbers = offer.editions
        several = f"{numbers[-1]}" if len(numbers) == 1 else f"{numbers[0]} to {numbers[-1]}"
        rows.append(
            (
                shown(offer.entry.name),
                shown(record.kind_title),
                size(record.totals.bytes_stored),
                several,
                local(record.archived),
            )
        )
        came = out.place(from_wire(record.origin.path), before=f"from {shown(record.origin.machine)}, ")
        below.append([came, *_goes(out, offer)])
    if not offers:
        return
    heads = ("library", "kind", "size", "editions", "archived")
    listing(console, heads, rows, below, right=(2,))
    label = quoted(chest.label)
    console.print()
    say(console, f"To restore one: dunechest restore {label} LIBRARY --plan")
    say(console, f"All of them:    dunechest restore {label} --all --plan")


def _goes(out: Out, offer: Offer) -> list[Text | str]:
    place = offer.placement.place
    if place is None:
        return ["to: destination unknown; set it with --map OLD=NEW or --into FOLDER"]
    line = out.place(place, before="to ")
    return [line, Text("    (already exists)", style=WARN)] if offer.exists else [line]
