"""Bring what a computer noted to the office's ledger: each event once, whenever the server can be reached."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import sqlalchemy as sa

from dunechest.errors import OfficeError
from dunechest.ledger.gather import own_ledger
from dunechest.ledger.tables import EVENTS, LATEST, Numbered, last_number, put_events

if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

#: The sorts of events that an office is told; what is half done, and what can be undone, is this computer's own business.
SHARED = ("archive", "check", "chest", "drill", "forget", "hold", "keep", "line", "rehome", "retire", "room", "seen")
_MOST = 2000


def introduce(connection: sa.Connection, machine: str) -> int:
    """Say which computer this is; return its number in the office.

    Parameters
    ----------
    connection : sqlalchemy.Connection
        To the office's ledger.
    machine : str
        The computer's own id.

    Raises
    ------
    OfficeError
        If the role is no computer of the office, or that of another computer.
    """
    number = connection.scalar(sa.select(sa.func.introduce(machine)))
    if number is None:
        raise OfficeError(
            "The office does not know this computer under that name: it was not added, was removed, or another computer "
            "uses its name. Whoever looks after the server lets it in again: dunechest office add NAME"
        )
    return int(number)


def send_events(connection: sa.Connection, folder: Path, computer: int) -> int:
    """Send the events that the office has not got; return how many they were.

    Parameters
    ----------
    connection : sqlalchemy.Connection
        To the office's ledger.
    folder : Path
        The state folder, with this computer's own ledger.
    computer : int
        What `introduce` returned.
    """
    last = _agreed(connection, folder, computer)
    sent = 0
    while some := _after(folder, last):
        sent += put_events(connection, computer, some)
        connection.commit()
        last = some[-1].number
    return sent


def waiting_events(connection: sa.Connection, folder: Path, computer: int) -> int:
    """Count the events that the office has not got, as far as their numbers tell."""
    last = last_number(connection, computer)
    with own_ledger(folder) as own:
        asked = sa.select(sa.func.count()).select_from(EVENTS)
        return int(own.scalar(asked.where(EVENTS.c.number > last, EVENTS.c.what.in_(SHARED))) or 0)


def bring_back(connection: sa.Connection, folder: Path, computer: int) -> int:
    """Take what this computer told the office, and does not know itself any more, into its own ledger; return how many.

    Parameters are those of `send_events`.
    """
    with own_ledger(folder) as own:
        here = _ids(own, 0)
        lost = [own_id for own_id in _ids(connection, computer) if own_id not in here]
        for start in range(0, len(lost), _MOST):
            asked = sa.select(EVENTS).where(
                EVENTS.c.computer == computer, EVENTS.c.id.in_(lost[start : start + _MOST])
            )
            put_events(own, 0, _numbered(connection.execute(asked.order_by(EVENTS.c.number))))
    return len(lost)


def _after(folder: Path, number: int) -> list[Numbered]:
    with own_ledger(folder) as own:
        asked = sa.select(EVENTS).where(EVENTS.c.computer == 0, EVENTS.c.number > number, EVENTS.c.what.in_(SHARED))
        return _numbered(own.execute(asked.order_by(EVENTS.c.number).limit(_MOST)))


def _numbered(rows: Iterable[sa.Row[tuple[object, ...]]]) -> list[Numbered]:
    return [Numbered(row.id, row.number, row.what, row.moment, row.facts) for row in rows]


def _agreed(connection: sa.Connection, folder: Path, computer: int) -> int:
    """Return the number up to which the office has all of this computer's events.

    If the office's last event is not known here, this ledger was put back from an older copy, or is one of two that say they
    are the same computer. Then what the office has not got is given higher numbers than all that it has.
    """
    asked = sa.select(EVENTS.c.number, EVENTS.c.id).where(EVENTS.c.computer == computer)
    last = connection.execute(asked.order_by(EVENTS.c.number.desc(), EVENTS.c.id.desc()).limit(1)).first()
    if last is None:
        return 0
    with own_ledger(folder) as own:
        same = sa.select(EVENTS.c.id).where(EVENTS.c.computer == 0, EVENTS.c.number == last.number)
        if last.id in own.scalars(same).all():
            return int(last.number)
        there = _ids(connection, computer)
        ours = own.execute(
            sa.select(EVENTS.c.id).where(EVENTS.c.computer == 0, EVENTS.c.what.in_(SHARED)).order_by(EVENTS.c.number)
        )
        missing = [row.id for row in ours if row.id not in there]
        number = max(int(last.number), last_number(own, 0))
        _renumber(own, missing, number)
        return int(number)


def _renumber(own: sa.Connection, ids: Sequence[str], after: int) -> None:
    for place, event in enumerate(ids, after + 1):
        for table in (EVENTS, LATEST):
            own.execute(table.update().where(table.c.computer == 0, table.c.id == event).values(number=place))


def _ids(connection: sa.Connection, computer: int) -> set[str]:
    return set(connection.scalars(sa.select(EVENTS.c.id).where(EVENTS.c.computer == computer)))
