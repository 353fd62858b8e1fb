"""What this computer remembers of the libraries in a chest: the one question that every check asks."""

from __future__ import annotations

import sqlite3
from typing import Any

import msgspec

from dunechest.ledger.lines import is_stranger
from dunechest.ledger.own import own_rows
from dunechest.ledger.rows import Row
from dunechest.names import from_line


class Remembered(msgspec.Struct, frozen=True):
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
        rows = own_rows()
    except (OSError, sqlite3.Error):
        return found  # whoever asks the ledger for more says what is wrong with it
    told = [(row["turn"], what, row) for what in ("archive", "check", "forget") for row in rows.of(what)]
    for _, what, row in sorted(told, key=lambda item: item[0]):
        bag, when = row["bag"], row["when"]
        if row["chest"] != chest or (row.get("where") and where and row["where"] != where):
            continue
        if is_stranger(row.get("by", "")) and bag not in found:
            continue  # of a bag that it says was there nothing is known
        if what == "forget":
            found.pop(bag, None)
            continue
        before = found.get(bag, Remembered(bag, when))
        if what == "check" and not row["quick"]:
            found[bag] = Remembered(bag, when, row["wrong"], when)
        else:
            found[bag] = Remembered(bag, when, before.wrong, before.checked)
    return found


def home_before(old: str) -> str:
    """Return what is remembered of a moved library, as JSON text; empty if nothing is.

    Parameters
    ----------
    old : str
        Where its application found it at first, as one text.
    """
    row = _home(old)
    return msgspec.json.encode({key: value for key, value in row.items() if key != "when"}).decode() if row else ""


def home_without(old: str, last: str) -> dict[str, Any] | None:
    """Return the facts of a moved library that hold again when its last move is undone; None if that is not remembered.

    Parameters
    ----------
    old : str
        Where its application found it at first, as one text.
    last : str
        The id of the move that is undone.
    """
    row = _home(old)
    if row is None or not last or row["move"] != last:
        return None
    try:
        facts = msgspec.json.decode(row["before"], type=dict[str, Any]) if row["before"] else {}
    except msgspec.MsgspecError:
        facts = {}
    return facts or {key: value for key, value in row.items() if key != "when"} | {"back": True}


def _home(old: str) -> Row | None:
    try:
        rows = [row for row in own_rows().of("rehome") if row["old"] == old]
    except (OSError, sqlite3.Error):
        return None
    return rows[-1] if rows else None


def tied_to(place: str) -> frozenset[str]:
    """Return the other places of a library that this computer moved: where it was, if it is in `place` now.

    Of a library that was moved away from a place and not back, nothing is tied to that place: what lies there by now is
    another one.
    """
    try:
        rows = own_rows().of("rehome")
    except (OSError, sqlite3.Error):
        return frozenset()
    found: set[str] = set()
    for row in rows:
        old, new = from_line(row["old"]), from_line(row["place"])
        if place == (old if row["back"] else new):
            found |= {old, new} - {place}
    return frozenset(found)
