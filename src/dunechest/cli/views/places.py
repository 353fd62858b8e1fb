"""How folders that stand for others are shown."""

from __future__ import annotations

from collections.abc import Sequence

from dunechest.cli.layout import GOOD, homely, say
from dunechest.cli.output import Out
from dunechest.model.restore import MappedPlace
from dunechest.names import quoted, shown


def show_list(out: Out, places: Sequence[MappedPlace]) -> None:
    """Show the folders that are remembered."""
    console = out.console
    if not places:
        say(console, "No folder of another computer is remembered. `restore --map OLD=NEW` remembers one.")
        return
    say(console, "Folders of other computers, and what stands for them here:")
    for place in places:
        say(console, shown(place.old), "bold", indent=2)
        say(console, f"-> {homely(place.new)}", indent=4, hang=3)
    say(console, f"To forget one: dunechest places forget {quoted(places[0].old)}")


def show_forgotten(out: Out, places: Sequence[MappedPlace]) -> None:
    """Show which folders are no longer remembered."""
    for place in places:
        say(out.console, f"Forgotten: {shown(place.old)} -> {homely(place.new)}", GOOD)
    say(out.console, "No file was moved or deleted.")
