"""The rows of a ledger, made of the events that hold; and the notes in which events wait to be gathered."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

import msgspec

from dunechest import clock
from dunechest.ledger.events import NOTES, Event, turn_of
from dunechest.ledger.moments import believed
from dunechest.ledger.schema import TABLES, rows_after

NAME = "ledger.sqlite"

Row = dict[str, Any]
#: Facts and moment of an event, and its turn among all of them: what came later has a larger one, whatever the clock said.
Told = tuple[dict[str, Any], float, int]


class Rows:
    """Rows by the sort of event that made them.

    Parameters
    ----------
    events : mapping of str to iterable
        Facts, moment and turn of the events of each sort, in the order in which they hold.
    """

    def __init__(self, events: Mapping[str, Iterable[Told]]) -> None:
        self._rows = {what: rows_after(table, events.get(what, ())) for what, table in TABLES.items()}
        # The turns of those that are left, one after the other: an event that nobody asks for any more takes none.
        every = sorted(
            ((row, TABLES[what].when) for what, rows in self._rows.items() for row in rows),
            key=lambda pair: int(pair[0]["turn"]),
        )
        moments = believed([row[when] for row, when in every], clock.now())
        for turn, ((row, when), moment) in enumerate(zip(every, moments, strict=True), start=1):
            row["turn"] = turn
            row[when] = moment

    def of(self, what: str) -> list[Row]:
        """Return the rows that a sort of event made, the one that was changed last at the end.

        Each has a `turn`, which says what came after what, of whatever sort; its moment is one that fits into that order.
        """
        return self._rows[what]


def waiting(folder: Path) -> list[Path]:
    """Return the notes that are not gathered yet, in the order in which they were made."""
    return sorted((folder / NOTES).glob("*.jsonl"), key=lambda path: (turn_of(path.name), path.name))


def noted_in(name: str, content: bytes) -> list[tuple[str, Event]]:
    """Return the events of a note, each with its id; a line that a crash tore is passed over.

    Parameters
    ----------
    name : str
        The note's own name.
    content : bytes
        What it holds.
    """
    found = []
    for place, line in enumerate(content.splitlines()):
        try:
            found.append((f"{name.removesuffix('.jsonl')}-{place:04d}", msgspec.json.decode(line, type=Event)))
        except (msgspec.MsgspecError, UnicodeDecodeError):
            continue
    return found
