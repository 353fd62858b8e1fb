"""How other computers that were met on drives are shown."""

from __future__ import annotations

from collections.abc import Sequence

from dunechest.cli.layout import GOOD, listing, say
from dunechest.cli.output import Out
from dunechest.model.chests import MetComputer
from dunechest.names import quoted, shown
from dunechest.words import ago

_WORDS = {"mine": "yours", "not-mine": "not yours", "unknown": "not said"}


def show_list(out: Out, computers: Sequence[MetComputer]) -> None:
    """Show the computers that were met."""
    if not computers:
        say(out.console, "No other computer has written to a chest that this computer has seen.")
        return
    rows = [(shown(item.name), _WORDS[item.whose], item.word) for item in computers]
    below = [
        [f"first met {ago(item.met_at)}" + (f" on {shown(item.met_on_chest)}" if item.met_on_chest else "")]
        for item in computers
    ]
    listing(out.console, ("computer", "whose", "id"), rows, below)
    unknown = [item for item in computers if item.whose == "unknown"]
    if unknown:
        say(out.console, "What a computer checked counts here once you say that it is yours.")
        say(out.console, f"-> dunechest computers mine {quoted(word_of(unknown[0], computers))}", indent=2, hang=3)


def show_said(out: Out, computer: MetComputer) -> None:
    """Show what was said of a computer."""
    name = shown(computer.name)
    if computer.whose == "mine":
        say(out.console, f"{name} is yours: what it archived and checked on a drive counts here too.", GOOD)
    else:
        say(out.console, f"{name} is not yours: only damage that it found counts here.", GOOD)


def word_of(computer: MetComputer, every: Sequence[MetComputer]) -> str:
    """Return what a command can call a computer: its name, unless another one is called the same."""
    alone = sum(item.name.casefold() == computer.name.casefold() for item in every) == 1
    return computer.name if alone and not computer.name.startswith("-") else computer.word
