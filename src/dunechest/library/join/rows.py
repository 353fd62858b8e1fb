"""Join the rows of two SQLite databases of one sort."""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Collection
from pathlib import Path
from typing import Any

from dunechest.library.formats.base import UnreadableError
from dunechest.library.formats.sqlite import questions, writing
from dunechest.library.formats.tables import quoted
from dunechest.library.kinds.schema import Joins, JoinTable, Kind

#: Rows of one table; a database with more is no catalogue that a person keeps.
_MOST = 5_000_000

Rows = dict[int, dict[str, Any]]


def join_rows(
    kind: Kind, spec: Joins, here: Path, other: Path, parts: Collection[str], *, theirs: bool
) -> tuple[int, tuple[str, ...]]:
    """Bring the rows of another database along; return how many came, and those that differ.

    Rows are the same thing if the columns that the kind names are the same, references to other
    tables followed. A row that comes gets a number of its own, and what refers to it that number.

    Raises
    ------
    UnreadableError
        If one of them is not what it should be.
    """
    chosen = _chosen(kind, spec, other, parts)
    added, differ = 0, []
    numbers: dict[str, dict[int, int]] = {}
    try:
        with questions(other) as source, writing(here) as target:
            source.text_factory = target.text_factory
            for table in spec.tables:
                theirs_rows, mine = _rows(source, table), _rows(target, table)
                columns = _columns(target, table)
                key_column = _key_column(target, table)
                known = {_same(row, table): number for number, row in mine.items()}
                numbers[table.name] = {}
                for number, row in theirs_rows.items():
                    if chosen is not None and number not in chosen.get(table.name, ()):
                        continue
                    arriving = dict(row)
                    for column, to in table.refers.items():
                        arriving[column] = numbers[to].get(row[column], row[column])
                    same = _same(arriving, table)
                    if same in known:
                        numbers[table.name][number] = known[same]
                        own = mine.get(known[same])
                        skip = {*table.same, *table.refers, key_column}
                        rest = {c: v for c, v in arriving.items() if c in columns and c not in skip}
                        if own is not None and any(own.get(c) != v for c, v in rest.items()):
                            differ.append(f"{table.name} {' '.join(map(str, same))}"[:200])
                            if theirs:
                                _update(target, table.name, known[same], rest)
                        continue
                    new = _insert(target, table.name, {c: v for c, v in arriving.items() if c in columns}, key_column)
                    numbers[table.name][number] = new
                    known[same] = new
                    added += 1
    except (sqlite3.Error, OSError, KeyError) as error:
        raise UnreadableError(f"SQLite cannot join it: {error}") from error
    return added, tuple(differ)


def _rows(connection: sqlite3.Connection, table: JoinTable) -> Rows:
    what = connection.execute("SELECT type FROM sqlite_master WHERE name = ?", (table.name,)).fetchone()
    if what is None or what[0] not in ("table", b"table"):
        # A view may have no end, and is no list that rows can be put into.
        raise UnreadableError(f"{table.name} is no table in it")
    cursor = connection.execute(f"SELECT rowid, * FROM {quoted(table.name)} LIMIT {_MOST}")  # noqa: S608
    names = [column[0] for column in cursor.description][1:]
    return {row[0]: dict(zip(names, row[1:], strict=True)) for row in cursor}


def _columns(connection: sqlite3.Connection, table: JoinTable) -> set[str]:
    cursor = connection.execute(f"SELECT * FROM {quoted(table.name)} LIMIT 0")  # noqa: S608
    return {column[0] for column in cursor.description}


def _key_column(connection: sqlite3.Connection, table: JoinTable) -> str:
    """Return the column that is the row's number by another name (an INTEGER PRIMARY KEY), or nothing."""
    cursor = connection.execute(f"SELECT rowid, * FROM {quoted(table.name)} LIMIT 1")  # noqa: S608
    row = cursor.fetchone()
    sql = connection.execute("SELECT sql FROM sqlite_master WHERE name = ?", (table.name,)).fetchone()
    if row is None or sql is None:
        candidates = [column[0] for column in cursor.description][1:]
    else:
        candidates = [c[0] for c, value in zip(cursor.description[1:], row[1:], strict=True) if value == row[0]]
    for name in candidates:
        plain = rf"[\"`\[]?{re.escape(name)}[\"`\]]?\s+INTEGER\s+(?:NOT\s+NULL\s+)?PRIMARY\s+KEY"
        if sql is not None and re.search(plain, str(sql[0]), re.IGNORECASE):
            return str(name)
    return ""


def _same(row: dict[str, Any], table: JoinTable) -> tuple[Any, ...]:
    return tuple(row[column] for column in table.same)


def _update(connection: sqlite3.Connection, table: str, number: int, values: dict[str, Any]) -> None:
    names = ", ".join(f"{quoted(column)} = ?" for column in values)
    connection.execute(f"UPDATE {quoted(table)} SET {names} WHERE rowid = ?", (*values.values(), number))  # noqa: S608


def _insert(connection: sqlite3.Connection, table: str, values: dict[str, Any], key_column: str) -> int:
    values = {column: value for column, value in values.items() if column != key_column}
    names = ", ".join(map(quoted, values))
    marks = ", ".join("?" for _ in values)
    sql = f"INSERT INTO {quoted(table)} ({names}) VALUES ({marks})"  # noqa: S608
    number = connection.execute(sql, tuple(values.values())).lastrowid
    assert number is not None
    return number


def _chosen(kind: Kind, spec: Joins, other: Path, parts: Collection[str]) -> dict[str, set[int]] | None:
    """Return the rows that belong to some parts, by table; None if everything is to come."""
    part = next((item for item in kind.parts if item.form == "sqlite"), None)
    tables = {table.name: table for table in spec.tables}
    if not parts or part is None or part.table not in tables:
        return None
    chosen: dict[str, set[int]] = {name: set() for name in tables}
    try:
        with questions(other) as source:
            rows = {name: _rows(source, table) for name, table in tables.items()}
    except (sqlite3.Error, OSError) as error:
        raise UnreadableError(f"SQLite cannot read it: {error}") from error
    wanted = {name.casefold() for name in parts}
    chosen[part.table] = {n for n, row in rows[part.table].items() if str(row.get(part.column)).casefold() in wanted}
    # What refers to the part's own row is the list of its members; what those refer to are the members.
    for name, table in tables.items():
        for column, to in table.refers.items():
            if to == part.table:
                chosen[name] |= {n for n, row in rows[name].items() if row[column] in chosen[part.table]}
    for name in reversed(list(tables)):
        for column, to in tables[name].refers.items():
            if to != part.table:
                chosen[to] |= {rows[name][number][column] for number in chosen[name]}
    return chosen


def only_parts(kind: Kind, spec: Joins, path: Path, parts: Collection[str]) -> int:
    """Take from a database what does not belong to some parts; return how many rows went.

    Raises
    ------
    UnreadableError
        If it is not what it should be.
    """
    chosen = _chosen(kind, spec, path, parts)
    if chosen is None:
        return 0
    gone = 0
    # A table that neither is the part's nor leads to or from it, a list of settings, stays whole.
    part = next(item for item in kind.parts if item.form == "sqlite")
    tied = {part.table}
    for _ in spec.tables:
        for table in spec.tables:
            others = set(table.refers.values())
            if others & tied or table.name in tied:
                tied |= {table.name} | others
    try:
        with writing(path) as connection:
            for table in reversed(spec.tables):
                if table.name not in tied:
                    continue
                keep = chosen[table.name]
                numbers = [n for (n,) in connection.execute(f"SELECT rowid FROM {quoted(table.name)}")]  # noqa: S608
                for number in numbers:
                    if number not in keep:
                        connection.execute(f"DELETE FROM {quoted(table.name)} WHERE rowid = ?", (number,))  # noqa: S608
                        gone += 1
    except sqlite3.Error as error:
        raise UnreadableError(f"SQLite cannot change it: {error}") from error
    return gone


def without_parts(kind: Kind, spec: Joins, path: Path, parts: Collection[str], stay: Collection[str]) -> int:
    """Take from a database the rows of some parts, as far as no row that stays refers to them; return how many went.

    Parameters
    ----------
    kind, spec, path, parts
        As for `only_parts`.
    stay : collection of str
        Rows that stay though they belong to the parts: table and number, with a space between.

    Raises
    ------
    UnreadableError
        If it is not what it should be.
    """
    chosen = _chosen(kind, spec, path, parts)
    part = next((item for item in kind.parts if item.form == "sqlite"), None)
    if chosen is None or part is None:
        return 0
    try:
        with writing(path) as connection:
            rows = {table.name: _rows(connection, table) for table in spec.tables}
            gone: dict[str, set[int]] = {table.name: set() for table in spec.tables}
            for table in reversed(spec.tables):
                # The part's own row and the list of its members go; a member only if nothing else has it.
                listed = table.name == part.table or part.table in table.refers.values()
                wanted = chosen[table.name]
                if not listed:
                    wanted = wanted - _referred_to(table.name, spec, rows, gone)
                    wanted = {number for number in wanted if f"{table.name} {number}" not in stay}
                gone[table.name] = wanted
                for number in gone[table.name]:
                    connection.execute(f"DELETE FROM {quoted(table.name)} WHERE rowid = ?", (number,))  # noqa: S608
    except (sqlite3.Error, KeyError) as error:
        raise UnreadableError(f"SQLite cannot change it: {error}") from error
    return sum(map(len, gone.values()))


def _referred_to(name: str, spec: Joins, rows: dict[str, Rows], gone: dict[str, set[int]]) -> set[int]:
    """Return the numbers of a table's rows that rows of other tables refer to which stay."""
    found = set()
    for table in spec.tables:
        for column, to in table.refers.items():
            if to == name:
                found |= {row[column] for number, row in rows[table.name].items() if number not in gone[table.name]}
    return found
