"""The ledger's tables for SQLAlchemy: the log of events, and of what holds the latest of each row.

They are the same in this computer's ledger (SQLite) and in an office's (PostgreSQL). Nothing ever changes or leaves the
log. A trigger of the database keeps `latest`: of events that replace one another, the one with the highest number. So the
order in which events come in makes no difference. Migrations (`dunechest.ledger.migrations`) make and change the tables.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import msgspec
import sqlalchemy as sa
from sqlalchemy.dialects import postgresql

from dunechest.ledger.schema import key_of

META = sa.MetaData()
_JSON = sa.JSON().with_variant(postgresql.JSONB(), "postgresql")
_INTEGER = sa.BigInteger().with_variant(sa.Integer(), "sqlite")

#: What happened. `computer` is 0 in a computer's own ledger. `id` is unique to each event of a computer; `number` is higher
#: than those of all that it noted before.
EVENTS = sa.Table(
    "events",
    META,
    sa.Column("computer", sa.Integer, primary_key=True, autoincrement=False),
    sa.Column("id", sa.String, primary_key=True),
    sa.Column("number", _INTEGER, nullable=False),
    sa.Column("what", sa.String, nullable=False),
    sa.Column("key", sa.String, nullable=False),
    sa.Column("fields", sa.String, nullable=False),
    sa.Column("moment", sa.Double, nullable=False),
    sa.Column("facts", _JSON, nullable=False),
)
sa.Index("events_by_number", EVENTS.c.computer, EVENTS.c.number)

#: Of events that replace one another the one that holds: those of one computer, with one key and the same fields.
LATEST = sa.Table(
    "latest",
    META,
    sa.Column("computer", sa.Integer, primary_key=True, autoincrement=False),
    sa.Column("what", sa.String, primary_key=True),
    sa.Column("key", sa.String, primary_key=True),
    sa.Column("fields", sa.String, primary_key=True),
    sa.Column("number", _INTEGER, nullable=False),
    sa.Column("id", sa.String, nullable=False),
    sa.Column("moment", sa.Double, nullable=False),
    sa.Column("facts", _JSON, nullable=False),
)


class Numbered(msgspec.Struct, frozen=True):
    """An event in the log: its id, its number, what happened, when (seconds since 1970), and facts."""

    id: str
    number: int
    what: str
    moment: float
    facts: dict[str, Any]


def put_events(connection: sa.Connection, computer: int, events: Iterable[Numbered]) -> int:
    """Add events to the log, and return how many were not there yet."""
    from sqlalchemy.dialects import sqlite

    values: list[dict[str, Any]] = [
        {
            "computer": computer,
            "id": event.id,
            "number": event.number,
            "what": event.what,
            "key": key_of(event.what, event.facts),
            "fields": ",".join(sorted(event.facts)),
            "moment": event.moment,
            "facts": event.facts,
        }
        for event in events
    ]
    if not values:
        return 0
    before = _count(connection, computer, [value["id"] for value in values])
    insert = sqlite.insert if connection.dialect.name == "sqlite" else postgresql.insert
    connection.execute(insert(EVENTS).on_conflict_do_nothing(), values)
    return len(values) - before


def _count(connection: sa.Connection, computer: int, ids: list[str]) -> int:
    known = 0
    for start in range(0, len(ids), 500):
        some = EVENTS.c.id.in_(ids[start : start + 500])
        asked = sa.select(sa.func.count()).select_from(EVENTS).where(EVENTS.c.computer == computer, some)
        known += connection.scalar(asked) or 0
    return known


def last_number(connection: sa.Connection, computer: int) -> int:
    """Return the highest number of an event of a computer; 0 if there is none."""
    asked = sa.select(sa.func.max(EVENTS.c.number)).where(EVENTS.c.computer == computer)
    return int(connection.scalar(asked) or 0)
