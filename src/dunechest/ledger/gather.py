"""Events become rows of the ledger's database, through SQLAlchemy."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import sqlalchemy as sa
from filelock import FileLock
from sqlalchemy.dialects.sqlite import insert

from dunechest.ledger.events import Event
from dunechest.ledger.rows import NAME, events_in, waiting
from dunechest.ledger.schema import NEEDED, TABLES, TAKEN, Column, values_of
from dunechest.transfer.owner import hand_over, make_own

_meta = sa.MetaData()
_TYPES: dict[type, Any] = {str: sa.String, int: sa.Integer, float: sa.Float, bool: sa.Boolean}


def _column(column: Column, key: tuple[str, ...]) -> sa.Column[Any]:
    default = (
        None if column.default is NEEDED else str(int(column.default) if column.default is False else column.default)
    )
    return sa.Column(
        column.name,
        _TYPES[column.type],
        primary_key=column.name in key,
        nullable=False,
        index=column.index or None,
        server_default=default,
    )


def _number(key: tuple[str, ...]) -> list[sa.Column[Any]]:
    return [] if key else [sa.Column("number", sa.Integer, primary_key=True)]


_SQL = {
    what: sa.Table(table.name, _meta, *_number(table.key), *(_column(column, table.key) for column in table.columns))
    for what, table in TABLES.items()
}
_taken = sa.Table(TAKEN, _meta, sa.Column("note", sa.String, primary_key=True))


def gather(folder: Path) -> None:
    """Move the notes into the database; each is taken in once, even if a crash comes between.

    Parameters
    ----------
    folder : Path
        The state folder.

    Raises
    ------
    OSError, sqlalchemy.exc.DatabaseError
        If that cannot be done.
    """
    make_own(folder)
    engine = sa.create_engine(f"sqlite:///{folder / NAME}")
    try:
        with FileLock(folder / "ledger.lock", timeout=30):
            _meta.create_all(engine)
            _add_columns(engine)
            notes = waiting(folder)
            with engine.begin() as connection:
                known = set(connection.scalars(sa.select(_taken.c.note)))
                for path in notes:
                    if path.name not in known:
                        for event in events_in(path.read_bytes()):
                            _take(connection, event)
                        connection.execute(_taken.insert().values(note=path.name))
            for path in notes:
                path.unlink(missing_ok=True)
            with engine.begin() as connection:
                connection.execute(_taken.delete())
    finally:
        engine.dispose()
        hand_over(folder)


def _add_columns(engine: sa.Engine) -> None:
    """Give a ledger of an earlier version the columns that came later."""
    with engine.begin() as connection:
        for what, table in TABLES.items():
            rows = connection.exec_driver_sql(f'PRAGMA table_info("{table.name}")')
            there = {row[1] for row in rows}
            for column in table.columns:
                if column.name not in there and column.default is not NEEDED:
                    made = sa.schema.CreateColumn(_SQL[what].c[column.name]).compile(engine)
                    connection.exec_driver_sql(f'ALTER TABLE "{table.name}" ADD COLUMN {made}')


def _take(connection: sa.Connection, event: Event) -> None:
    spec = TABLES.get(event.what)
    values = values_of(spec, event.facts, event.when) if spec is not None else None
    if spec is None or values is None:
        return  # an event of another version
    table = _SQL[event.what]
    if spec.key:
        row = insert(table).values(values)
        connection.execute(row.on_conflict_do_update(index_elements=list(table.primary_key), set_=values))
    else:
        connection.execute(table.insert().values(values))
