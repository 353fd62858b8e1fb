"""The log of events, and the latest of each row; what an older ledger of this computer knew becomes events."""

from __future__ import annotations

import json
from typing import Any

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0001"
down_revision = None

_JSON = sa.JSON().with_variant(postgresql.JSONB(), "postgresql")
_INTEGER = sa.BigInteger().with_variant(sa.Integer(), "sqlite")

#: The tables that a ledger had before there was a log: by the sort of their events, with the column of the moment and the
#: columns that make the key.
_BEFORE = {
    "chest": ("chests", "seen", ("id",)),
    "archive": ("archives", "when", ("chest", "bag", "top", "where")),
    "check": ("checks", "when", ("chest", "bag", "quick", "intact", "where")),
    "restore": ("restores", "when", ("chest", "bag", "place")),
    "seen": ("seen", "when", ("place",)),
    "round": ("rounds", "when", ("chest", "bag")),
    "drill": ("drills", "when", ("chest", "bag", "passed", "where")),
    "forget": ("forgotten", "when", ("chest", "bag")),
    "hold": ("holdings", "when", ("chest", "bag")),
    "retire": ("retired", "when", ("chest",)),
    "keep": ("kept", "when", ("chest",)),
    "rehome": ("homes", "when", ("old",)),
    "aside": ("asides", "when", ("path",)),
    "reclaim": ("reclaimed", "when", ("place", "part")),
    "room": ("rooms", "when", ("chest",)),
}
_TRUTHS = frozenset({"quick", "intact", "passed", "partial", "incomplete", "gone", "retired", "back"})

_SQLITE_TRIGGER = """
CREATE TRIGGER events_to_latest AFTER INSERT ON events BEGIN
    INSERT INTO latest (computer, what, key, fields, number, id, moment, facts)
    VALUES (NEW.computer, NEW.what, NEW.key, NEW.fields, NEW.number, NEW.id, NEW.moment, NEW.facts)
    ON CONFLICT (computer, what, key, fields) DO UPDATE
    SET number = excluded.number, id = excluded.id, moment = excluded.moment, facts = excluded.facts
    WHERE (excluded.number, excluded.id) > (latest.number, latest.id);
END
"""


def upgrade() -> None:
    """Make the tables."""
    op.create_table(
        "events",
        sa.Column("computer", sa.Integer, primary_key=True, autoincrement=False),
        sa.Column("id", sa.String, primary_key=True),
        sa.Column("number", _INTEGER, nullable=False),
        sa.Column("what", sa.String, nullable=False),
        sa.Column("key", sa.String, nullable=False),
        sa.Column("fields", sa.String, nullable=False),
        sa.Column("moment", sa.Double, nullable=False),
        sa.Column("facts", _JSON, nullable=False),
    )
    op.create_index("events_by_number", "events", ["computer", "number"])
    op.create_table(
        "latest",
        sa.Column("computer", sa.Integer, primary_key=True, autoincrement=False),
        sa.Column("what", sa.String, primary_key=True),
        sa.Column("key", sa.String, primary_key=True),
        sa.Column("fields", sa.String, primary_key=True),
        sa.Column("number", _INTEGER, nullable=False),
        sa.Column("id", sa.String, nullable=False),
        sa.Column("moment", sa.Double, nullable=False),
        sa.Column("facts", _JSON, nullable=False),
    )
    connection = op.get_bind()
    if connection.dialect.name == "sqlite":
        connection.exec_driver_sql(_SQLITE_TRIGGER)
        _take_over(connection)


def _take_over(connection: sa.Connection) -> None:
    """Make events of the rows of an older ledger, in the order of their moments, and remove its tables."""
    there = set(sa.inspect(connection).get_table_names())
    found: list[tuple[float, str, str, str, dict[str, Any]]] = []
    for what, (name, when, key) in _BEFORE.items():
        if name not in there:
            continue
        rows = connection.exec_driver_sql(f'SELECT * FROM "{name}"').mappings().all()  # noqa: S608 - a name from above
        for place, row in enumerate(rows):
            facts = {
                column: bool(value) if column in _TRUTHS else value
                for column, value in row.items()
                if column not in (when, "number") and value is not None
            }
            if isinstance(row[when], int | float):
                keyed = json.dumps(
                    [facts.get(column, "") for column in key], separators=(",", ":"), ensure_ascii=False
                )
                found.append((float(row[when]), f"before-{name}-{place:08d}", what, keyed, facts))
        connection.exec_driver_sql(f'DROP TABLE "{name}"')
    if "taken" in there:
        # Notes that were gathered and, because of a crash, not deleted yet: they are read again, and say the same again.
        connection.exec_driver_sql("DROP TABLE taken")
    for number, (moment, own, what, keyed, facts) in enumerate(sorted(found, key=lambda item: item[:2]), 1):
        fields = ",".join(sorted(facts))
        connection.exec_driver_sql(
            "INSERT INTO events (computer, id, number, what, key, fields, moment, facts) VALUES (0, ?, ?, ?, ?, ?, ?, ?)",
            (own, number, what, keyed, fields, moment, json.dumps(facts)),
        )
