"""What this computer remembers of the libraries in a chest: the one question that every check asks."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

from dunechest.ledger.rows import Rows


@dataclass(frozen=True, slots=True)
class Remembered:
    """A library that this computer met in a chest.

    `met` is when it was last archived or checked here (seconds since 1970); `wrong` counts the faults that the last check
    of every byte found, and `checked` is when that was, None if there was none.
    """

    bag: str
    met: float
    wrong: int = 0
    checked: float | None = None


def libraries_of(chest: str, where: str = "") -> dict[str, Remembered]:
    """Return the libraries that a chest should hold, as far as this computer met them, by the name of the bag.

    Parameters
    ----------
    chest : str
        The chest's id.
    where : str
        Where the chest is (`dunechest.machine.volumes.identity`): of a copy with the same id nothing counts.
    """
    found: dict[str, Remembered] = {}
    try:
        rows = Rows()
    except (OSError, sqlite3.Error):
        return found  # whoever asks the ledger for more says what is wrong with it
    told = [(row["when"], what, row) for what in ("archive", "check", "forget") for row in rows.of(what)]
    for when, what, row in sorted(told, key=lambda item: item[0]):
        bag = row["bag"]
        if row["chest"] != chest or (row.get("where") and where and row["where"] != where):
            continue
        if what == "forget":
            found.pop(bag, None)
            continue
        before = found.get(bag, Remembered(bag, when))
        if what == "check" and not row["quick"]:
            found[bag] = Remembered(bag, when, row["wrong"], when)
        else:
            found[bag] = Remembered(bag, when, before.wrong, before.checked)
    return found
