"""The rows of the ledger's tables, read in a moment: from its database, and from the events not yet gathered into it.

A check of ten files would wait longer for a database library to load than for the files, so SQLite is asked directly. Nothing
is written here.
"""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any
from urllib.parse import quote

import msgspec

from dunechest.ledger.events import NOTES, Event
from dunechest.ledger.folder import state_folder
from dunechest.ledger.schema import NEEDED, TABLES, TAKEN, Table, fitting, values_of
from dunechest.transfer import safe

NAME = "ledger.sqlite"
#: Bytes of a note.
_MOST = 1 << 24

Row = dict[str, Any]


class Rows:
    """What the ledger held at one moment.

    Raises
    ------
    OSError, sqlite3.Error
        If it cannot be read.
    """

    def __init__(self) -> None:
        folder = state_folder()
        # The notes first: what is gathered meanwhile is then seen twice, which can be told, and not never.
        notes = _notes(folder)
        self._tables: dict[str, list[Row]] = {what: [] for what in TABLES}
        gathered: set[str] = set()
        path = folder / NAME
        if path.is_file():
            with closing(sqlite3.connect(f"file:{quote(str(path))}?mode=rw", uri=True, timeout=30)) as connection:
                connection.execute("BEGIN")  # all tables as they are at one moment
                there = {
                    name for (name,) in connection.execute("SELECT name FROM sqlite_master WHERE type = 'table'")
                }
                for what, table in TABLES.items():
                    if table.name in there:
                        self._tables[what] = _rows(connection, table)
                if TAKEN in there:
                    gathered = {name for (name,) in connection.execute("SELECT note FROM taken")}
        events = [event for name, own in notes if name not in gathered for event in own]
        for what in {event.what for event in events} & TABLES.keys():
            self._tables[what] = _with(TABLES[what], self._tables[what], [e for e in events if e.what == what])

    def of(self, what: str) -> list[Row]:
        """Return the rows that a sort of event made."""
        return self._tables[what]


def waiting(folder: Path) -> list[Path]:
    """Return the notes that are not gathered yet, in the order in which they were made."""
    return sorted((folder / NOTES).glob("*.jsonl"))


def events_in(content: bytes) -> list[Event]:
    """Return the events of a note; a line that a crash tore is passed over."""
    found = []
    for line in content.splitlines():
        try:
            found.append(msgspec.json.decode(line, type=Event))
        except (msgspec.MsgspecError, UnicodeDecodeError):
            continue
    return found


def _notes(folder: Path) -> list[tuple[str, list[Event]]]:
    found = []
    for path in waiting(folder):
        try:
            found.append((path.name, events_in(safe.read_bounded(path, _MOST))))
        except FileNotFoundError:
            continue  # gathered just now
        except ValueError:
            continue  # no note is as large
    return found


def _rows(connection: sqlite3.Connection, table: Table) -> list[Row]:
    cursor = connection.execute(f'SELECT * FROM "{table.name}"')  # noqa: S608 - a name of our own
    names = [item[0] for item in cursor.description]
    found = []
    for values in cursor:
        told = dict(zip(names, values, strict=True))
        row: Row | None = {}
        for column in table.columns:
            value = told.get(column.name, column.default)
            kept = fitting(column, value) if value is not NEEDED else None
            if kept is None or row is None:
                row = None  # of another version, or damaged
                break
            row[column.name] = kept
        if row is not None:
            found.append(row)
    return found


def _with(table: Table, rows: list[Row], events: list[Event]) -> list[Row]:
    """Return rows as they are after some events."""
    told = [values for event in events if (values := values_of(table, event.facts, event.when)) is not None]
    defaults = {column.name: column.default for column in table.columns if column.default is not NEEDED}
    if not table.key:
        known = {tuple(row.values()) for row in rows}
        names = [column.name for column in table.columns]
        added = [{name: (defaults | values)[name] for name in names} for values in told]
        return rows + [row for row in added if tuple(row.values()) not in known]
    by_key = {tuple(row[name] for name in table.key): row for row in rows}
    for values in told:
        key = tuple(values[name] for name in table.key)
        by_key[key] = {**defaults, **by_key.get(key, {}), **values}
    return list(by_key.values())
