"""What all computers of an office know together: whoever saw a thing last says how it is."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import msgspec
import sqlalchemy as sa

from dunechest.ledger.rows import Rows, Told
from dunechest.ledger.schema import TABLES, values_of
from dunechest.ledger.tables import LATEST

#: What several computers can say of the same chest; of the rest each speaks of itself.
_COMMON = ("archive", "check", "chest", "drill", "forget", "hold", "keep", "retire", "room")
_OWN = ("rehome", "seen")


class Computer(msgspec.Struct, frozen=True):
    """A computer of an office: its number and name there, its own id, and moments in seconds since 1970.

    `heard` is when it last told something, None if it never did; `removed` when it was shut out.
    """

    number: int
    name: str
    machine: str
    added: float
    removed: float | None
    heard: float | None


class Said(msgspec.Struct, frozen=True):
    """What a computer said last of something: its number there, the sort of event, when, its order, and facts."""

    computer: int
    what: str
    moment: float
    number: int
    facts: dict[str, Any]


class OfficeNow(msgspec.Struct, frozen=True):
    """What was read of an office's ledger, and when (seconds since 1970, by this computer's clock)."""

    when: float
    computers: tuple[Computer, ...]
    said: tuple[Said, ...]

    def named(self, computer: int) -> str:
        """Return the name of a computer."""
        return next((item.name for item in self.computers if item.number == computer), f"computer {computer}")

    def rows(self) -> Rows:
        """Return what is known of chests: of what several computers say, the one that saw it last is right."""
        found: dict[str, list[Told]] = {what: [] for what in _COMMON}
        for said, moment in self._in_order():
            if said.what in found:
                found[said.what].append((said.facts, moment))
        return Rows(found)

    def rows_of(self, computer: int) -> Rows:
        """Return what a computer says of itself: the libraries it has, and those that it moved to drives."""
        found: dict[str, list[Told]] = {what: [] for what in _OWN}
        for said in sorted(self.said, key=lambda said: said.number):
            if said.computer == computer and said.what in found:
                found[said.what].append((said.facts, said.moment))
        return Rows(found)

    def last_seen_by(self) -> dict[str, str]:
        """Return the name of the computer that last saw each chest, by the chest's id."""
        found: dict[str, str] = {}
        for said, _ in self._in_order():
            if said.what == "chest" and values_of(TABLES["chest"], said.facts, 0.0) is not None:
                found[said.facts["id"]] = self.named(said.computer)
        return found

    def _in_order(self) -> list[tuple[Said, float]]:
        """Return what was said, the latest last. What one computer says of a thing later never counts as earlier."""
        latest: dict[tuple[int, str, str], float] = {}
        found = []
        for said in sorted(self.said, key=lambda said: (said.computer, said.number)):
            key = (said.computer, said.what, _thing(said))
            latest[key] = max(latest.get(key, said.moment), said.moment)
            found.append((said, latest[key]))
        found.sort(key=lambda item: (item[1], item[0].computer, item[0].number))
        return found


def _thing(said: Said) -> str:
    """Return what something is said of, from the facts: the key that came with them may lie."""
    table = TABLES.get(said.what)
    return "\n".join(str(said.facts.get(name, "")) for name in table.key) if table is not None else ""


def read_office(connection: sa.Connection, when: float) -> OfficeNow:
    """Read what an office knows.

    Parameters
    ----------
    connection : sqlalchemy.Connection
        To its ledger.
    when : float
        Now, in seconds since 1970.
    """
    computers = tuple(
        Computer(row.number, row.name, row.machine or "", row.added, row.removed, row.heard)
        for row in connection.execute(sa.text("SELECT * FROM computers ORDER BY name"))
    )
    asked = sa.select(LATEST.c.computer, LATEST.c.what, LATEST.c.moment, LATEST.c.number, LATEST.c.facts)
    rows: Iterable[Any] = connection.execute(asked.where(LATEST.c.what.in_((*_COMMON, *_OWN))))
    return OfficeNow(when, computers, tuple(Said(*row) for row in rows if isinstance(row[4], dict)))
