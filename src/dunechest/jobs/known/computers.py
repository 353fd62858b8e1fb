"""Other computers that were met in the logs of chests, and whether they are this person's.

What a computer found on a drive counts here once a person said that it is theirs. Of any other, the bad news counts.
"""

from __future__ import annotations

import msgspec

from dunechest.errors import UsageError
from dunechest.ledger.ledger import KnownComputer, open_ledger
from dunechest.ledger.trust import my_computers, other_computers, say_whose
from dunechest.model.chests import _SHORT, MetComputer, Whose
from dunechest.names import meant, shown


def list_computers() -> tuple[MetComputer, ...]:
    """Return the other computers that wrote into chests which this one met, by name.

    Raises
    ------
    DuneChestError
        If the ledger cannot be used.
    """
    with open_ledger() as ledger:
        known, labels = ledger.computers(), {chest.id: chest.label for chest in ledger.chests()}
    mine, others = my_computers(), other_computers()
    return tuple(
        MetComputer(item.id, _name(item), _whose(item, mine, others), labels.get(item.chest, ""), item.when)
        for item in known
    )


def _name(computer: KnownComputer) -> str:
    return computer.name or "a computer without a name"


def _whose(computer: KnownComputer, mine: dict[str, str], others: dict[str, str]) -> Whose:
    return "mine" if computer.id in mine else "not-mine" if computer.id in others else "unknown"


def say_computer(computer: str, *, mine: bool) -> MetComputer:
    """Say whether a computer is yours, so that what it found on drives counts here, or does not.

    Parameters
    ----------
    computer : str
        Its name, or its id or the beginning of that.
    mine : bool
        Whether it is yours.

    Returns
    -------
    MetComputer
        The computer, as it is known from now on.

    Raises
    ------
    UsageError
        If no computer of that name was met, or several, or the settings cannot be read.
    CutOffError
        If the settings cannot be written.
    """
    known = list_computers()
    found = [item for item in known if computer in (item.name, item.id)]
    found = found or [item for item in known if item.name.casefold() == computer.casefold()]
    if len(computer) >= _SHORT:
        found = found or [item for item in known if item.id.startswith(computer)]
    if len(found) > 1:
        ids = ", ".join(f"{item.word} (met on {shown(item.met_on_chest)})" for item in found)
        raise UsageError(f"Several computers are called {shown(computer)!r}. Name one by its id: {ids}.")
    if not found:
        names = ", ".join(shown(item.name) for item in known) or "none yet"
        hint = meant(computer, (item.name for item in known))
        raise UsageError(f"No computer {shown(computer)!r} was met on a drive.{hint} Met so far: {names}.")
    say_whose(found[0].id, found[0].name, mine=mine)
    return msgspec.structs.replace(found[0], whose="mine" if mine else "not-mine")
