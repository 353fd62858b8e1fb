"""The rows of a ledger, made of the events that hold; and the notes in which events wait to be gathered."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from pathlib import Path
from typing import Any

import msgspec

from dunechest import clock
from dunechest.ledger.events import NOTES, Event, id_of, turn_of
from dunechest.ledger.lines import Told, in_one_order, proven_bag
from dunechest.ledger.moments import believed
from dunechest.ledger.schema import TABLES, rows_after

NAME = "ledger.sqlite"
#: Under this name stand events that are harmed.
HARMED = "harmed"

Row = dict[str, Any]


class Rows:
    """Rows by the sort of event that made them.

    Parameters
    ----------
    events : mapping of str to iterable
        The events of each sort, in the order in which they hold.
    own : str
        This computer's id in logs of chests; empty if it has none.
    mine : collection of str
        The ids of other computers that a person said are theirs.
    """

    def __init__(
        self, events: Mapping[str, Iterable[Told]], own: str = "", mine: Collection[str] = frozenset()
    ) -> None:
        lines = rows_after(TABLES["line"], events.get("line", ()))
        self._strangers = [row for row in lines if row["by"] != own and row["by"] not in mine]
        if lines:
            events = in_one_order(events, lines, own, mine)
        self._rows = {what: rows_after(table, events.get(what, ())) for what, table in TABLES.items()}
        known = {row["id"]: bool(row["text"]) for row in lines}
        self._rows[HARMED] = [
            {
                "turn": told.turn,
                "when": told.moment,
                "chest": told.facts.get("chest"),
                "what": "line known" if told.id in known else told.facts.get("what"),
            }
            for told in events.get(HARMED, ())
            if not known.get(told.id)  # it was taken from the chest's log again
        ]
        # The turns of those that are left, one after the other: an event that nobody asks for any more takes none.
        every = sorted(
            (
                (row, TABLES[what].when if what in TABLES else "when")
                for what, rows in self._rows.items()
                for row in rows
            ),
            key=lambda pair: int(pair[0]["turn"]),
        )
        for turn, (row, _) in enumerate(every, start=1):
            row["turn"] = turn
        own_moments = [row[when] for row, when in every if not row.get("by")]
        #: The moment of what this computer noted last (seconds since 1970), as its clock said it; None if nothing was.
        self.last_moment: float | None = own_moments[-1] if own_moments else None
        # Each computer has a clock of its own.
        for own_clock in {row.get("by", "") for row, _ in every}:
            told = [(row, when) for row, when in every if row.get("by", "") == own_clock]
            moments = believed([row[when] for row, when in told], clock.now())
            for (row, when), moment in zip(told, moments, strict=True):
                row[when] = moment

    def vouched(self) -> set[tuple[str, str, str]]:
        """Return what computers of which no person said whose they are found right: chest, bag, and the computer's id in logs."""
        return {(row["chest"], bag, row["by"]) for row in self._strangers if (bag := proven_bag(row))}

    def of(self, what: str) -> list[Row]:
        """Return the rows that a sort of event made, the one that was changed last at the end.

        Each has a `turn`, which says what came after what, of whatever sort; its moment is one that fits into that order.
        """
        return self._rows[what]


def waiting(folder: Path) -> list[Path]:
    """Return the notes that are not gathered yet, in the order in which they were made."""
    return sorted((folder / NOTES).glob("*.jsonl"), key=lambda path: (turn_of(path.name), path.name))


def noted_in(name: str, content: bytes) -> list[tuple[str, Event]]:
    """Return the events of a note, each with its id; of a line that cannot be read it is known that there was one.

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
            found.append((id_of(name, place), msgspec.json.decode(line, type=Event)))
        except (msgspec.MsgspecError, UnicodeDecodeError):
            found.append((id_of(name, place), Event(HARMED, 0.0, {})))
    return found
