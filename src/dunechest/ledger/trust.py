"""Which other computers a person said are theirs: what these found in a chest counts here."""

from __future__ import annotations

from dunechest.errors import UsageError
from dunechest.ledger.settings import put_table, read_settings, table_of

#: The tables of the settings: names by the computers' ids in logs of chests.
MINE = "my-computers"
OTHERS = "other-computers"


def my_computers() -> dict[str, str]:
    """Return the names of the computers that a person said are theirs, by their ids in logs; none if the settings are harmed."""
    try:
        return _names(MINE)
    except UsageError:
        return {}


def other_computers() -> dict[str, str]:
    """Return the names of the computers that a person said are not theirs; see `my_computers`."""
    try:
        return _names(OTHERS)
    except UsageError:
        return {}


def _names(table: str) -> dict[str, str]:
    return {own: name for own, name in table_of(read_settings(), table).items() if isinstance(name, str)}


def say_whose(own: str, name: str, *, mine: bool) -> None:
    """Remember whether a computer is this person's.

    Parameters
    ----------
    own : str
        Its id in logs.
    name : str
        Its name, for people.
    mine : bool
        Whether it is.

    Raises
    ------
    UsageError
        If the settings cannot be read.
    CutOffError
        If they cannot be written.
    """
    for table, here in ((MINE, mine), (OTHERS, not mine)):
        names = _names(table)
        told = {key: text for key, text in names.items() if key != own} | ({own: name} if here else {})
        if told != names:
            put_table(table, told or None)
